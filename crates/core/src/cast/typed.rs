//! Values of a typed source for one column: taken as they are where the column is of their type.

use super::value::{Raw, Reader};
use super::{Cell, Reason};
use crate::record::{Field, Origin, Records};

/// Hands over the values of one column, of the records that nothing is wrong with so far. A value of
/// another type than the column's is read as the text that a file would have of it.
pub fn read_column(
    reader: &mut Reader<'_>,
    records: &mut Records,
    bad: &[bool],
    column: usize,
    mut out: impl FnMut(usize, Result<Cell, Reason>),
) {
    let mut text = Vec::new();
    for at in (0..records.len()).filter(|at| !bad[*at]) {
        let Some(typed) = records.typed() else { return };
        // A column that the batch does not reach is nothing in it.
        let cell = typed.get(at, column).unwrap_or(Cell::Null);
        if let Some(read) = reader.read_typed(cell, &typed.wide) {
            out(at, read);
            continue;
        }
        // A file that declares its types has nulls of its own: `NA` is a text there.
        let is_text = typed.is_declared() && matches!(cell, Cell::Text { .. });
        let place = match cell {
            Cell::Text { start, len } => start as usize..start as usize + len as usize,
            _ => {
                text.clear();
                cell.write(&records.bytes, &typed.wide, &mut text);
                let start = records.bytes.len();
                records.bytes.extend_from_slice(&text);
                start..records.bytes.len()
            }
        };
        let value = records.bytes.get(place.clone()).unwrap_or_default();
        let origin = if is_text { Origin::Text } else { Origin::Plain };
        out(at, reader.read(Raw { at, value, place: Field::new(place, false), origin }));
    }
}
