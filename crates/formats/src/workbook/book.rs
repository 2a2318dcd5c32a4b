//! Opening a workbook, whichever container it is, and walking over its cells.

use std::io::{BufReader, Read as _};

use calamine::{
    Cell as Kept, Data, DataRef, Dimensions, Ods, Reader, Sheet, SheetType, SheetVisible, Xls, Xlsb, Xlsx,
    XlsxError,
};

use zip::ZipArchive;

use super::cell::{CellAt, CellFormat, Value};
use super::plain_numbers;
use super::range::CellRange;
use crate::bytes::{ExpansionLimit, SeekableBytes};
use crate::error::ReadError;
use crate::text::DEFAULT_RECORD_LIMIT;

/// The bytes of a workbook.
type Bytes = BufReader<SeekableBytes>;

/// Merged cells are asked for of workbooks up to this size, in bytes: it takes another pass
/// over the sheet.
const MERGES_UP_TO: u64 = 4 << 20;

/// The sheets of workbooks from this size on, in bytes, are walked side by side.
const WORTH_SHARING: u64 = 1 << 20;

/// Takes cells, row by row; `false` when it wants no more.
pub type Taker<'t> = dyn FnMut(CellAt<'_>) -> bool + 't;

/// A sheet of a workbook.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SheetEntry {
    /// Its name.
    pub name: String,
    /// Whether a person sees it.
    pub hidden: bool,
    /// Whether it has cells: charts have none.
    pub has_cells: bool,
}

/// Cells that are in memory already.
pub type Grid = Vec<Vec<String>>;

enum Inner {
    Xlsx(Box<Xlsx<Bytes>>),
    Xlsb(Box<Xlsb<Bytes>>),
    Xls(Box<Xls<Bytes>>),
    Ods(Box<Ods<Bytes>>),
    Grids(Vec<Grid>),
}

/// An open workbook.
pub struct Book {
    inner: Inner,
    /// Its sheets.
    pub sheets: Vec<SheetEntry>,
    /// What it is, in a word: `xlsx`, `xls`, `html`.
    pub kind: &'static str,
    /// Its days count from 1904.
    pub is_1904: bool,
    /// The file's own bytes, of a workbook in an office container.
    source: Option<SeekableBytes>,
}

/// Whether these first bytes may be those of a workbook in its own right: an office container or
/// an old compound file. (Whether a zip archive is one is for its members to say.)
pub fn is_workbook(head: &[u8]) -> bool {
    head.starts_with(b"\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1")
}

fn broken(error: impl std::fmt::Display) -> ReadError {
    ReadError::Workbook(error.to_string())
}

/// Members up to this size, in bytes, and those that expand no more than so many times, are read as they are:
/// what is written by programs for tables seldom expands twenty times.
const PLAIN_SIZE: u64 = 32 << 20;
const PLAIN_RATIO: u64 = 40;

/// Makes sure that no part of a workbook expands beyond measure, and that none of its texts is longer than
/// a record may be: the container library holds each of them in memory.
fn check_members(archive: &mut ZipArchive<Bytes>) -> Result<(), ReadError> {
    let limit = ExpansionLimit::default();
    for index in 0..archive.len() {
        // What is damaged or locked is told of by whoever reads it.
        let Ok(mut member) = archive.by_index(index) else { continue };
        let (bytes, compressed) = (member.size(), member.compressed_size().max(1));
        if bytes <= PLAIN_SIZE || bytes / compressed <= PLAIN_RATIO {
            continue;
        }
        if bytes > limit.free.max(compressed.saturating_mul(limit.ratio)) {
            return Err(ReadError::Expansion { expanded: bytes, ratio: limit.ratio });
        }
        if has_long_text(&mut member) {
            let member = member.name().map(|name| name.into_owned()).unwrap_or_default();
            return Err(ReadError::LongCell { member, limit: DEFAULT_RECORD_LIMIT / 4 });
        }
    }
    Ok(())
}

/// Whether a text between two marks is longer than a cell may be: a quarter of the longest record, since the
/// container library takes several times its size.
fn has_long_text(member: &mut impl std::io::Read) -> bool {
    let mut buffer = vec![0; 256 * 1024];
    let mut run = 0;
    loop {
        let count = match member.read(&mut buffer) {
            Ok(0) | Err(_) => return false,
            Ok(count) => count,
        };
        let block = buffer.get(..count).unwrap_or_default();
        match (memchr::memchr(b'<', block), memchr::memrchr(b'<', block)) {
            (Some(first), Some(last)) => {
                if run + first > DEFAULT_RECORD_LIMIT / 4 {
                    return true;
                }
                run = count - last;
            }
            _ => run += count,
        }
        if run > DEFAULT_RECORD_LIMIT / 4 {
            return true;
        }
    }
}

impl Book {
    /// Opens a workbook by what it is, not by what it is called.
    pub fn open(bytes: &SeekableBytes) -> Result<Book, ReadError> {
        let mut head = Vec::new();
        bytes.reader().take(8).read_to_end(&mut head).map_err(ReadError::from_io)?;
        let mut archive = ZipArchive::new(bytes.reader());
        if let Ok(archive) = &mut archive {
            check_members(archive)?;
        }
        let holds = |name: &str| archive.as_ref().is_ok_and(|it| it.index_for_name(name).is_some());
        let (inner, kind) = if is_workbook(&head) {
            (Inner::Xls(Box::new(open_xls(bytes)?)), "xls")
        } else if holds("xl/workbook.bin") {
            (Inner::Xlsb(Box::new(Xlsb::new(bytes.reader()).map_err(broken)?)), "xlsb")
        } else if holds("content.xml") && !holds("[Content_Types].xml") {
            let book = Ods::new(bytes.reader()).map_err(|error| match error {
                calamine::OdsError::Password => ReadError::Password,
                error => broken(error),
            })?;
            (Inner::Ods(Box::new(book)), "ods")
        } else {
            let book = Xlsx::new(bytes.reader()).map_err(|error| match error {
                calamine::XlsxError::Password => ReadError::Password,
                error => broken(error),
            })?;
            (Inner::Xlsx(Box::new(book)), "xlsx")
        };
        let (sheets, is_1904) = match &inner {
            Inner::Xls(book) => (entries(book.sheets_metadata()), book.has_1904_epoch()),
            Inner::Xlsb(book) => (entries(book.sheets_metadata()), book.has_1904_epoch()),
            Inner::Xlsx(book) => (entries(book.sheets_metadata()), book.has_1904_epoch()),
            Inner::Ods(book) => (entries(book.sheets_metadata()), false),
            Inner::Grids(_) => (Vec::new(), false),
        };
        Ok(Book { inner, sheets, kind, is_1904, source: Some(bytes.clone()) })
    }

    /// A workbook of tables that were read already.
    pub fn of_grids(kind: &'static str, grids: Vec<(String, Grid)>) -> Book {
        let sheets = grids
            .iter()
            .map(|(name, _)| SheetEntry { name: name.clone(), hidden: false, has_cells: true })
            .collect();
        let inner = Inner::Grids(grids.into_iter().map(|(_, grid)| grid).collect());
        Book { inner, sheets, kind, is_1904: false, source: None }
    }

    /// Whether its sheets are walked side by side: each walker opens it anew, which reads the texts that all of
    /// them share once more, and gains nothing where the container is read whole.
    pub fn is_worth_sharing(&self) -> bool {
        let is_by_parts = matches!(self.inner, Inner::Xlsx(_) | Inner::Xlsb(_));
        is_by_parts && self.source.as_ref().is_some_and(|source| source.length() >= WORTH_SHARING)
    }

    /// Walks over the cells of a sheet, row by row.
    pub fn walk(&mut self, sheet: usize, taker: &mut Taker<'_>) -> Result<(), ReadError> {
        let name = self.sheets[sheet].name.clone();
        match &mut self.inner {
            Inner::Xlsx(book) => {
                let mut given = 0;
                match walk_xlsx(book, &name, &mut given, taker) {
                    Err(XlsxError::ParseFloat(_)) => {}
                    walked => return walked.map_err(broken),
                }
                // Spreadsheet programs read numbers that the library refuses.
                let Some(source) = &self.source else { return Ok(()) };
                **book = Xlsx::new(plain_numbers::copy(source)?.reader()).map_err(broken)?;
                walk_xlsx(book, &name, &mut given, taker).map_err(broken)
            }
            Inner::Xlsb(book) => {
                let mut cells = book.worksheet_cells_reader(&name).map_err(broken)?;
                while let Some(cell) = cells.next_cell().map_err(broken)? {
                    if !take(&cell, CellFormat::Number, taker) {
                        return Ok(());
                    }
                }
                Ok(())
            }
            Inner::Xls(book) => walk_range(&book.worksheet_range(&name).map_err(broken)?, taker),
            Inner::Ods(book) => walk_range(&book.worksheet_range(&name).map_err(broken)?, taker),
            Inner::Grids(grids) => {
                for (row, cells) in grids[sheet].iter().enumerate() {
                    for (column, text) in cells.iter().enumerate().filter(|(_, text)| !text.is_empty()) {
                        let value = Value::Text(text);
                        if !taker(CellAt { row: row as u32, column: column as u32, value }) {
                            return Ok(());
                        }
                    }
                }
                Ok(())
            }
        }
    }

    /// The merged cells of a sheet, where the container tells them and asking does not cost much.
    pub fn merged(&mut self, sheet: usize) -> Vec<CellRange> {
        let name = self.sheets[sheet].name.clone();
        let range =
            |d: &Dimensions| CellRange { top: d.start.0, left: d.start.1, bottom: d.end.0, right: d.end.1 };
        let found = match &mut self.inner {
            Inner::Xlsx(book) if self.source.as_ref().is_some_and(|it| it.length() <= MERGES_UP_TO) => {
                book.merge_cells_by_sheet_name(&name).unwrap_or_default()
            }
            Inner::Xls(book) => book.merge_cells_by_sheet_name(&name).unwrap_or_default(),
            _ => Vec::new(),
        };
        found.iter().map(range).collect()
    }

    /// The sheet and the cells that a name stands for: a named range, or a table.
    pub fn named(&mut self, name: &str) -> Option<(usize, CellRange)> {
        let defined = match &self.inner {
            Inner::Xlsx(book) => book.defined_names(),
            Inner::Xlsb(book) => book.defined_names(),
            Inner::Xls(book) => book.defined_names(),
            Inner::Ods(book) => book.defined_names(),
            Inner::Grids(_) => return None,
        };
        let found = defined.iter().find(|(known, _)| known.eq_ignore_ascii_case(name));
        if let Some((_, place)) = found
            && let Some((sheet, cells)) = place.trim_start_matches('=').rsplit_once('!')
            && let Some(range) = CellRange::parse(cells)
        {
            let sheet = sheet.trim_matches('\'').replace("''", "'");
            let at = self.sheets.iter().position(|entry| entry.name == sheet)?;
            return Some((at, range));
        }
        self.table(name)
    }

    fn table(&mut self, name: &str) -> Option<(usize, CellRange)> {
        let Inner::Xlsx(book) = &mut self.inner else { return None };
        book.load_tables().ok()?;
        let known = book.table_names().into_iter().find(|known| known.eq_ignore_ascii_case(name))?.clone();
        let table = book.table_by_name(&known).ok()?;
        let (start, end) = (table.data().start()?, table.data().end()?);
        let at = self.sheets.iter().position(|entry| entry.name == table.sheet_name())?;
        // The names stand right above the rows.
        let range = CellRange { top: start.0.saturating_sub(1), left: start.1, bottom: end.0, right: end.1 };
        Some((at, range))
    }

    /// The names that ranges and tables have.
    pub fn names(&mut self) -> Vec<String> {
        match &mut self.inner {
            Inner::Xlsx(book) => {
                let mut names: Vec<String> =
                    book.defined_names().iter().map(|(name, _)| name.clone()).collect();
                if book.load_tables().is_ok() {
                    names.extend(book.table_names().into_iter().cloned());
                }
                names
            }
            Inner::Xlsb(book) => book.defined_names().iter().map(|(name, _)| name.clone()).collect(),
            Inner::Xls(book) => book.defined_names().iter().map(|(name, _)| name.clone()).collect(),
            Inner::Ods(book) => book.defined_names().iter().map(|(name, _)| name.clone()).collect(),
            Inner::Grids(_) => Vec::new(),
        }
    }
}

/// Walks over the cells of a sheet, but for those that were given before.
fn walk_xlsx(
    book: &mut Xlsx<Bytes>,
    name: &str,
    given: &mut u64,
    taker: &mut Taker<'_>,
) -> Result<(), XlsxError> {
    let mut cells = book.worksheet_cells_reader(name)?;
    let formats: Vec<CellFormat> = cells.styles().iter().map(format_of).collect();
    let skipped = *given;
    *given = 0;
    while let Some((cell, style)) = cells.next_cell_with_style_id()? {
        *given += 1;
        let format = formats.get(style).copied().unwrap_or_default();
        if *given > skipped && !take(&cell, format, taker) {
            return Ok(());
        }
    }
    Ok(())
}

fn open_xls(bytes: &SeekableBytes) -> Result<Xls<Bytes>, ReadError> {
    Xls::new(bytes.reader()).map_err(|error| match (error, Xlsx::new(bytes.reader())) {
        // A newer workbook with a password is a compound file too.
        (calamine::XlsError::Password, _) | (_, Err(calamine::XlsxError::Password)) => ReadError::Password,
        (error, _) => broken(error),
    })
}

fn entries(sheets: &[Sheet]) -> Vec<SheetEntry> {
    let entry = |sheet: &Sheet| SheetEntry {
        name: sheet.name.clone(),
        hidden: sheet.visible != SheetVisible::Visible,
        has_cells: sheet.typ == SheetType::WorkSheet,
    };
    sheets.iter().map(entry).collect()
}

fn format_of(style: &calamine::Style) -> CellFormat {
    style.number_format.as_ref().map_or(CellFormat::Number, |format| match format.format_code.as_str() {
        "General" | "@" => CellFormat::Number,
        code => CellFormat::of_code(code),
    })
}

fn take(cell: &Kept<DataRef<'_>>, format: CellFormat, taker: &mut Taker<'_>) -> bool {
    let (row, column) = cell.get_position();
    let mut give = |value: Value<'_>| taker(CellAt { row, column, value });
    match cell.get_value() {
        DataRef::Empty => true,
        DataRef::SharedString(text) => give(Value::Text(text)),
        DataRef::String(text) | DataRef::DateTimeIso(text) => give(Value::Text(text)),
        DataRef::DurationIso(text) => give(Value::Text(&clock(text))),
        DataRef::Float(value) => give(Value::Number(*value, number_format(format))),
        DataRef::Int(value) => give(Value::Text(&value.to_string())),
        DataRef::Bool(value) => give(Value::Boolean(*value)),
        DataRef::Error(error) => give(Value::Error(&error.to_string())),
        DataRef::DateTime(moment) => {
            let format = if moment.is_duration() { CellFormat::Span } else { moment_format(format) };
            give(Value::Number(moment.as_f64(), format))
        }
    }
}

/// A format that names parts of a date without being one of dates says nothing of a number.
fn number_format(format: CellFormat) -> CellFormat {
    match format {
        CellFormat::Moment { .. } | CellFormat::Span => CellFormat::Number,
        format => format,
    }
}

fn moment_format(format: CellFormat) -> CellFormat {
    match format {
        CellFormat::Moment { .. } => format,
        _ => CellFormat::Moment { day: false, time: false },
    }
}

fn walk_range(range: &calamine::Range<Data>, taker: &mut Taker<'_>) -> Result<(), ReadError> {
    let Some((top, left)) = range.start() else { return Ok(()) };
    for (row, cells) in range.rows().enumerate() {
        for (column, cell) in cells.iter().enumerate() {
            let (row, column) = (top + row as u32, left + column as u32);
            let mut give = |value: Value<'_>| taker(CellAt { row, column, value });
            let go_on = match cell {
                Data::Empty => true,
                Data::String(text) if text.is_empty() => true,
                Data::String(text) | Data::DateTimeIso(text) => give(Value::Text(text)),
                Data::DurationIso(text) => give(Value::Text(&clock(text))),
                Data::Float(value) => give(Value::Number(*value, CellFormat::Number)),
                Data::Int(value) => give(Value::Text(&value.to_string())),
                Data::Bool(value) => give(Value::Boolean(*value)),
                Data::Error(error) => give(Value::Error(&error.to_string())),
                Data::DateTime(moment) => {
                    let format = if moment.is_duration() {
                        CellFormat::Span
                    } else {
                        moment_format(CellFormat::Number)
                    };
                    give(Value::Number(moment.as_f64(), format))
                }
            };
            if !go_on {
                return Ok(());
            }
        }
    }
    Ok(())
}

/// A span of ISO 8601 (`PT07H15M00S`), as open documents keep times of day, as a clock shows it.
fn clock(span: &str) -> String {
    let inner = span.strip_prefix("PT").unwrap_or(span);
    let mut parts = ["0", "0", "0"];
    let mut rest = inner;
    for (at, mark) in ['H', 'M', 'S'].into_iter().enumerate() {
        if let Some((value, after)) = rest.split_once(mark) {
            parts[at] = value;
            rest = after;
        }
    }
    if !rest.is_empty() || inner.is_empty() || inner == span {
        return span.to_owned();
    }
    let (seconds, fraction) = parts[2].split_once(['.', ',']).unwrap_or((parts[2], ""));
    let fraction = fraction.trim_end_matches('0');
    let point = if fraction.is_empty() { "" } else { "." };
    format!("{:0>2}:{:0>2}:{seconds:0>2}{point}{fraction}", parts[0], parts[1])
}
