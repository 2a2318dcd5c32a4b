//! Fields without a column of their own, put together as one JSON object.

use super::{Cell, Rows};
use crate::record::Origin;
use crate::spelling::{trim, words};

/// Fills a column with objects of these fields. Every value is kept as the text it is, so that
/// none is changed; those that are nothing are left out, and a record of nothing is null.
pub fn fill(rows: &mut Rows, column: usize, fields: &[(String, usize)]) {
    let mut object = serde_json::Map::new();
    let mut scratch = Vec::new();
    for at in 0..rows.records.len() {
        object.clear();
        for (name, field) in fields {
            let Some((text, origin)) = rows.records.text(at, *field, &mut scratch) else { continue };
            if origin == Origin::Missing || words::null_index(trim(text)) == Some(words::EMPTY) {
                continue;
            }
            object.insert(name.clone(), String::from_utf8_lossy(text).into_owned().into());
        }
        if object.is_empty() {
            continue;
        }
        // A map of texts always has a spelling.
        let text = serde_json::to_string(&object).unwrap_or_default();
        let start = rows.records.bytes.len();
        rows.records.bytes.extend_from_slice(text.as_bytes());
        let width = rows.width;
        rows.cells[at * width + column] = Cell::text(start..rows.records.bytes.len());
    }
}
