//! Rejects: grouped by reason, and exported to be corrected.
//!
//! They are exported with what leads back to them (`hd_reject`), a mark by which a row that comes back is known to be
//! that reject's (`hd_mark`), where they stood, why they were rejected, and their fields under the names that their
//! file has for them.

use std::collections::{HashMap, HashSet};
use std::io::Cursor;

use hypodoke_core::record::Field;
use hypodoke_core::sanitize::clean;
use hypodoke_formats::bytes::Encoding;
use hypodoke_formats::text::{Dialect, DialectOptions, TableOptions, TextOptions};
use hypodoke_formats::{ByteSource, FormatOptions, TableHead};
use hypodoke_stores::{FileEntry, RejectEntry};
use serde::Serialize;

use crate::error::{EngineError, ResubmitProblem};
use crate::file_format::FileFormat;
use crate::profile::header;

/// The column that leads back to a reject.
pub const REJECT: &str = "hd_reject";

/// The column that ties a row to its reject and to the columns of the export.
pub const MARK: &str = "hd_mark";

/// The columns that go before a row's own.
pub const ORIGIN: [&str; 7] = [REJECT, MARK, "hd_file", "hd_line", "hd_column", "hd_value", "hd_reason"];

/// The prefix of a mark. Without one, a spreadsheet could read a mark as a number. The prefix also says whether the values
/// of the row are guarded.
const EXACT: &str = "m-";
const GUARDED: &str = "s-";

/// The guard before a value that a spreadsheet would read as a formula.
const GUARD: char = '\'';

/// The column of a record that has no fields to be told apart.
pub const RECORD: &str = "hd_record";

/// How the file of an entry is written.
pub(super) fn format_of(entry: &FileEntry) -> Result<FileFormat, EngineError> {
    let format = FileFormat::of_entry(entry);
    let format = format.map_err(|why| EngineError::ledger("format", &entry.arrival.path, why))?;
    Ok(format.unwrap_or_default())
}

/// A reject with its fields, as far as they can be told apart.
pub struct ExportedReject {
    /// The reject.
    pub reject: RejectEntry,
    /// The path of its file.
    pub path: String,
    /// Its fields by the names its file has for them; `None` where the record is broken or is JSON.
    pub fields: Option<Vec<(String, String)>>,
    /// The mark of its row.
    pub mark: String,
}

/// Takes rejects of one file apart.
///
/// # Errors
///
/// The ledger does not say how the file is format.
pub fn exported(entry: &FileEntry, rejects: Vec<RejectEntry>) -> Result<Vec<ExportedReject>, EngineError> {
    let format = format_of(entry)?;
    let out = |reject: RejectEntry| ExportedReject {
        fields: fields(&format, &reject),
        mark: mark_of(&format, &reject),
        path: entry.arrival.path.clone(),
        reject,
    };
    Ok(rejects.into_iter().map(out).collect())
}

/// The names of the columns of a reject's table in its file, and the sheet it stands on.
pub(super) fn names_of<'a>(format: &'a FileFormat, reject: &RejectEntry) -> (&'a [String], Option<&'a str>) {
    let sheet = reject.sheet.as_ref();
    match sheet.and_then(|sheet| format.sheets.get_key_value(sheet)) {
        Some((sheet, names)) => (names, Some(sheet)),
        None => (&format.names, None),
    }
}

/// The columns that a corrected row must have: those of its file, or the one that holds its whole record.
pub(super) fn required_columns(format: &FileFormat, reject: &RejectEntry) -> Vec<String> {
    if !matches!(format.format.as_str(), "text" | "workbook") {
        return vec![RECORD.to_owned()];
    }
    let (names, _) = names_of(format, reject);
    header(&TableHead { names: names.to_vec(), ..TableHead::default() }, &[])
}

/// The mark of a reject: a digest of its number, its place, its record and its columns.
pub(super) fn mark_of(format: &FileFormat, reject: &RejectEntry) -> String {
    const DIGITS: usize = 16;
    let mut digest = blake3::Hasher::new();
    let numbers = [reject.reject.to_string(), reject.file.to_string(), reject.line.to_string()];
    for text in numbers.iter().chain(&required_columns(format, reject)) {
        digest.update(text.as_bytes());
        digest.update(&[0]);
    }
    digest.update(&reject.raw);
    digest.finalize().to_hex().chars().take(DIGITS).collect()
}

/// Whether a mark is of an export for spreadsheets; and the mark without what says so.
pub(super) fn guarded_mark(mark: &str) -> (bool, &str) {
    let mark = mark.trim();
    match mark.strip_prefix(GUARDED) {
        Some(mark) => (true, mark),
        None => (false, mark.strip_prefix(EXACT).unwrap_or(mark)),
    }
}

/// Guards a value that a spreadsheet would read as a formula.
fn guarded(value: String) -> String {
    if value.starts_with(['=', '+', '-', '@', '\t', '\r', GUARD]) { format!("{GUARD}{value}") } else { value }
}

/// Removes the guard of a value.
pub(super) fn unguarded(value: String) -> String {
    value.strip_prefix(GUARD).map(str::to_owned).unwrap_or(value)
}

fn fields(format: &FileFormat, reject: &RejectEntry) -> Option<Vec<(String, String)>> {
    let (names, _) = names_of(format, reject);
    let head = TableHead { names: names.to_vec(), ..TableHead::default() };
    let names = header(&head, &[]);
    let raw = String::from_utf8_lossy(&reject.raw).into_owned();
    let values = match (format.format.as_str(), format.dialect) {
        ("text", Some(dialect)) => split(&raw, dialect)?,
        ("workbook", _) => raw.split('\t').map(str::to_owned).collect(),
        _ => return None,
    };
    // What stands beyond the header is kept under names of its own, so that nothing is cut off.
    let beyond = (names.len()..values.len()).map(|at| format!("hd_field_{}", at + 1));
    let names: Vec<String> = names.into_iter().chain(beyond).collect();
    let values = values.into_iter().chain(std::iter::repeat(String::new()));
    Some(names.into_iter().zip(values).collect())
}

/// One record of a delimited text taken apart; `None` where it is no whole record.
fn split(raw: &str, dialect: Dialect) -> Option<Vec<String>> {
    let format_options = TextOptions {
        encoding: Encoding::named("utf-8").ok(),
        dialect: DialectOptions {
            delimiter: Some(dialect.delimiter),
            quote: Some(dialect.quote),
            escape: Some(dialect.escape),
            comment: Some(None),
        },
        table: TableOptions {
            header_lines: Some(0),
            skip_lines: Some(0),
            short_rows: Some(false),
            names: None,
        },
        ..TextOptions::default()
    };
    let source = ByteSource::of_stream(Cursor::new(format!("{raw}\n").into_bytes()));
    let format_options = FormatOptions { text: format_options, ..FormatOptions::default() };
    let opened = hypodoke_formats::open(source, "reject.csv", &format_options, &[]);
    let mut reader = opened.ok()?.reader;
    let mut batch = Vec::new();
    reader.next(&mut batch).ok()?;
    let records = batch.first().filter(|records| records.len() == 1 && records.faults().is_empty())?;
    let text = |field: &Field| String::from_utf8_lossy(records.value(*field)).into_owned();
    let mut values: Vec<String> = records.fields(0).iter().map(text).collect();
    if dialect.trailing_delimiter && values.last().is_some_and(String::is_empty) {
        values.pop();
    }
    Some(values)
}

/// The rejects as CSV, each with what leads back to it; `for_spreadsheet` with values guarded that a spreadsheet would
/// take for formulas.
///
/// # Errors
///
/// They cannot be written.
pub fn export(all: &[ExportedReject], for_spreadsheet: bool) -> Result<Vec<u8>, EngineError> {
    let shown = |value: String| if for_spreadsheet { guarded(value) } else { value };
    let failed = |why: String| EngineError::from(ResubmitProblem::NotWritten(why));
    let mut names: Vec<&str> = Vec::new();
    let mut known: HashSet<&str> = HashSet::new();
    for (name, _) in all.iter().filter_map(|one| one.fields.as_ref()).flatten() {
        if known.insert(name) {
            names.push(name);
        }
    }
    let with_record = all.iter().any(|one| one.fields.is_none());
    let mut out = csv::Writer::from_writer(Vec::new());
    let last = with_record.then_some(RECORD);
    let header = ORIGIN.iter().chain(&names).copied().chain(last).map(|name| shown(name.to_owned()));
    out.write_record(header).map_err(|error| failed(error.to_string()))?;
    for one in all {
        let own: HashMap<&str, &str> =
            one.fields.iter().flatten().map(|(name, value)| (name.as_str(), value.as_str())).collect();
        let raw = String::from_utf8_lossy(&one.reject.raw);
        let values = names.iter().map(|name| own.get(name).copied().unwrap_or_default().to_owned());
        let record = with_record.then(|| if one.fields.is_none() { raw.into_owned() } else { String::new() });
        let origin = one.origin(if for_spreadsheet { GUARDED } else { EXACT });
        out.write_record(origin.into_iter().chain(values).chain(record).map(shown))
            .map_err(|error| failed(error.to_string()))?;
    }
    out.into_inner().map_err(|error| failed(error.to_string()))
}

impl ExportedReject {
    /// The values of the columns of [`ORIGIN`], safe to show: they are read by people, and by nobody else.
    fn origin(&self, kind: &str) -> [String; 7] {
        let reject = &self.reject;
        [
            reject.reject.to_string(),
            format!("{kind}{}", self.mark),
            clean(&self.path),
            reject.line.to_string(),
            clean(reject.column.as_deref().unwrap_or_default()),
            clean(reject.value.as_deref().unwrap_or_default()),
            clean(&reject.reason),
        ]
    }
}

/// Rejects of one column for one reason.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct RejectGroup {
    /// The column, by its name in the file.
    pub column: Option<String>,
    /// The reason.
    pub reason: String,
    /// How many rows.
    pub rows: u64,
    /// In how many files.
    pub files: u64,
    /// The file of the first of them.
    pub path: String,
    /// The line of the first of them.
    pub line: u64,
    /// The value of the first of them.
    pub value: Option<String>,
}

/// Rejects put together by column and reason, the most first.
pub fn reject_groups(found: &[(FileEntry, Vec<RejectEntry>)]) -> Vec<RejectGroup> {
    let mut groups: Vec<RejectGroup> = Vec::new();
    let mut places: HashMap<(Option<&str>, &str), usize> = HashMap::new();
    for (entry, rejects) in found {
        let mut counted: HashSet<usize> = HashSet::new();
        for reject in rejects {
            let at = *places.entry((reject.column.as_deref(), &reject.reason)).or_insert_with(|| {
                groups.push(RejectGroup {
                    column: reject.column.clone(),
                    reason: reject.reason.clone(),
                    rows: 0,
                    files: 0,
                    path: entry.arrival.path.clone(),
                    line: reject.line,
                    value: reject.value.clone(),
                });
                groups.len() - 1
            });
            let Some(group) = groups.get_mut(at) else { continue };
            group.rows += 1;
            group.files += u64::from(counted.insert(at));
        }
    }
    groups.sort_by_key(|group| std::cmp::Reverse(group.rows));
    groups
}
