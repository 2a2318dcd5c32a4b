//! The formats that files may have, and which of them a file has.
//!
//! Another format is another entry in `FORMATS`: how it is told by the first bytes of a file, and
//! how it is opened.

use crate::bytes::archive::is_archive;
use crate::bytes::source::{ByteSource, MOST_UNPACKED};
use crate::bytes::{Encoding, Utf8Source};
#[cfg(feature = "columnar")]
use crate::columnar::{Columnar, ColumnarReader};
use crate::error::ReadError;
use crate::foreign;
use crate::json::{JsonFile, JsonOptions, JsonReader, looks_like_json};
use crate::other_formats::OtherFormats;
use crate::reader::{RecordReader, TableHead};
use crate::text::{TextOptions, TextReader};
use crate::workbook::{
    Book, WorkbookOptions, WorkbookReader, html_tables, is_workbook, looks_like_html,
    looks_like_sheet_markup, markup_sheets,
};

/// What the user says of files of any format; the rest is found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FormatOptions {
    /// Of delimited and fixed-width text, and of what all text has in common.
    pub text: TextOptions,
    /// Of JSON.
    pub json: JsonOptions,
    /// Of workbooks.
    pub workbook: WorkbookOptions,
    /// Formats that are not of this crate, which are asked first.
    pub others: OtherFormats,
}

/// An open file.
pub struct OpenedFile<'a> {
    /// Its records.
    pub reader: Box<dyn RecordReader + 'a>,
    /// It is something else than its name says.
    pub remark: Option<String>,
}

/// What a format is told by.
struct FileHead<'s> {
    /// The first bytes of the file.
    head: &'s [u8],
    name: &'s str,
    options: &'s FormatOptions,
}

/// What opening a file may need to know.
struct OpenRequest<'s> {
    name: &'s str,
    options: &'s FormatOptions,
    known: &'s [TableHead],
}

/// How sure it is that a file has a format: the surest has it, and of two alike the first entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Certainty {
    /// Anything may be that.
    Possible,
    /// Its first bytes look like it.
    Likely,
    /// The user's options are those of this format.
    Asked,
    /// Its first bytes are the mark of it.
    Marked,
}

/// Opens a file of a format.
type Open = for<'a> fn(ByteSource<'a>, &OpenRequest<'_>) -> Result<Box<dyn RecordReader + 'a>, ReadError>;

/// A format.
struct FormatEntry {
    words: &'static str,
    /// What the names of its files end in.
    endings: &'static [&'static str],
    sniff: fn(&FileHead<'_>) -> Option<Certainty>,
    open: Open,
}

/// All formats.
static FORMATS: [FormatEntry; 8] = [
    FormatEntry {
        words: "a Parquet file",
        endings: &["parquet"],
        sniff: |file| {
            let marks: [&[u8]; 2] = [b"PAR1", b"PARE"];
            marks.iter().any(|mark| file.head.starts_with(mark)).then_some(Certainty::Marked)
        },
        open: |bytes, request| columnar(bytes, request, Columnar::Parquet),
    },
    FormatEntry {
        words: "an Arrow file",
        endings: &["arrow", "feather"],
        sniff: |file| file.head.starts_with(b"ARROW1\0\0").then_some(Certainty::Marked),
        open: |bytes, request| columnar(bytes, request, Columnar::ArrowFile),
    },
    FormatEntry {
        words: "an Arrow stream",
        endings: &["arrows"],
        sniff: |file| is_arrow_stream(file.head).then_some(Certainty::Marked),
        open: |bytes, request| columnar(bytes, request, Columnar::ArrowStream),
    },
    FormatEntry {
        words: "a workbook",
        endings: &["xlsx", "xlsm", "xlsb", "xls", "ods"],
        sniff: |file| (is_workbook(file.head) || is_archive(file.head)).then_some(Certainty::Marked),
        open: |bytes, request| {
            let options = workbook_options(request);
            let bytes = bytes.into_seekable()?;
            Ok(Box::new(WorkbookReader::open(move || Book::open(&bytes), &options)?))
        },
    },
    FormatEntry {
        words: "an HTML page",
        endings: &[],
        sniff: |file| looks_like_html(file.head).then_some(Certainty::Likely),
        open: |bytes, request| {
            let text = whole_text(bytes, request.options.text.encoding)?;
            let read = move || Ok(Book::of_grids("html", html_tables(&text)));
            Ok(Box::new(WorkbookReader::open(read, &workbook_options(request))?))
        },
    },
    FormatEntry {
        words: "sheets in XML",
        endings: &[],
        sniff: |file| looks_like_sheet_markup(file.head).then_some(Certainty::Likely),
        open: |bytes, request| {
            let text = whole_text(bytes, request.options.text.encoding)?;
            let read = move || Ok(Book::of_grids("xml", markup_sheets(&text)?));
            Ok(Box::new(WorkbookReader::open(read, &workbook_options(request))?))
        },
    },
    FormatEntry {
        words: "JSON",
        endings: &["json", "jsonl", "ndjson"],
        sniff: |file| match file.options.json.rows_at {
            Some(_) => Some(Certainty::Asked),
            None => looks_like_json(&narrow(file.head), file.name).then_some(Certainty::Likely),
        },
        open: |bytes, request| {
            let FormatOptions { text, json, .. } = request.options;
            let stream = bytes.into_stream();
            let (encoding, max_record) = (text.encoding, text.max_record);
            let about = JsonFile { name: request.name, encoding, max_record, known: request.known };
            let reader = JsonReader::open(stream, json, &about)?;
            Ok(Box::new(reader))
        },
    },
    FormatEntry {
        words: "delimited text",
        endings: &["csv", "tsv"],
        sniff: |file| {
            let text = &file.options.text;
            let is_asked = text.fields.is_some() || text.dialect.delimiter.is_some();
            Some(if is_asked { Certainty::Asked } else { Certainty::Possible })
        },
        open: |bytes, request| {
            let width_before = request.known.first().map_or(0, |main| main.width);
            Ok(Box::new(TextReader::open_knowing(bytes.into_stream(), &request.options.text, width_before)?))
        },
    },
];

/// Whether a file begins as an Arrow stream does: with a mark, and the length of a description that is
/// padded to eight bytes.
fn is_arrow_stream(head: &[u8]) -> bool {
    let Some((mark, rest)) = head.split_first_chunk::<4>() else { return false };
    let length = rest.first_chunk::<4>().map_or(0, |length| u32::from_le_bytes(*length));
    *mark == [0xFF; 4] && length > 0 && length % 8 == 0 && length < 1 << 28
}

/// Opens a columnar file.
#[cfg(feature = "columnar")]
fn columnar<'a>(
    bytes: ByteSource<'a>,
    request: &OpenRequest<'_>,
    format: Columnar,
) -> Result<Box<dyn RecordReader + 'a>, ReadError> {
    let FormatOptions { text, json, .. } = request.options;
    let limit = crate::text::record_limit(text.max_record);
    Ok(Box::new(ColumnarReader::open(bytes.into_pieces()?, format, json, limit)?))
}

/// The formats that a build without columnar files knows by name.
#[cfg(not(feature = "columnar"))]
enum Columnar {
    Parquet,
    ArrowFile,
    ArrowStream,
}

#[cfg(not(feature = "columnar"))]
fn columnar<'a>(
    _: ByteSource<'a>,
    _: &OpenRequest<'_>,
    format: Columnar,
) -> Result<Box<dyn RecordReader + 'a>, ReadError> {
    let what = match format {
        Columnar::Parquet => "a Parquet file",
        Columnar::ArrowFile => "an Arrow file",
        Columnar::ArrowStream => "an Arrow stream",
    };
    Err(ReadError::NotBuilt { what })
}

/// The format of a file.
fn format_of(file: &FileHead<'_>) -> Option<&'static FormatEntry> {
    // The last of those that are equally sure is given, so the first entry is asked last.
    FORMATS
        .iter()
        .rev()
        .filter_map(|format| Some(((format.sniff)(file)?, format)))
        .max_by_key(|(sure, _)| *sure)
        .map(|(_, format)| format)
}

/// The format that the ending of a name promises.
fn promised(name: &str) -> Option<&'static FormatEntry> {
    let name = name.to_lowercase();
    let (_, ending) = name.rsplit_once('.')?;
    FORMATS.iter().find(|format| format.endings.contains(&ending))
}

/// Opens a file by what it is, whatever it is called. What it is compressed with is off already, but
/// for what workbooks are packed in. `known` are tables whose columns keep their places, for formats
/// that tell no columns beforehand.
///
/// # Errors
///
/// It is empty, broken, or of no format that is known.
pub fn open<'a>(
    mut bytes: ByteSource<'a>,
    name: &str,
    options: &FormatOptions,
    known: &[TableHead],
) -> Result<OpenedFile<'a>, ReadError> {
    let head = bytes.head()?;
    if head.is_empty() {
        return Err(ReadError::Empty);
    }
    if let Some(other) = options.others.find(&head, name) {
        return Ok(OpenedFile { reader: other.open(bytes)?, remark: None });
    }
    if let Some(kind) = foreign::kind_of(&head) {
        return Err(ReadError::Foreign(kind.to_owned()));
    }
    let format = format_of(&FileHead { head: &head, name, options }).ok_or(ReadError::Empty)?;
    let markup = foreign::markup_of(&narrow(&head));
    let is_plain = (format.sniff)(&FileHead { head: &head, name, options }) == Some(Certainty::Possible);
    if let (Some(markup), true) = (&markup, is_plain) {
        return Err(ReadError::Foreign(markup.clone()));
    }
    let other = promised(name).filter(|promised| !std::ptr::eq(*promised, format));
    let remark = other.map(|other| {
        let (called, found) = (other.words, format.words);
        format!("it is called as if it were {called}, but is {found}, and is read as that")
    });
    let opened = (format.open)(bytes, &OpenRequest { name, options, known });
    let reader = opened.map_err(|error| match (error, markup) {
        (ReadError::NoTable(_), Some(markup)) => ReadError::Foreign(markup),
        (error, _) => error,
    })?;
    Ok(OpenedFile { reader, remark })
}

/// The head of a text of two bytes a character, near enough to tell its format.
fn narrow(head: &[u8]) -> Vec<u8> {
    match head {
        [0xFF, 0xFE, rest @ ..] | [0xFE, 0xFF, rest @ ..] => {
            rest.iter().copied().filter(|b| *b != 0).collect()
        }
        _ => head.to_vec(),
    }
}

fn workbook_options(request: &OpenRequest<'_>) -> WorkbookOptions {
    let table = request.options.text.table.clone();
    let apart = request.known.iter().skip(1).any(|head| !head.is_child);
    WorkbookOptions { table, apart, ..request.options.workbook.clone() }
}

/// All of a file as one text.
fn whole_text(bytes: ByteSource<'_>, encoding: Option<Encoding>) -> Result<String, ReadError> {
    let mut source = Utf8Source::new(bytes.into_stream(), encoding)?;
    let mut text = Vec::new();
    while source.read_into(&mut text, 1 << 20)? {
        if text.len() as u64 > MOST_UNPACKED {
            return Err(ReadError::TooLarge { limit: MOST_UNPACKED });
        }
    }
    Ok(String::from_utf8_lossy(&text).into_owned())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::json::JsonPath;

    fn semicolon() -> FormatOptions {
        let mut options = FormatOptions::default();
        options.text.dialect.delimiter = Some(crate::text::Delimiter::Char(';'));
        options
    }

    fn rows_at() -> FormatOptions {
        let mut options = FormatOptions::default();
        options.json.rows_at = JsonPath::parse("$.rows").ok();
        options
    }

    #[rstest]
    #[case::archive(b"PK\x03\x04....", "a.csv", FormatOptions::default(), "a workbook")]
    #[case::marked_whatever_is_asked(b"PK\x03\x04....", "a.csv", semicolon(), "a workbook")]
    #[case::page(b"<html><table>", "a.xls", FormatOptions::default(), "an HTML page")]
    #[case::page_asked_to_be_text(b"<html><table>", "a.xls", semicolon(), "delimited text")]
    #[case::json(b"{\"a\": 1}", "a.json", FormatOptions::default(), "JSON")]
    #[case::json_in_two_bytes(
        b"\xFF\xFE{\0\"\0a\0\"\0:\x001\0}\0",
        "a.json",
        FormatOptions::default(),
        "JSON"
    )]
    #[case::text_asked_to_be_json(b"a;b", "a.txt", rows_at(), "JSON")]
    #[case::anything_else(b"a;b", "a", FormatOptions::default(), "delimited text")]
    fn a_file_is_what_its_bytes_say(
        #[case] head: &[u8],
        #[case] name: &str,
        #[case] options: FormatOptions,
        #[case] words: &str,
    ) {
        let found = format_of(&FileHead { head, name, options: &options }).map(|format| format.words);
        assert_eq!(found, Some(words));
    }
}
