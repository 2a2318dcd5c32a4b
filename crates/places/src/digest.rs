//! The digests by which senders vouch for their files: MD5, SHA-1, SHA-256 and SHA-512, as the
//! usual checksum programs write them.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

use digest::DynDigest;

/// How much is read at a time, in bytes.
const CHUNK: usize = 256 * 1024;

/// The digest of a file, as its sender states it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Digest {
    kind: Kind,
    /// Lower case hexadecimal.
    hex: String,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Md5,
    Sha1,
    Sha256,
    Sha512,
}

impl Kind {
    /// The kind whose digests have so many hexadecimal digits.
    fn of_width(digits: usize) -> Option<Kind> {
        Some(match digits {
            32 => Kind::Md5,
            40 => Kind::Sha1,
            64 => Kind::Sha256,
            128 => Kind::Sha512,
            _ => return None,
        })
    }

    fn hasher(self) -> Box<dyn DynDigest> {
        match self {
            Kind::Md5 => Box::<md5::Md5>::default(),
            Kind::Sha1 => Box::<sha1::Sha1>::default(),
            Kind::Sha256 => Box::<sha2::Sha256>::default(),
            Kind::Sha512 => Box::<sha2::Sha512>::default(),
        }
    }
}

impl Digest {
    /// Reads a word of hexadecimal digits; which digest it is, its width tells.
    pub fn of_word(word: &str) -> Option<Digest> {
        let kind = Kind::of_width(word.len())?;
        let is_hex = word.bytes().all(|b| b.is_ascii_hexdigit());
        is_hex.then(|| Digest { kind, hex: word.to_ascii_lowercase() })
    }

    /// The digest that a text states for a file: the only one there is, or that of the line that
    /// names the file. The lines are `HEX`, `HEX  NAME`, `HEX *NAME` or `SHA256 (NAME) = HEX`.
    pub fn stated(text: &str, file_name: &str) -> Option<Digest> {
        let mut all = text.lines().filter_map(parts);
        match (all.next()?, all.next()) {
            ((only, _), None) => Some(only),
            (first, Some(second)) => [first, second]
                .into_iter()
                .chain(all)
                .find(|(_, name)| names(name, file_name))
                .map(|(d, _)| d),
        }
    }

    /// The same digest of a file's content.
    pub fn of_file(&self, path: &Path) -> io::Result<Digest> {
        let mut file = File::open(path)?;
        let mut hasher = self.kind.hasher();
        let mut chunk = vec![0; CHUNK];
        loop {
            match file.read(&mut chunk) {
                Ok(0) => break,
                Ok(count) => hasher.update(&chunk[..count]),
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        let hex = hasher.finalize().iter().map(|byte| format!("{byte:02x}")).collect();
        Ok(Digest { kind: self.kind, hex })
    }

    /// A text without its digests, and what belongs to them: none of their digits are figures.
    pub fn taken_out(text: &str) -> String {
        let word = |word: &&str| Digest::of_word(word).is_none() && !is_kind(word);
        let kept = |line: &str| match parts(line) {
            // A digest and the name it belongs to, as the usual programs write them.
            Some((_, beside)) if beside.contains('(') || beside.starts_with([' ', '*']) => String::new(),
            _ => {
                let words = line.split(|c: char| !c.is_ascii_alphanumeric() && !".,-'".contains(c));
                words.filter(word).collect::<Vec<_>>().join(" ")
            }
        };
        text.lines().map(kept).filter(|line| !line.is_empty()).collect::<Vec<_>>().join("\n")
    }
}

/// Whether a word says which digest is meant.
fn is_kind(word: &str) -> bool {
    let word = word.to_ascii_lowercase().replace('-', "");
    matches!(word.as_str(), "md5" | "sha1" | "sha256" | "sha512")
}

impl std::fmt::Display for Digest {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let name = match self.kind {
            Kind::Md5 => "MD5",
            Kind::Sha1 => "SHA-1",
            Kind::Sha256 => "SHA-256",
            Kind::Sha512 => "SHA-512",
        };
        // Its beginning tells two apart.
        write!(f, "{name} {}…", &self.hex[..12])
    }
}

/// The digest of a line, and what else stands there.
fn parts(line: &str) -> Option<(Digest, &str)> {
    let line = line.trim();
    let (first, rest) = line.split_once([' ', '\t']).unwrap_or((line, ""));
    // Where a name is escaped, a backslash comes before the digest.
    if let Some(digest) = Digest::of_word(first.trim_start_matches('\\')) {
        return Some((digest, rest));
    }
    let (rest, last) = line.rsplit_once(['=', ' ', '\t', ':'])?;
    Digest::of_word(last).map(|digest| (digest, rest))
}

/// Whether what stands beside a digest names a file, maybe with the folder it was in.
fn names(beside: &str, file_name: &str) -> bool {
    let inner = match (beside.find('('), beside.rfind(')')) {
        (Some(from), Some(to)) if from < to && beside[to + 1..].trim_matches([' ', '=']).is_empty() => {
            &beside[from + 1..to]
        }
        _ => beside.trim_matches([' ', '\t', '=', ':']).trim_start_matches('*'),
    };
    inner.rsplit(['/', '\\']).next() == Some(file_name)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const MD5: &str = "900150983cd24fb0d6963f7d28e17f72";
    const SHA1: &str = "a9993e364706816aba3e25717850c26c9cd0d89d";
    const SHA256: &str = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad";
    const SHA512: &str = "ddaf35a193617abacc417349ae20413112e6fa4e89a97ea20a9eeee64b55d39a2192992a274fc1a836ba3c23a3feebbd454d4423643ce80e2a9ac94fa54ca49f";

    /// The digests of `abc` that the standards give (RFC 1321, FIPS 180-4).
    #[rstest]
    #[case::md5(MD5)]
    #[case::sha1(SHA1)]
    #[case::sha256(SHA256)]
    #[case::sha512(SHA512)]
    #[case::capitals("900150983CD24FB0D6963F7D28E17F72")]
    fn a_digest_is_that_of_its_kind(#[case] word: &str) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.csv");
        std::fs::write(&path, "abc").unwrap();
        let stated = Digest::of_word(word).unwrap();
        assert_eq!(stated.of_file(&path).unwrap(), stated);
        std::fs::write(&path, "abd").unwrap();
        assert_ne!(stated.of_file(&path).unwrap(), stated);
    }

    #[rstest]
    #[case::alone("{}\n")]
    #[case::text("{}  a.csv\n")]
    #[case::binary("{} *a.csv\n")]
    #[case::other_name("{}  upload.tmp\n")]
    #[case::tagged("SHA256 (a.csv) = {}\n")]
    #[case::equals("sha256={}\n")]
    #[case::colon("SHA-256: {}\r\n")]
    #[case::list("00000000000000000000000000000000  b.csv\n{}  out/a.csv\n")]
    #[case::tagged_list("MD5 (b.csv) = 00000000000000000000000000000000\nSHA256 (a.csv) = {}\n")]
    #[case::name_in_name("00000000000000000000000000000000  aa.csv\n{}  a.csv\n")]
    #[case::blanks_in_other("00000000000000000000000000000000  a copy of a.csv\n{} *a.csv\n")]
    #[case::escaped("\\{}  a.csv")]
    fn the_digest_of_a_file_is_found(#[case] text: &str) {
        let found = Digest::stated(&text.replace("{}", SHA256), "a.csv");
        assert_eq!(found, Digest::of_word(SHA256));
    }

    #[rstest]
    #[case::empty("")]
    #[case::rows("rows=12\n")]
    #[case::short("900150983cd24fb0  a.csv\n")]
    #[case::list_of_others(
        "900150983cd24fb0d6963f7d28e17f72  b.csv\n900150983cd24fb0d6963f7d28e17f72  c.csv\n"
    )]
    fn no_digest_is_made_up(#[case] text: &str) {
        assert_eq!(Digest::stated(text, "a.csv"), None);
    }

    #[rstest]
    #[case::another_line("rows 12\nMD5 {}\n", "rows 12")]
    #[case::same_line("rows=2;sum=30.5;sha-256={}", "rows 2 sum 30.5")]
    #[case::named("{}  a_20260302.csv\n2;5.1", "2 5.1")]
    #[case::named_in_binary("{} *a_20260302.csv\n2;5.1", "2 5.1")]
    #[case::first("{} 2 5.1\n", "2 5.1")]
    #[case::tagged("MD5 (a_20260302.csv) = {}\n2;5.1", "2 5.1")]
    #[case::grouped("1,204 rows", "1,204 rows")]
    #[case::nothing("", "")]
    fn digests_are_no_figures(#[case] text: &str, #[case] left: &str) {
        assert_eq!(Digest::taken_out(&text.replace("{}", SHA256)), left);
    }
}
