//! Opening a file of any kind by what it is, whatever it is called.

use std::io::{Cursor, Read};
use std::sync::Arc;

use crate::bytes::archive::is_archive;
use crate::bytes::{Encoding, Utf8Source};
use crate::error::ReadError;
use crate::json::{JsonReader, JsonWishes, looks_like_json};
use crate::reader::{RecordReader, TableHead};
use crate::text::{TextReader, TextWishes};
use crate::workbook::{
    Book, WorkbookReader, WorkbookWishes, html_tables, is_workbook, looks_like_html, looks_like_sheet_markup,
    markup_sheets,
};

/// How much of a file is looked at to tell its kind.
const LOOK: u64 = 4096;

/// The largest workbook or page that is read: both are held in memory, packed as they are.
const MOST_HELD: u64 = 1 << 30;

/// What the user says of files of any kind; the rest is found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Wishes {
    /// Of delimited and fixed-width text, and of what all text has in common.
    pub text: TextWishes,
    /// Of JSON.
    pub json: JsonWishes,
    /// Of workbooks.
    pub workbook: WorkbookWishes,
}

/// An open file.
pub struct Opened<'a> {
    /// Its records.
    pub reader: Box<dyn RecordReader + 'a>,
    /// It is something else than its name says.
    pub remark: Option<String>,
}

/// What a file is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Text,
    Json,
    Workbook,
    Html,
    Markup,
}

impl Kind {
    /// By its first bytes, and by its name and the wishes where those leave it open.
    fn of(head: &[u8], name: &str, wishes: &Wishes) -> Kind {
        if is_workbook(head) || is_archive(head) {
            Kind::Workbook
        } else if wishes.json.rows_at.is_some() {
            Kind::Json
        } else if wishes.text.fields.is_some() || wishes.text.dialect.delimiter.is_some() {
            Kind::Text
        } else if looks_like_html(head) {
            Kind::Html
        } else if looks_like_sheet_markup(head) {
            Kind::Markup
        } else if looks_like_json(&plain(head), name) {
            Kind::Json
        } else {
            Kind::Text
        }
    }

    fn words(self) -> &'static str {
        match self {
            Kind::Text => "delimited text",
            Kind::Json => "JSON",
            Kind::Workbook => "a workbook",
            Kind::Html => "an HTML page",
            Kind::Markup => "sheets in XML",
        }
    }

    /// What the ending of a name promises.
    fn promised(name: &str) -> Option<Kind> {
        let name = name.to_lowercase();
        let (_, ending) = name.rsplit_once('.')?;
        match ending {
            "xlsx" | "xlsm" | "xlsb" | "xls" | "ods" => Some(Kind::Workbook),
            "json" | "jsonl" | "ndjson" => Some(Kind::Json),
            "csv" | "tsv" => Some(Kind::Text),
            _ => None,
        }
    }
}

/// The head of a text of two bytes a character, near enough to tell its kind.
fn plain(head: &[u8]) -> Vec<u8> {
    match head {
        [0xFF, 0xFE, rest @ ..] | [0xFE, 0xFF, rest @ ..] => {
            rest.iter().copied().filter(|b| *b != 0).collect()
        }
        _ => head.to_vec(),
    }
}

/// Opens what `reader` gives, decompressed but for what workbooks are packed in. `known` are
/// tables whose columns keep their places, for formats that tell no columns beforehand.
pub fn open<'a>(
    mut reader: Box<dyn Read + Send + 'a>,
    name: &str,
    wishes: &Wishes,
    known: &[TableHead],
) -> Result<Opened<'a>, ReadError> {
    let mut head = Vec::new();
    Read::by_ref(&mut reader).take(LOOK).read_to_end(&mut head).map_err(ReadError::from_io)?;
    if head.is_empty() {
        return Err(ReadError::Empty);
    }
    let kind = Kind::of(&head, name, wishes);
    let whole: Box<dyn Read + Send + 'a> = Box::new(Cursor::new(head).chain(reader));
    let promised = Kind::promised(name).filter(|promised| *promised != kind);
    let remark = promised.map(|promised| {
        format!(
            "it is called as if it were {}, but is {}, and is read as that",
            promised.words(),
            kind.words()
        )
    });
    let table = wishes.text.table.clone();
    let workbook = WorkbookWishes { table, ..wishes.workbook.clone() };
    let encoding = wishes.text.encoding;
    let reader: Box<dyn RecordReader + 'a> = match kind {
        Kind::Text => Box::new(TextReader::open(whole, &wishes.text)?),
        Kind::Json => {
            Box::new(JsonReader::open(whole, name, &wishes.json, encoding, wishes.text.max_record, known)?)
        }
        Kind::Workbook => {
            let bytes: Arc<[u8]> = held(whole)?.into();
            Box::new(WorkbookReader::open(move || Book::open(bytes), &workbook)?)
        }
        Kind::Html | Kind::Markup => {
            let text = text_of(whole, encoding)?;
            let read = move || {
                let (word, grids) = if kind == Kind::Html {
                    ("html", html_tables(&text))
                } else {
                    ("xml", markup_sheets(&text)?)
                };
                Ok(Book::of_grids(word, grids))
            };
            Box::new(WorkbookReader::open(read, &workbook)?)
        }
    };
    Ok(Opened { reader, remark })
}

/// All bytes of a file, up to the most that is held in memory.
fn held<'a>(reader: Box<dyn Read + Send + 'a>) -> Result<Vec<u8>, ReadError> {
    let mut bytes = Vec::new();
    reader.take(MOST_HELD + 1).read_to_end(&mut bytes).map_err(ReadError::from_io)?;
    if bytes.len() as u64 > MOST_HELD {
        return Err(ReadError::Workbook("it is larger than 1 GiB".to_owned()));
    }
    Ok(bytes)
}

fn text_of<'a>(reader: Box<dyn Read + Send + 'a>, encoding: Option<Encoding>) -> Result<String, ReadError> {
    let mut source = Utf8Source::new(reader, encoding)?;
    let mut bytes = Vec::new();
    while source.read_into(&mut bytes, 1 << 20)? {
        if bytes.len() as u64 > MOST_HELD {
            return Err(ReadError::Workbook("it is larger than 1 GiB".to_owned()));
        }
    }
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}
