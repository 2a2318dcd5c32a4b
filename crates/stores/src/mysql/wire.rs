//! Rows as LOAD DATA reads them, and as values of an INSERT: straight from the casters' cells.
//!
//! Fields are parted by tabs and lines by line feeds, as is LOAD DATA's own custom; what would be taken for
//! one of them stands behind a backslash (MySQL Reference Manual, "LOAD DATA Statement").

use hypodoke_core::cast::{Cell, Rows};
use hypodoke_core::names::Lineage;
use hypodoke_core::spelling::temporal;

/// How a column takes its values.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wire {
    /// Numbers, truth values among them.
    Number,
    /// Days, times and moments.
    Moment,
    /// Texts.
    Text,
    /// Bits, which are given as a number.
    Bits,
}

/// What leads back from a row to its file, as far as its table keeps it.
#[derive(Clone, Copy, Debug)]
pub struct RowOrigin {
    /// The file's number in the ledger.
    pub file: i64,
    /// The lineage columns of the table.
    pub lineage: Lineage,
    /// The row's own number, where rows are staged.
    pub sequence: Option<u64>,
}

/// How rows are spelled.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Spelling {
    /// As a line for LOAD DATA.
    Line,
    /// As the values of an INSERT.
    Values,
}

impl Spelling {
    fn null(self) -> &'static [u8] {
        match self {
            Spelling::Line => b"\\N",
            Spelling::Values => b"NULL",
        }
    }

    fn between(self) -> u8 {
        match self {
            Spelling::Line => b'\t',
            Spelling::Values => b',',
        }
    }
}

/// Puts a row into the buffer. What leads back to its file comes behind its cells, and where rows
/// are staged, their number.
pub fn put_row(
    out: &mut Vec<u8>,
    spelling: Spelling,
    (rows, index): (&Rows, usize),
    wires: &[Wire],
    origin: RowOrigin,
) {
    let RowOrigin { file, lineage, sequence } = origin;
    if spelling == Spelling::Values {
        out.push(b'(');
    }
    let begin = out.len();
    for (cell, wire) in rows.row(index).iter().zip(wires) {
        put_cell(out, spelling, *cell, *wire, rows);
        out.push(spelling.between());
    }
    let mut number = |value: i64| {
        put_integer(out, value);
        out.push(spelling.between());
    };
    if lineage.is_kept() {
        number(file);
        number(rows.line(index) as i64);
    }
    if lineage == Lineage::Children {
        let link = rows.link(index);
        number(link.row as i64);
        number(link.parent as i64);
        number(link.position as i64);
    }
    if let Some(sequence) = sequence {
        number(sequence as i64);
    }
    // The last mark ends the row.
    if out.len() > begin {
        out.pop();
    }
    out.push(if spelling == Spelling::Values { b')' } else { b'\n' });
}

#[inline]
fn put_cell(out: &mut Vec<u8>, spelling: Spelling, cell: Cell, wire: Wire, rows: &Rows) {
    match cell {
        Cell::Null => out.extend_from_slice(spelling.null()),
        Cell::Text { start, len } => put_text(out, spelling, rows.bytes(start, len)),
        Cell::Uuid { start } => put_text(out, spelling, rows.bytes(start, 36)),
        Cell::Integer(value) => put_integer(out, value),
        Cell::Boolean(value) if wire != Wire::Text => out.push(b'0' + u8::from(value)),
        Cell::Decimal { mantissa, scale } => put_decimal(out, mantissa, usize::from(scale)),
        // Instants are kept in UTC, and their columns take no zone.
        Cell::TimestampTz(micros) if wire != Wire::Text => {
            quoted(out, spelling, |out| temporal::write_timestamp(micros, out));
        }
        Cell::Wide { .. } => cell.write(&rows.records.bytes, &rows.wide, out),
        other => quoted(out, spelling, |out| other.write(&rows.records.bytes, &rows.wide, out)),
    }
}

#[inline]
fn quoted(out: &mut Vec<u8>, spelling: Spelling, write: impl FnOnce(&mut Vec<u8>)) {
    if spelling == Spelling::Line {
        return write(out);
    }
    out.push(b'\'');
    write(out);
    out.push(b'\'');
}

#[inline]
fn put_integer(out: &mut Vec<u8>, value: i64) {
    out.extend_from_slice(itoa::Buffer::new().format(value).as_bytes());
}

#[inline]
fn put_decimal(out: &mut Vec<u8>, mantissa: i64, scale: usize) {
    if mantissa < 0 {
        out.push(b'-');
    }
    let mut buffer = itoa::Buffer::new();
    let digits = buffer.format(mantissa.unsigned_abs()).as_bytes();
    let whole = digits.len().saturating_sub(scale);
    if scale == 0 {
        return out.extend_from_slice(digits);
    }
    if whole == 0 {
        out.push(b'0');
    }
    out.extend_from_slice(&digits[..whole]);
    out.push(b'.');
    out.resize(out.len() + scale.saturating_sub(digits.len()), b'0');
    out.extend_from_slice(&digits[whole..]);
}

/// What stands for a byte that would be taken for a mark; 0 for those that are not.
const fn escape(spelling: Spelling) -> [u8; 256] {
    let mut all = [0; 256];
    all[b'\\' as usize] = b'\\';
    all[0] = b'0';
    match spelling {
        Spelling::Line => {
            all[b'\t' as usize] = b't';
            all[b'\n' as usize] = b'n';
        }
        Spelling::Values => {
            all[b'\'' as usize] = b'\'';
            all[0x1A] = b'Z';
        }
    }
    all
}

static IN_LINE: [u8; 256] = escape(Spelling::Line);
static IN_VALUES: [u8; 256] = escape(Spelling::Values);

#[inline]
fn put_text(out: &mut Vec<u8>, spelling: Spelling, text: &[u8]) {
    let escapes = match spelling {
        Spelling::Line => &IN_LINE,
        Spelling::Values => {
            out.push(b'\'');
            &IN_VALUES
        }
    };
    let mut from = 0;
    for (at, byte) in text.iter().enumerate() {
        let spelled = escapes[usize::from(*byte)];
        if spelled != 0 {
            out.extend_from_slice(&text[from..at]);
            out.extend_from_slice(&[b'\\', spelled]);
            from = at + 1;
        }
    }
    out.extend_from_slice(&text[from..]);
    if spelling == Spelling::Values {
        out.push(b'\'');
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn text(write: impl FnOnce(&mut Vec<u8>)) -> String {
        let mut out = Vec::new();
        write(&mut out);
        String::from_utf8(out).expect("text")
    }

    #[rstest]
    #[case(0, 0, "0")]
    #[case(0, 2, "0.00")]
    #[case(-5, 2, "-0.05")]
    #[case(12, 2, "0.12")]
    #[case(-12345, 2, "-123.45")]
    #[case(i64::MIN, 18, "-9.223372036854775808")]
    fn decimals_are_spelled_with_all_their_digits(
        #[case] mantissa: i64,
        #[case] scale: usize,
        #[case] expected: &str,
    ) {
        assert_eq!(text(|out| put_decimal(out, mantissa, scale)), expected);
    }

    #[rstest]
    #[case(Spelling::Line, "a\tb\nc\\d\0e'f", "a\\tb\\nc\\\\d\\0e'f")]
    #[case(Spelling::Values, "a\tb\nc\\d\0e'f\u{1a}", "'a\tb\nc\\\\d\\0e\\'f\\Z'")]
    #[case(Spelling::Line, "\\N", "\\\\N")]
    fn no_text_passes_for_a_mark(#[case] spelling: Spelling, #[case] value: &str, #[case] expected: &str) {
        assert_eq!(text(|out| put_text(out, spelling, value.as_bytes())), expected);
    }
}
