//! Files that hold no table, told by their first bytes, so that they are called what they are.

/// Kinds of files by how they begin.
const BY_START: &[(&[u8], &str)] = &[
    (b"%PDF-", "a PDF document"),
    (b"\x89PNG\r\n", "a PNG picture"),
    (b"\xFF\xD8\xFF", "a JPEG picture"),
    (b"GIF87a", "a GIF picture"),
    (b"GIF89a", "a GIF picture"),
    (b"II*\0", "a TIFF picture"),
    (b"MM\0*", "a TIFF picture"),
    (b"\0\0\x01\0", "an icon"),
    (b"8BPS", "a layered picture"),
    (b"ID3", "a sound recording"),
    (b"OggS", "a sound or video recording"),
    (b"fLaC", "a sound recording"),
    (b"\x1A\x45\xDF\xA3", "a video recording"),
    (b"\x7fELF", "a program"),
    (b"\xFE\xED\xFA\xCE", "a program"),
    (b"\xFE\xED\xFA\xCF", "a program"),
    (b"\xCF\xFA\xED\xFE", "a program"),
    (b"\xCA\xFE\xBA\xBE", "a program"),
    (b"\0asm", "a program"),
    (b"\0\x05\x16\x07", "what a Mac keeps of a file beside it"),
    (b"SQLite format 3\0", "an SQLite database"),
    (b"FEA1", "a Feather file of version 1"),
    (b"Obj\x01", "an Avro file"),
    (b"ORC", "an ORC file"),
    (b"\x89HDF\r\n", "an HDF5 file"),
    (b"CDF\x01", "a NetCDF file"),
    (b"\x93NUMPY", "an array of numbers in NumPy's format"),
    (b"\x80\x04\x95", "a Python pickle"),
    (b"Rar!\x1A", "a RAR archive"),
    (b"7z\xBC\xAF\x27\x1C", "a 7z archive"),
    (b"MSCF\0", "a cabinet archive"),
    (b"!<arch>\n", "an archive of programs"),
    (b"\xED\xAB\xEE\xDB", "a package of programs"),
    (b"{\\rtf", "a text document (RTF)"),
    (b"%!PS", "a PostScript document"),
    (b"wOFF", "a typeface"),
    (b"wOF2", "a typeface"),
    (b"OTTO\0", "a typeface"),
    (b"\0\x01\0\0\0", "a typeface or an Access database"),
    (b"-----BEGIN ", "a key or certificate"),
];

/// What a file is that holds no table, by its first bytes.
pub fn kind_of(head: &[u8]) -> Option<&'static str> {
    if let Some((_, kind)) = BY_START.iter().find(|(start, _)| head.starts_with(start)) {
        // Words may begin alike: what follows is text only there.
        let is_word = head.iter().take(3).all(u8::is_ascii_alphanumeric);
        return (!is_word || has_control_bytes(head)).then_some(kind);
    }
    let at = |place: usize, mark: &[u8]| head.get(place..place + mark.len()) == Some(mark);
    match () {
        () if at(0, b"RIFF") && at(8, b"WEBP") => Some("a WebP picture"),
        () if at(0, b"RIFF") && has_control_bytes(head) => Some("a sound or video recording"),
        () if at(4, b"ftyp") && has_control_bytes(head) => Some("a video recording or picture"),
        () if at(0, b"BM") && has_control_bytes(head) => Some("a BMP picture"),
        () if at(0, b"MZ") && has_control_bytes(head) => Some("a program"),
        () if at(257, b"ustar") => Some("a tar archive"),
        () => None,
    }
}

/// Whether bytes are among the first that no text has.
fn has_control_bytes(head: &[u8]) -> bool {
    head.iter().take(512).any(|byte| *byte < 9)
}

/// What a text is that is written in markup and holds no table that is known, with what it says of
/// itself: an XML document or an HTML page, and the page's title.
pub fn markup_of(head: &[u8]) -> Option<String> {
    let text = String::from_utf8_lossy(head);
    let text = text.trim_start_matches('\u{FEFF}').trim_start();
    let lower = text.to_ascii_lowercase();
    let is_page = ["<!doctype html", "<html", "<head", "<body", "<meta", "<title"]
        .iter()
        .any(|start| lower.starts_with(start))
        || lower.starts_with("<?xml") && lower.contains("<html");
    if is_page {
        let title = lower.find("<title>").zip(lower.find("</title>"));
        let title = title.and_then(|(from, to)| text.get(from + 7..to)).map(str::trim);
        return Some(match title.filter(|title| !title.is_empty()) {
            Some(title) => {
                format!("an HTML page without a table: `{}`", title.chars().take(80).collect::<String>())
            }
            None => "an HTML page without a table".to_owned(),
        });
    }
    let is_xml = lower.starts_with("<?xml") || lower.starts_with("<!doctype ") || lower.starts_with("<svg");
    is_xml.then(|| match root_of(text) {
        Some(root) => format!("an XML document, whose root is `{root}`"),
        None => "an XML document".to_owned(),
    })
}

/// The name of the first element of an XML document.
fn root_of(text: &str) -> Option<&str> {
    let mut rest = text;
    loop {
        rest = rest.get(rest.find('<')? + 1..)?;
        if rest.starts_with(char::is_alphabetic) {
            let end = rest.find(|c: char| !c.is_alphanumeric() && !matches!(c, ':' | '_' | '-' | '.'));
            return rest.get(..end.unwrap_or(rest.len())).map(|name| name.get(..60).unwrap_or(name));
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR", Some("a PNG picture"))]
    #[case(b"%PDF-1.7\n", Some("a PDF document"))]
    #[case(b"MZ\x90\0\x03\0", Some("a program"))]
    #[case(b"Obj\x01\x04", Some("an Avro file"))]
    #[case::words_that_begin_alike(b"ORC,MZ\n1,2\n", None)]
    #[case::words(b"BM,id\n1,2\n", None)]
    #[case::text(b"id,name\n1,a\n", None)]
    fn what_is_no_table_is_called_what_it_is(#[case] head: &[u8], #[case] kind: Option<&str>) {
        assert_eq!(kind_of(head), kind);
    }

    #[rstest]
    #[case(
        "<!DOCTYPE html>\n<html><head><title> 404 Not Found </title>",
        Some("an HTML page without a table: `404 Not Found`")
    )]
    #[case(
        "<?xml version=\"1.0\"?>\n<!-- of the harbour -->\n<rows><row/></rows>",
        Some("an XML document, whose root is `rows`")
    )]
    #[case("<svg xmlns=\"x\">", Some("an XML document, whose root is `svg`"))]
    #[case("<5,>7\n1,2\n", None)]
    #[case("id,name\n", None)]
    fn markup_is_told(#[case] head: &str, #[case] kind: Option<&str>) {
        assert_eq!(markup_of(head.as_bytes()).as_deref(), kind);
    }
}
