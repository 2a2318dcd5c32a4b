//! Values that no text of the server's holds.

use hypodoke_core::cast::{Cell, Rows};

/// JSON may spell a NUL, which the server keeps in no text.
pub fn refuse_unstorable(rows: &mut Rows) {
    if memchr::memmem::find(&rows.records.bytes, b"\\u0000").is_none() {
        return;
    }
    let holds = |cell: &Cell| match cell {
        Cell::Text { start, len } => {
            let bytes = rows.bytes(*start, *len);
            matches!(bytes.first(), Some(b'{' | b'[' | b'"'))
                && memchr::memmem::find(bytes, b"\\u0000").is_some()
        }
        _ => false,
    };
    let bad: Vec<usize> = (0..rows.len()).filter(|index| rows.row(*index).iter().any(holds)).collect();
    for index in bad.into_iter().rev() {
        let reject =
            rows.refuse(index, None, "JSON that spells a NUL, which the server cannot keep".to_owned());
        rows.rejects.push(reject);
        rows.kept.remove(index);
    }
}
