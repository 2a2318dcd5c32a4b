//! The binary COPY format: rows as the server takes them, straight from the casters' cells.
//!
//! The format is described in PostgreSQL's manual under COPY, "Binary Format"; that of each
//! value is what its type's receive function reads.

use bytes::{BufMut, BytesMut};
use hypodoke_core::cast::{Cell, Rows};
use hypodoke_core::names::Lineage;
use hypodoke_core::spelling::temporal;
use tokio_postgres::types::Type as Native;

/// Days from 1970-01-01 to 2000-01-01, from which PostgreSQL counts.
const EPOCH_DAYS: i32 = 10_957;

/// The same in microseconds.
const EPOCH_MICROS: i64 = EPOCH_DAYS as i64 * 86_400_000_000;

/// What begins a binary COPY: its signature, no flags, no header extension.
pub const HEADER: &[u8] = b"PGCOPY\n\xFF\r\n\0\0\0\0\0\0\0\0\0";

/// What ends it.
pub const TRAILER: i16 = -1;

/// How a column takes its values.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Wire {
    /// One byte.
    Bool,
    /// Whole numbers of 2, 4 or 8 bytes.
    Int(u8),
    /// Floats of 4 or 8 bytes.
    Float(u8),
    /// Base ten thousand.
    Numeric,
    /// Days.
    Date,
    /// Microseconds of a day.
    Time,
    /// Microseconds, with or without a zone.
    Timestamp,
    /// Sixteen bytes.
    Uuid,
    /// A version and a text.
    Jsonb,
    /// Its text.
    Text,
}

impl Wire {
    /// How a native type takes its values; `None` for one whose binary form is not known here.
    pub fn of(native: &Native) -> Option<Wire> {
        Some(match *native {
            Native::BOOL => Wire::Bool,
            Native::INT2 => Wire::Int(2),
            Native::INT4 => Wire::Int(4),
            Native::INT8 => Wire::Int(8),
            Native::FLOAT4 => Wire::Float(4),
            Native::FLOAT8 => Wire::Float(8),
            Native::NUMERIC => Wire::Numeric,
            Native::DATE => Wire::Date,
            Native::TIME => Wire::Time,
            Native::TIMESTAMP | Native::TIMESTAMPTZ => Wire::Timestamp,
            Native::UUID => Wire::Uuid,
            Native::JSONB => Wire::Jsonb,
            Native::TEXT | Native::VARCHAR | Native::BPCHAR | Native::JSON | Native::NAME => Wire::Text,
            _ => return None,
        })
    }
}

/// How rows are sent to a table.
pub struct CopyForm {
    /// The COPY.
    pub sql: String,
    /// How each column takes its values.
    pub wires: Vec<Wire>,
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

/// Puts a row into the buffer. What leads back to its file comes behind its cells, and where rows
/// are staged, their number.
#[inline]
pub fn put_row(out: &mut BytesMut, rows: &Rows, index: usize, wires: &[Wire], origin: RowOrigin) {
    let RowOrigin { file, lineage, sequence } = origin;
    let cells = rows.row(index);
    let count = cells.len() + lineage.columns().len() + usize::from(sequence.is_some());
    out.put_i16(count as i16);
    for (cell, wire) in cells.iter().zip(wires) {
        put_cell(out, *cell, *wire, rows);
    }
    if lineage.is_kept() {
        put_long(out, file);
        put_long(out, rows.line(index) as i64);
    }
    if lineage == Lineage::Children {
        let link = rows.link(index);
        put_long(out, link.row as i64);
        put_long(out, link.parent as i64);
        put_long(out, link.position as i64);
    }
    if let Some(sequence) = sequence {
        put_long(out, sequence as i64);
    }
}

#[inline]
fn put_long(out: &mut BytesMut, value: i64) {
    put_sized::<8, 12>(out, value.to_be_bytes());
}

/// A value of a known size behind its size, put down in one go. `ALL` is `SIZE` and four.
#[inline]
fn put_sized<const SIZE: usize, const ALL: usize>(out: &mut BytesMut, value: [u8; SIZE]) {
    let mut both = [0; ALL];
    both[..4].copy_from_slice(&(SIZE as u32).to_be_bytes());
    both[4..].copy_from_slice(&value);
    out.put_slice(&both);
}

#[inline]
fn put_cell(out: &mut BytesMut, cell: Cell, wire: Wire, rows: &Rows) {
    match (cell, wire) {
        (Cell::Null, _) => out.put_i32(-1),
        (Cell::Text { start, len }, Wire::Text) => put_bytes(out, rows.bytes(start, len)),
        (Cell::Text { start, len }, Wire::Jsonb) => {
            out.put_i32(len as i32 + 1);
            out.put_u8(1);
            out.put_slice(rows.bytes(start, len));
        }
        (Cell::Integer(value), Wire::Int(8)) => put_long(out, value),
        (Cell::Integer(value), Wire::Int(4)) => put_sized::<4, 8>(out, (value as i32).to_be_bytes()),
        (Cell::Integer(value), Wire::Int(_)) => put_sized::<2, 6>(out, (value as i16).to_be_bytes()),
        (Cell::Integer(value), Wire::Numeric) => put_numeric(out, i128::from(value), 0),
        (Cell::Decimal { mantissa, scale }, Wire::Numeric) => put_numeric(out, i128::from(mantissa), scale),
        (Cell::Wide { index, scale }, Wire::Numeric) => put_numeric(out, rows.wide[index as usize], scale),
        (Cell::Float(value), Wire::Float(4)) => put_sized::<4, 8>(out, (value as f32).to_be_bytes()),
        (Cell::Float(value), _) => put_sized::<8, 12>(out, value.to_be_bytes()),
        (Cell::Boolean(value), Wire::Bool) => put_sized::<1, 5>(out, [u8::from(value)]),
        (Cell::Date(days), Wire::Date) => put_sized::<4, 8>(out, (days - EPOCH_DAYS).to_be_bytes()),
        (Cell::Time(micros), Wire::Time) => put_long(out, micros),
        (Cell::Timestamp(micros) | Cell::TimestampTz(micros), Wire::Timestamp) => {
            put_long(out, micros - EPOCH_MICROS);
        }
        (Cell::Uuid { start }, Wire::Uuid) => put_uuid(out, rows.bytes(start, 36)),
        (other, _) => put_written(out, other, rows),
    }
}

#[inline]
fn put_bytes(out: &mut BytesMut, bytes: &[u8]) {
    out.put_i32(bytes.len() as i32);
    out.put_slice(bytes);
}

/// A value as text, for a column of text that somebody else chose.
fn put_written(out: &mut BytesMut, cell: Cell, rows: &Rows) {
    let mut text = Vec::new();
    match cell {
        Cell::Integer(value) => text.extend_from_slice(value.to_string().as_bytes()),
        Cell::Boolean(value) => text.extend_from_slice(value.to_string().as_bytes()),
        Cell::Date(days) => temporal::write_date(days, &mut text),
        Cell::Time(micros) => temporal::write_time(micros, &mut text),
        Cell::Timestamp(micros) | Cell::TimestampTz(micros) => temporal::write_timestamp(micros, &mut text),
        Cell::Uuid { start } => text.extend_from_slice(rows.bytes(start, 36)),
        Cell::Decimal { mantissa, scale } => {
            let number =
                hypodoke_core::spelling::Number { mantissa: i128::from(mantissa), scale: u16::from(scale) };
            text.extend_from_slice(number.to_string().as_bytes());
        }
        _ => {}
    }
    put_bytes(out, &text);
}

fn put_uuid(out: &mut BytesMut, text: &[u8]) {
    let mut bytes = [0u8; 16];
    let digits = text.iter().filter_map(|b| (*b as char).to_digit(16));
    for (at, digit) in digits.take(32).enumerate() {
        bytes[at / 2] |= (digit as u8) << if at % 2 == 0 { 4 } else { 0 };
    }
    put_bytes(out, &bytes);
}

/// A decimal: how many digits of base ten thousand, the weight of the first, the sign, the
/// digits behind the point that are shown, and the digits.
#[inline]
fn put_numeric(out: &mut BytesMut, mantissa: i128, scale: u8) {
    let mut digits = [0u16; 12];
    let scale = u32::from(scale);
    // The point stands between digits of base ten thousand, so the last one is filled up.
    let fill = (4 - scale % 4) % 4;
    let count = split(mantissa.unsigned_abs(), fill as usize, &mut digits);
    let behind = scale.div_ceil(4) as i16;
    let trailing = digits[..count].iter().take_while(|digit| **digit == 0).count();
    let kept = &digits[trailing..count];
    let mut value = [0u8; 4 + 8 + 2 * 12];
    let head = [
        8 + 2 * kept.len() as u32,
        (kept.len() as u32) << 16 | u32::from((count as i16 - 1 - behind) as u16),
        if mantissa < 0 { 0x4000 << 16 } else { 0 } | scale,
    ];
    for (at, part) in head.into_iter().enumerate() {
        value[4 * at..4 * at + 4].copy_from_slice(&part.to_be_bytes());
    }
    for (at, digit) in kept.iter().rev().enumerate() {
        value[12 + 2 * at..14 + 2 * at].copy_from_slice(&digit.to_be_bytes());
    }
    out.put_slice(&value[..12 + 2 * kept.len()]);
}

/// Splits a number into digits of base ten thousand, the last one first, which takes so many digits
/// of ten less than four; how many there are.
#[inline]
fn split(whole: u128, fill: usize, digits: &mut [u16; 12]) -> usize {
    const TENS: [u16; 5] = [1, 10, 100, 1000, 10_000];
    // Filled up digit by digit: 38 digits and three more would not fit.
    let (part, up) = (TENS[4 - fill], TENS[fill]);
    // Division of 128 bits is slow, and most numbers are short.
    let (first, mut rest) = match u64::try_from(whole) {
        Ok(short) => (short % u64::from(part), u128::from(short / u64::from(part))),
        Err(_) => ((whole % u128::from(part)) as u64, whole / u128::from(part)),
    };
    digits[0] = first as u16 * up;
    let mut count = 1;
    while rest > u128::from(u64::MAX) {
        digits[count] = (rest % 10_000) as u16;
        rest /= 10_000;
        count += 1;
    }
    let mut rest = rest as u64;
    while rest > 0 {
        digits[count] = (rest % 10_000) as u16;
        rest /= 10_000;
        count += 1;
    }
    count
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// What a numeric of the wire says.
    fn read(bytes: &[u8]) -> String {
        let short = |at: usize| i16::from_be_bytes([bytes[4 + at], bytes[5 + at]]);
        let (count, weight, scale) = (short(0), short(2), short(6));
        let mut value = 0i128;
        for at in 0..count as usize {
            value = value * 10_000 + i128::from(short(8 + 2 * at));
        }
        let mut power = i32::from(weight) - i32::from(count) + 1;
        while power > 0 {
            value *= 10_000;
            power -= 1;
        }
        let behind = (-power * 4) as usize;
        let digits = format!("{value:0>width$}", width = behind + 1);
        let (whole, part) = digits.split_at(digits.len() - behind);
        let part = format!("{part:0<38}");
        let sign = if short(4) == 0x4000 { "-" } else { "" };
        let point = if scale > 0 { "." } else { "" };
        format!("{sign}{whole}{point}{}", &part[..scale as usize])
    }

    #[rstest]
    #[case(0, 0, "0")]
    #[case(0, 2, "0.00")]
    #[case(5, 2, "0.05")]
    #[case(-123_456, 2, "-1234.56")]
    #[case(10_000, 0, "10000")]
    #[case(120_000_000, 4, "12000.0000")]
    #[case(1, 5, "0.00001")]
    #[case(i128::from(u64::MAX) + 1, 0, "18446744073709551616")]
    #[case(99_999_999_999_999_999_999_999_999_999_999_999, 3, "99999999999999999999999999999999.999")]
    fn decimals_are_written_in_base_ten_thousand(
        #[case] mantissa: i128,
        #[case] scale: u8,
        #[case] expected: &str,
    ) {
        let mut out = BytesMut::new();
        put_numeric(&mut out, mantissa, scale);
        assert_eq!(read(&out), expected);
        assert_eq!(out.len() - 4, i32::from_be_bytes([out[0], out[1], out[2], out[3]]) as usize);
    }
}
