//! The first rows of a file, cast as a load would cast them.

use hypodoke_core::cast::{Cell, Rows, settle};
use hypodoke_core::evidence::Decision;
use hypodoke_core::layout::Reading;
use hypodoke_core::names::Lineage;
use hypodoke_core::sanitize::clean;
use hypodoke_core::spelling::{Number, temporal};
use hypodoke_core::types::Type;

use crate::decide::FailReason;
use crate::error::EngineError;
use crate::event::Listener;
use crate::isolate::isolated;
use crate::job::{Candidate, Feed};
use crate::plan::TableMapping;
use crate::profile::{FileProfile, FormatHints, ProfileOptions, Source, TableProfile, profile_file};

/// The first rows of one of a file's tables.
pub struct Preview {
    /// Where in the file the table stands; empty for its main table.
    pub path: String,
    /// The columns and their types.
    pub columns: Vec<(String, Type)>,
    /// The rows, rejects among them.
    pub rows: Vec<PreviewRow>,
}

/// One row.
pub struct PreviewRow {
    /// Its line.
    pub line: u64,
    /// Its values as text, or why it would be rejected.
    pub values: Result<Vec<Option<String>>, String>,
}

/// Profiles the whole file for its types, then casts the first rows of each of its tables.
/// `hints` is asked only where the file's values leave open how they are written.
///
/// # Errors
///
/// The file cannot be read, or what the feed says of columns does not fit them.
pub fn preview(
    file: &Candidate,
    feed: &Feed,
    most: usize,
    hints: impl FnOnce() -> FormatHints,
    listener: &dyn Listener,
) -> Result<Vec<Preview>, EngineError> {
    let whole = ProfileOptions::whole();
    let mut profile = profile_file(file, feed, whole, &FormatHints::default(), listener)?;
    let is_guess = |decision: &Decision| decision.reading == Reading::Guessed;
    if profile.tables.iter().any(|table| table.decisions.iter().any(is_guess)) {
        let hints = hints();
        if profile.tables.iter().any(|table| hints.is_broken_by(table)) {
            profile = profile_file(file, feed, whole, &hints, listener)?;
        }
    }
    let previews = isolated(|| first_rows(file, feed, most, &profile, listener));
    previews.unwrap_or_else(|reason| Err(EngineError::unloadable(&file.shown, reason)))
}

fn first_rows(
    file: &Candidate,
    feed: &Feed,
    most: usize,
    profile: &FileProfile,
    listener: &dyn Listener,
) -> Result<Vec<Preview>, EngineError> {
    let mut source = Source::open(file, feed, false, &profile.heads(), listener)?;
    let mapping = |table: &TableProfile| {
        let lineage = if table.head.is_child { Lineage::Children } else { Lineage::Rows };
        let name = feed.table_of(&table.head.path);
        TableMapping::without_policy(name, &table.head, &table.layout, &table.layout, lineage)
    };
    let mappings: Vec<TableMapping> = profile.tables.iter().map(mapping).collect();
    let casters = mappings.iter().map(|table| table.caster(file, feed)).collect::<Result<Vec<_>, _>>();
    let mut casters =
        casters.map_err(|problem| EngineError::unloadable(&file.shown, FailReason::Constraint(problem)))?;
    let paths: Vec<String> = mappings.iter().map(|table| table.head.path.clone()).collect();
    let mut previews: Vec<Preview> = mappings.iter().map(empty).collect();
    let mut batch = Vec::new();
    while wants_more(&previews, profile, most)
        && source.reader.next(&mut batch).map_err(|error| EngineError::reading(&file.shown, error))?
    {
        let mut rows: Vec<Rows> =
            batch.drain(..).map(|records| Rows { records, ..Rows::default() }).collect();
        casters.iter_mut().zip(&mut rows).for_each(|(caster, rows)| caster.cast(rows));
        settle(&mut rows, &paths);
        for (preview, rows) in previews.iter_mut().zip(&rows) {
            preview.add(rows);
        }
    }
    for preview in &mut previews {
        preview.rows.sort_by_key(|row| row.line);
        preview.rows.truncate(most);
    }
    previews.drain(..usize::from(profile.is_virtual));
    Ok(previews)
}

fn empty(table: &TableMapping) -> Preview {
    let columns = table.fit.layout.columns.iter().map(|column| (column.name.clone(), column.ty()));
    Preview { path: table.head.path.clone(), columns: columns.collect(), rows: Vec::new() }
}

/// Sheets come one after another, so that all of them are read until each has its rows.
fn wants_more(previews: &[Preview], profile: &FileProfile, most: usize) -> bool {
    let own = profile.tables.iter().zip(previews).skip(usize::from(profile.is_virtual));
    own.filter(|(table, _)| !table.head.is_child)
        .any(|(table, preview)| (preview.rows.len() as u64) < table.evidence.rows.min(most as u64))
}

impl Preview {
    fn add(&mut self, rows: &Rows) {
        for index in 0..rows.len() {
            let values = rows.row(index).iter().map(|cell| text_of(*cell, rows)).collect();
            self.rows.push(PreviewRow { line: rows.line(index), values: Ok(values) });
        }
        for reject in &rows.rejects {
            let place =
                reject.column.as_ref().map(|column| format!("{} ", clean(column))).unwrap_or_default();
            let value =
                reject.value.as_ref().map(|value| format!("`{}`: ", clean(value))).unwrap_or_default();
            let reason = format!("{place}{value}{}", reject.reason);
            self.rows.push(PreviewRow { line: reject.line, values: Err(reason) });
        }
    }
}

fn text_of(cell: Cell, rows: &Rows) -> Option<String> {
    let mut out = Vec::new();
    match cell {
        Cell::Null => return None,
        Cell::Boolean(value) => return Some(value.to_string()),
        Cell::Integer(value) => return Some(value.to_string()),
        Cell::Float(value) => return Some(format!("{value:?}")),
        Cell::Decimal { mantissa, scale } => {
            return Some(Number { mantissa: mantissa as i128, scale: scale as u16 }.to_string());
        }
        Cell::Wide { index, scale } => return Some(rows.wide(index, scale).to_string()),
        Cell::Date(days) => temporal::write_date(days, &mut out),
        Cell::Time(micros) => temporal::write_time(micros, &mut out),
        Cell::Timestamp(micros) => temporal::write_timestamp(micros, &mut out),
        Cell::TimestampTz(micros) => {
            temporal::write_timestamp(micros, &mut out);
            out.extend_from_slice(b"+00:00");
        }
        Cell::Text { start, len } => out.extend_from_slice(rows.bytes(start, len)),
        Cell::Uuid { start } => out.extend_from_slice(rows.bytes(start, 36)),
    }
    Some(String::from_utf8_lossy(&out).into_owned())
}
