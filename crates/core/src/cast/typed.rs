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
    let (mut text, many) = (Vec::new(), records.len());
    let Some((typed, bytes)) = records.typed_with_bytes() else { return };
    let cells = typed.column(column);
    // A file that declares its types has nulls of its own: `NA` is a text there.
    let is_declared = typed.is_declared();
    let texts_pass = is_declared && reader.takes_texts_as_they_are();
    for at in (0..many).filter(|at| !bad[*at]) {
        // A column that the batch does not reach is nothing in it.
        let cell = cells.get(at).copied().unwrap_or(Cell::Null);
        if texts_pass && matches!(cell, Cell::Text { .. }) {
            out(at, Ok(cell));
            continue;
        }
        if let Some(read) = reader.read_typed(cell, &typed.wide) {
            out(at, read);
            continue;
        }
        let is_text = matches!(cell, Cell::Text { .. });
        let place = match cell {
            Cell::Text { start, len } => start as usize..start as usize + len as usize,
            _ => {
                text.clear();
                cell.write(bytes, &typed.wide, &mut text);
                let start = bytes.len();
                bytes.extend_from_slice(&text);
                start..bytes.len()
            }
        };
        let value = bytes.get(place.clone()).unwrap_or_default();
        let origin = if is_text && is_declared { Origin::Text } else { Origin::Plain };
        out(at, reader.read(Raw { at, value, place: Field::new(place, false), origin }));
    }
}
