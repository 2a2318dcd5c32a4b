//! Encodings of one byte a character that the web has forgotten: the code pages of DOS. And which of
//! several such encodings a text is written in, by how its words look.

use oem_cp::code_table::{DECODING_TABLE_CP437, DECODING_TABLE_CP850, DECODING_TABLE_CP852};

/// A code page: what its bytes from 128 on stand for.
#[derive(Debug)]
pub struct CodePage {
    /// Its name.
    pub name: &'static str,
    number: &'static str,
    table: &'static [char; 128],
}

impl PartialEq for CodePage {
    fn eq(&self, other: &CodePage) -> bool {
        self.name == other.name
    }
}

impl Eq for CodePage {}

/// All code pages that are not among the encodings of the web.
static PAGES: [CodePage; 3] = [
    CodePage { name: "IBM850", number: "850", table: &DECODING_TABLE_CP850 },
    CodePage { name: "IBM437", number: "437", table: &DECODING_TABLE_CP437 },
    CodePage { name: "IBM852", number: "852", table: &DECODING_TABLE_CP852 },
];

impl CodePage {
    /// The code page of a name: `cp850`, `ibm850`, `dos-850` or `850`.
    pub fn named(label: &str) -> Option<&'static CodePage> {
        let label = label.trim().to_ascii_lowercase();
        let number = ["cp", "ibm", "dos"].iter().find_map(|prefix| label.strip_prefix(prefix));
        let number = number.unwrap_or(&label).trim_start_matches(['-', '_']);
        PAGES.iter().find(|page| page.number == number)
    }

    /// The character of a byte.
    pub fn character(&self, byte: u8) -> char {
        match byte.checked_sub(128) {
            Some(at) => self.table.get(usize::from(at)).copied().unwrap_or('\u{FFFD}'),
            None => char::from(byte),
        }
    }
}

/// An encoding of one byte a character, as far as telling it from others goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Candidate {
    /// One of the web's.
    Standard(&'static encoding_rs::Encoding),
    /// A code page.
    Page(&'static CodePage),
}

/// How much better a text has to look in an encoding that is not the likely one.
const MARGIN: f64 = 1.5;

/// The encoding in which the words of a text look best: the likely one, or MacRoman, or a code page.
pub fn best_of(text: &[u8], likely: &'static encoding_rs::Encoding) -> Candidate {
    let mut best = (looks(text, Candidate::Standard(likely)) + MARGIN, Candidate::Standard(likely));
    let others = std::iter::once(Candidate::Standard(encoding_rs::MACINTOSH));
    for candidate in others.chain(PAGES.iter().map(Candidate::Page)) {
        let looks = looks(text, candidate);
        if looks > best.0 {
            best = (looks, candidate);
        }
    }
    best.1
}

/// How much the characters beyond ASCII look like letters of words, in an encoding.
fn looks(text: &[u8], candidate: Candidate) -> f64 {
    let decoded = match candidate {
        Candidate::Standard(encoding) => encoding.decode_without_bom_handling(text).0.into_owned(),
        Candidate::Page(page) => text.iter().map(|byte| page.character(*byte)).collect(),
    };
    let characters: Vec<char> = decoded.chars().collect();
    let at = |place: usize| characters.get(place).copied().unwrap_or(' ');
    let beyond = characters.iter().enumerate().filter(|(_, c)| !c.is_ascii());
    beyond.map(|(place, c)| look(at(place.wrapping_sub(1)), *c, at(place + 1))).sum()
}

/// How a character looks between its neighbours.
fn look(before: char, c: char, after: char) -> f64 {
    let (follows, leads) = (before.is_alphabetic(), after.is_alphabetic());
    if matches!(c, '\u{2500}'..='\u{259F}' | '\u{80}'..='\u{9F}' | '\u{FFFD}') {
        return -3.0;
    }
    if !c.is_alphabetic() || matches!(c, 'ª' | 'º') {
        let is_usual =
            matches!(c, '’' | '‘' | '“' | '”' | '„' | '«' | '»' | '–' | '—' | '…' | '\u{A0}' | '·');
        return match (follows && leads, follows || leads) {
            (true, _) if c == '’' => 0.5,
            (false, true) if leads && matches!(c, '“' | '„' | '«') || follows && matches!(c, '”' | '»') => {
                1.0
            }
            (true, _) if c == '\u{A0}' || c == '–' => 0.0,
            (true, _) => -2.0,
            (false, true) if is_usual => -0.2,
            (false, true) if matches!(c, '°' | '€' | '£' | '²' | '³' | 'ª' | 'º' | '®' | '™' | '©') => {
                0.0
            }
            (false, true) => -1.0,
            (false, false) => 0.0,
        };
    }
    let is_latin = matches!(c, '\u{C0}'..='\u{24F}' | '\u{1E00}'..='\u{1EFF}');
    if !is_latin {
        // A letter of another script in the middle of a word.
        return if before.is_ascii_alphabetic() || after.is_ascii_alphabetic() { -3.0 } else { -0.5 };
    }
    let weight = if USUAL.contains(c.to_lowercase().next().unwrap_or(c)) { 1.0 } else { 0.4 };
    match (c.is_uppercase(), follows, leads) {
        (true, true, _) if before.is_lowercase() => -2.0,
        (_, false, false) => 0.1,
        _ => weight,
    }
}

/// Letters that the languages of Europe use much.
const USUAL: &str = "àáâäãåæçèéêëìíîïñòóôöõøœùúûüßąćčďęěłńňóřśšťůžźżýőűșțşţăğıș";

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn bytes(text: &str, page: &CodePage) -> Vec<u8> {
        let byte = |c: char| (0..=255u8).find(|byte| page.character(*byte) == c);
        text.chars().map(|c| byte(c).expect("a character of the page")).collect()
    }

    #[rstest]
    #[case("cp437", "Zoë café, Müller Größe, Peña cañón", "IBM850")]
    #[case("850", "São ação, Müller Größe, Ångström, Øre", "IBM850")]
    #[case("DOS-852", "Łódź żółć, Šimon čaj, příliš žluťoučký", "IBM852")]
    fn a_text_of_dos_is_told(#[case] label: &str, #[case] text: &str, #[case] name: &str) {
        let page = CodePage::named(label).expect("a code page");
        let found = best_of(&bytes(text, page), encoding_rs::WINDOWS_1252);
        assert!(matches!(found, Candidate::Page(page) if page.name == name), "{found:?}");
    }

    #[rstest]
    #[case("Zoë café, Müller Größe", encoding_rs::MACINTOSH, encoding_rs::MACINTOSH)]
    #[case("Zoë café, Müller Größe, 12 °C, l’eau", encoding_rs::WINDOWS_1252, encoding_rs::WINDOWS_1252)]
    #[case("5 € – “quayside”, 7 °C", encoding_rs::WINDOWS_1252, encoding_rs::WINDOWS_1252)]
    #[case("ÉCOLE, ÜBER, NAÏVE", encoding_rs::WINDOWS_1252, encoding_rs::WINDOWS_1252)]
    fn a_text_of_the_web_or_of_a_mac_is_told(
        #[case] text: &str,
        #[case] written: &'static encoding_rs::Encoding,
        #[case] found: &'static encoding_rs::Encoding,
    ) {
        let bytes = written.encode(text).0;
        assert_eq!(best_of(&bytes, encoding_rs::WINDOWS_1252), Candidate::Standard(found));
    }
}
