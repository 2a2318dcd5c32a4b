//! Files of corrected rejects, as they come back.

use std::collections::{BTreeMap, HashMap};
use std::fs::File;
use std::path::Path;

use hypodoke_core::record::{Field, Records};
use hypodoke_formats::text::{TableOptions, TextOptions};
use hypodoke_formats::{ByteSource, FormatOptions, RecordReader};

use super::rejects::{MARK, RECORD, REJECT, guarded_mark, unguarded};
use crate::error::{EngineError, ResubmitProblem};

/// A corrected row.
#[derive(Clone, Debug)]
pub struct CorrectedRow {
    /// The reject that it corrects.
    pub reject: i64,
    /// Its line in the file of corrected rows.
    pub line: u64,
    /// The mark that its reject was exported with.
    pub mark: String,
    /// Its values by the names of the columns.
    pub values: HashMap<String, String>,
}

impl CorrectedRow {
    /// Its values as JSON, without the columns that say where it came from.
    pub fn as_json(&self) -> String {
        let own = |name: &str| !name.starts_with("hd_") || name == RECORD;
        let values: BTreeMap<&String, &String> = self.values.iter().filter(|(name, _)| own(name)).collect();
        serde_json::json!(values).to_string()
    }

    /// Whether nothing is in it but where it came from.
    pub fn is_blank(&self) -> bool {
        self.values.iter().all(|(name, value)| value.trim().is_empty() || name.starts_with("hd_"))
    }
}

/// Reads a file of corrected rejects. Nothing is left out of it: a line that is no row is an error.
///
/// # Errors
///
/// The file cannot be read, or a line of it does not lead back to a reject.
pub fn read_corrected(path: &Path) -> Result<Vec<CorrectedRow>, EngineError> {
    let shown = path.display().to_string();
    let unreadable = |why: String| ResubmitProblem::Unreadable { shown: shown.clone(), why };
    let file = File::open(path).map_err(|error| unreadable(error.to_string()))?;
    let table = TableOptions { header_lines: Some(1), skip_lines: Some(0), ..TableOptions::default() };
    let format_options =
        FormatOptions { text: TextOptions { table, ..TextOptions::default() }, ..FormatOptions::default() };
    let failed = |error| EngineError::reading(&shown, error);
    let mut reader =
        hypodoke_formats::open(ByteSource::of_stream(file), "corrected.csv", &format_options, &[])
            .map_err(failed)?
            .reader;
    let columns = Columns::of(reader.as_ref(), &shown)?;
    let mut rows = Vec::new();
    let mut batch = Vec::new();
    while reader.next(&mut batch).map_err(failed)? {
        for records in batch.iter().take(1) {
            for at in 0..records.len() {
                rows.push(columns.row(records, at, &shown)?);
            }
        }
    }
    match reader.footer().into_iter().next() {
        Some(line) => Err(ResubmitProblem::NoRow { shown, line }.into()),
        None => Ok(rows),
    }
}

/// The columns of a file of corrected rejects.
struct Columns {
    names: Vec<String>,
    /// How many of them have a name.
    named: usize,
    /// The one that leads back to the rejects.
    key: String,
    /// The one that their marks stand in.
    mark: String,
}

impl Columns {
    fn of(reader: &dyn RecordReader, shown: &str) -> Result<Columns, ResubmitProblem> {
        let names = reader.tables().first().map(|head| head.names.clone()).unwrap_or_default();
        let key = names.iter().find(|name| name.trim() == REJECT).cloned();
        let key = key.ok_or_else(|| ResubmitProblem::NoRejectColumn { shown: shown.to_owned() })?;
        let mark = names.iter().find(|name| name.trim() == MARK).cloned();
        let mark = mark.ok_or_else(|| ResubmitProblem::NoMarkColumn { shown: shown.to_owned() })?;
        let named = names.iter().filter(|name| !name.trim().is_empty()).count();
        Ok(Columns { names, named, key, mark })
    }

    fn row(&self, records: &Records, at: usize, shown: &str) -> Result<CorrectedRow, ResubmitProblem> {
        let line = records.line(at);
        let found = records.fields(at).len();
        let shown = shown.to_owned();
        if records.fault(at).is_some() || found > self.named {
            return Err(ResubmitProblem::OtherWidth { shown, line, found, expected: self.named });
        }
        let text = |field: &Field| String::from_utf8_lossy(records.value(*field)).into_owned();
        let mut values: HashMap<String, String> =
            self.names.iter().cloned().zip(records.fields(at).iter().map(text)).collect();
        let mark = values.get(&self.mark).cloned().unwrap_or_default();
        let (is_guarded, mark) = guarded_mark(&mark);
        let mark = mark.to_owned();
        if is_guarded {
            values = values.into_iter().map(|(name, value)| (unguarded(name), unguarded(value))).collect();
        }
        let key = values.get(&self.key).map(String::as_str).unwrap_or_default();
        match key.trim().parse() {
            Ok(reject) => Ok(CorrectedRow { reject, line, mark, values }),
            Err(_) => Err(ResubmitProblem::NoNumber { shown, line, found: key.to_owned() }),
        }
    }
}
