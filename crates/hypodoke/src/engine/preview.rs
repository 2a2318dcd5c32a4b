//! The first rows of a file, cast as a load would cast them.

use hypodoke_core::cast::{Caster, Cell, Rows};
use hypodoke_core::event::Listener;
use hypodoke_core::spelling::{Number, temporal};
use hypodoke_core::types::Type;

use super::file::{informed, targets};
use super::look::{Way, look};
use super::source::Source;
use super::{Candidate, Feed};
use crate::failure::{Failure, clean};

/// The first rows of a file.
pub struct Preview {
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

/// Looks at the whole file for its types, then casts its first rows.
pub fn preview(
    file: &Candidate,
    feed: &Feed,
    most: usize,
    listener: &dyn Listener,
) -> Result<Preview, Failure> {
    let layout = look(file, feed, Way::alone(), listener)?.layout;
    let approach = informed(&layout, &layout);
    let mut source = Source::open(file, feed, false, listener)?;
    let fields = source.reader.shape().names.len();
    let mut caster = Caster::new(targets(file, feed, &approach.fit, &approach.formats, fields), fields);
    let columns = layout.columns.iter().map(|column| (column.name.clone(), column.ty())).collect();
    let mut found = Vec::new();
    let mut rows = Rows::default();
    while found.len() < most
        && source.reader.next(&mut rows.records).map_err(|error| Failure::reading(&file.shown, &error))?
    {
        rows.records.truncate(most - found.len());
        caster.cast(&mut rows);
        for index in 0..rows.len() {
            let values = rows.row(index).iter().map(|cell| text_of(*cell, &rows)).collect();
            found.push(PreviewRow { line: rows.line(index), values: Ok(values) });
        }
        for reject in &rows.rejects {
            let place =
                reject.column.as_ref().map(|column| format!("{} ", clean(column))).unwrap_or_default();
            let value =
                reject.value.as_ref().map(|value| format!("`{}`: ", clean(value))).unwrap_or_default();
            let reason = format!("{place}{value}{}", reject.reason);
            found.push(PreviewRow { line: reject.line, values: Err(reason) });
        }
    }
    found.sort_by_key(|row| row.line);
    Ok(Preview { columns, rows: found })
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
