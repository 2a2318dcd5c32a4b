//! Rows written down compactly, and read again: what a file's rows were when they were loaded.
//!
//! A block begins with its columns as JSON behind their length; then comes row after row: its line,
//! how it hangs on its parent where it is one of a child table, and its cells, each a tag and its
//! value. Whole numbers are written seven bits a byte, the lowest first.

use super::{Cell, Rows};
use crate::record::Link;
use crate::spelling::{Class, Number, NumberStyle, number, temporal};
use crate::types::{Type, Unit};

/// The columns of a block: their names and types.
pub type PackedColumns = Vec<(String, Type)>;

/// A block that does not read as it was written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Damaged;

const NULL: u8 = 0;
const FALSE: u8 = 1;
const TRUE: u8 = 2;
const INTEGER: u8 = 3;
const DECIMAL: u8 = 4;
const WIDE: u8 = 5;
const FLOAT: u8 = 6;
const DATE: u8 = 7;
const TIME: u8 = 8;
const TIMESTAMP: u8 = 9;
const TIMESTAMP_TZ: u8 = 10;
const TEXT: u8 = 11;
const UUID: u8 = 12;

fn put_count(mut value: u64, out: &mut Vec<u8>) {
    while value >= 0x80 {
        out.push(value as u8 | 0x80);
        value >>= 7;
    }
    out.push(value as u8);
}

fn put_signed(value: i64, out: &mut Vec<u8>) {
    put_count(((value << 1) ^ (value >> 63)) as u64, out);
}

/// Begins a block of rows with these columns.
pub fn begin(columns: &PackedColumns, out: &mut Vec<u8>) {
    // Names and types are always JSON.
    let text = serde_json::to_vec(columns).unwrap_or_default();
    put_count(text.len() as u64, out);
    out.extend_from_slice(&text);
}

/// Adds a row; of a child table's, with how it hangs on its parent.
pub fn put_row(rows: &Rows, index: usize, is_child: bool, out: &mut Vec<u8>) {
    put_count(rows.line(index), out);
    if is_child {
        let link = rows.link(index);
        [link.row, link.parent, link.position].into_iter().for_each(|number| put_count(number, out));
    }
    rows.row(index).iter().for_each(|cell| put_cell(*cell, rows, out));
}

/// Writes a cell down so that equal values of a column are equal bytes.
pub fn put_cell(cell: Cell, rows: &Rows, out: &mut Vec<u8>) {
    let mut signed = |tag: u8, value: i64| {
        out.push(tag);
        put_signed(value, out);
    };
    match cell {
        Cell::Null => out.push(NULL),
        Cell::Boolean(value) => out.push(if value { TRUE } else { FALSE }),
        Cell::Integer(value) => signed(INTEGER, value),
        Cell::Date(days) => signed(DATE, days.into()),
        Cell::Time(micros) => signed(TIME, micros),
        Cell::Timestamp(micros) => signed(TIMESTAMP, micros),
        Cell::TimestampTz(micros) => signed(TIMESTAMP_TZ, micros),
        Cell::Decimal { mantissa, scale } => {
            out.extend_from_slice(&[DECIMAL, scale]);
            put_signed(mantissa, out);
        }
        Cell::Wide { index, scale } => {
            let mantissa = rows.wide(index, scale).mantissa;
            if let Ok(short) = i64::try_from(mantissa) {
                out.extend_from_slice(&[DECIMAL, scale]);
                return put_signed(short, out);
            }
            out.extend_from_slice(&[WIDE, scale]);
            out.extend_from_slice(&mantissa.to_le_bytes());
        }
        Cell::Float(value) => {
            out.push(FLOAT);
            // Zero is zero, whatever its sign.
            let value = if value == 0.0 { 0.0 } else { value };
            out.extend_from_slice(&value.to_le_bytes());
        }
        Cell::Text { start, len } => {
            out.push(TEXT);
            put_count(len.into(), out);
            out.extend_from_slice(rows.bytes(start, len));
        }
        Cell::Uuid { start } => {
            out.push(UUID);
            let from = out.len();
            out.extend_from_slice(rows.bytes(start, 36));
            out[from..].make_ascii_lowercase();
        }
    }
}

/// Reads the rows of a block one after another.
pub struct Block<'b> {
    /// Its columns.
    pub columns: PackedColumns,
    bytes: &'b [u8],
    is_child: bool,
}

/// A row of a block, besides its cells.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct PackedRow {
    /// The line its record starts on.
    pub line: u64,
    /// How it hangs on its parent.
    pub link: Link,
}

impl<'b> Block<'b> {
    /// Opens a block, of a child table or another.
    ///
    /// # Errors
    ///
    /// Its beginning is damaged.
    pub fn open(bytes: &'b [u8], is_child: bool) -> Result<Block<'b>, Damaged> {
        let mut block = Block { columns: Vec::new(), bytes, is_child };
        let length = block.count()?;
        let text = block.take(length)?;
        block.columns = serde_json::from_slice(text).map_err(|_| Damaged)?;
        Ok(block)
    }

    /// The next row, its cells and their texts and wide mantissas put behind what `rows` holds; `None`
    /// at the end.
    ///
    /// # Errors
    ///
    /// The block is damaged.
    pub fn next(&mut self, rows: &mut Rows) -> Result<Option<PackedRow>, Damaged> {
        if self.bytes.is_empty() {
            return Ok(None);
        }
        let mut row = PackedRow { line: self.count()?, ..PackedRow::default() };
        if self.is_child {
            let (number, parent, position) = (self.count()?, self.count()?, self.count()?);
            row.link = Link { owner: 0, row: number, parent, position };
        }
        for _ in 0..self.columns.len() {
            let cell = self.cell(rows)?;
            rows.cells.push(cell);
        }
        Ok(Some(row))
    }

    fn take(&mut self, length: u64) -> Result<&'b [u8], Damaged> {
        let length = usize::try_from(length).map_err(|_| Damaged)?;
        let (taken, rest) = self.bytes.split_at_checked(length).ok_or(Damaged)?;
        self.bytes = rest;
        Ok(taken)
    }

    fn array<const N: usize>(&mut self) -> Result<[u8; N], Damaged> {
        self.take(N as u64)?.try_into().map_err(|_| Damaged)
    }

    fn byte(&mut self) -> Result<u8, Damaged> {
        self.array::<1>().map(|[byte]| byte)
    }

    fn count(&mut self) -> Result<u64, Damaged> {
        let (mut value, mut shift) = (0, 0);
        loop {
            let byte = self.byte()?;
            value |= u64::from(byte & 0x7F).checked_shl(shift).ok_or(Damaged)?;
            if byte < 0x80 {
                return Ok(value);
            }
            shift += 7;
        }
    }

    fn signed(&mut self) -> Result<i64, Damaged> {
        let value = self.count()?;
        Ok((value >> 1) as i64 ^ -((value & 1) as i64))
    }

    fn text(&mut self, length: u64, rows: &mut Rows) -> Result<std::ops::Range<usize>, Damaged> {
        let text = self.take(length)?;
        let start = rows.records.bytes.len();
        rows.records.bytes.extend_from_slice(text);
        let end = rows.records.bytes.len();
        // A cell finds its text by 32 bits.
        if u32::try_from(end).is_err() { Err(Damaged) } else { Ok(start..end) }
    }

    fn cell(&mut self, rows: &mut Rows) -> Result<Cell, Damaged> {
        Ok(match self.byte()? {
            NULL => Cell::Null,
            FALSE => Cell::Boolean(false),
            TRUE => Cell::Boolean(true),
            INTEGER => Cell::Integer(self.signed()?),
            DECIMAL => {
                let scale = self.byte()?;
                Cell::Decimal { mantissa: self.signed()?, scale }
            }
            WIDE => {
                let scale = self.byte()?;
                wide(i128::from_le_bytes(self.array()?), scale, &mut rows.wide)
            }
            FLOAT => Cell::Float(f64::from_le_bytes(self.array()?)),
            DATE => Cell::Date(i32::try_from(self.signed()?).map_err(|_| Damaged)?),
            TIME => Cell::Time(self.signed()?),
            TIMESTAMP => Cell::Timestamp(self.signed()?),
            TIMESTAMP_TZ => Cell::TimestampTz(self.signed()?),
            TEXT => {
                let length = self.count()?;
                Cell::text(self.text(length, rows)?)
            }
            UUID => Cell::Uuid { start: self.text(36, rows)?.start as u32 },
            _ => return Err(Damaged),
        })
    }
}

/// A decimal as a cell holds it.
fn wide(mantissa: i128, scale: u8, wide: &mut Vec<i128>) -> Cell {
    match i64::try_from(mantissa) {
        Ok(mantissa) => Cell::Decimal { mantissa, scale },
        Err(_) => {
            wide.push(mantissa);
            Cell::Wide { index: wide.len() as u32 - 1, scale }
        }
    }
}

/// A cell of one type as a cell of a wider one; `None` where the wider one does not hold it. What is
/// written out is put behind the texts of `rows`.
pub fn widen(cell: Cell, to: Type, rows: &mut Rows) -> Option<Cell> {
    Some(match (cell, to) {
        (Cell::Null, _) => Cell::Null,
        (Cell::Text { .. }, Type::Text | Type::Json)
        | (Cell::Integer(_), Type::Integer)
        | (Cell::Boolean(_), Type::Boolean)
        | (Cell::Float(_), Type::Float)
        | (Cell::Date(_), Type::Date)
        | (Cell::Time(_), Type::Time)
        | (Cell::Timestamp(_), Type::Timestamp)
        | (Cell::TimestampTz(_), Type::TimestampTz)
        | (Cell::Uuid { .. }, Type::Uuid) => cell,
        (_, Type::Decimal { scale, .. }) => {
            let Number { mantissa, scale: had } = digits_of(cell, &rows.wide)?.without_zeros();
            let more = number::power_of_ten(scale.checked_sub(had)?)?;
            wide(mantissa.checked_mul(more)?, u8::try_from(scale).ok()?, &mut rows.wide)
        }
        (_, Type::Float) => Cell::Float(digits_of(cell, &rows.wide)?.to_f64()),
        (Cell::Date(_) | Cell::Timestamp(_), Type::Integer) => {
            Cell::Integer(i64::try_from(digits_of(cell, &rows.wide)?.mantissa).ok()?)
        }
        (Cell::Date(days), Type::Timestamp) => Cell::Timestamp(i64::from(days) * temporal::DAY),
        (Cell::Integer(value), Type::Timestamp) => Cell::Timestamp(temporal::of_digits(value)?.0),
        (Cell::Integer(value), Type::Date) => match temporal::of_digits(value)? {
            (micros, Class::Date) => Cell::Date(i32::try_from(micros / temporal::DAY).ok()?),
            _ => return None,
        },
        (_, Type::Text | Type::Json) => {
            let start = rows.records.bytes.len();
            let mut text = Vec::new();
            match cell {
                // The shortest way to spell a number, whatever its column kept.
                Cell::Decimal { .. } | Cell::Wide { .. } => {
                    let number = cell.number(&rows.wide)?.without_zeros();
                    text.extend_from_slice(number.to_string().as_bytes());
                }
                _ => cell.write(&rows.records.bytes, &rows.wide, &mut text),
            }
            rows.records.bytes.extend_from_slice(&text);
            Cell::text(start..rows.records.bytes.len())
        }
        _ => return None,
    })
}

/// The number of a cell: a float's has the digits that it prints, and a day's those that it is written with
/// where it has no marks.
fn digits_of(cell: Cell, wide: &[i128]) -> Option<Number> {
    let mut text = Vec::new();
    match cell {
        Cell::Float(_) => cell.write(&[], wide, &mut text),
        Cell::Date(_) | Cell::Timestamp(_) => {
            cell.write(&[], wide, &mut text);
            text.retain(u8::is_ascii_digit);
        }
        _ => return cell.number(wide),
    }
    let style = NumberStyle::default();
    number::read(&text, style, Unit::Bare).or_else(|| number::read_shifted(&text, style, Unit::Bare))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    fn rows_of(cells: Vec<Cell>, bytes: &[u8], wide: Vec<i128>) -> Rows {
        let mut rows = Rows { width: cells.len(), cells, wide, kept: vec![0], ..Rows::default() };
        rows.records.bytes = bytes.to_vec();
        rows.records.end_child(0..0, 7, Link { owner: 0, row: 3, parent: 7, position: 2 });
        rows
    }

    fn texts(rows: &Rows) -> Vec<String> {
        let text = |cell: &Cell| {
            let mut out = Vec::new();
            cell.write(&rows.records.bytes, &rows.wide, &mut out);
            format!("{:?} {}", std::mem::discriminant(cell), String::from_utf8_lossy(&out))
        };
        rows.cells.iter().map(text).collect()
    }

    fn columns(count: usize) -> PackedColumns {
        (0..count).map(|at| (format!("c{at}"), Type::Text)).collect()
    }

    fn all_kinds() -> Rows {
        let cells = vec![
            Cell::Null,
            Cell::Boolean(true),
            Cell::Boolean(false),
            Cell::Integer(i64::MIN),
            Cell::Decimal { mantissa: -125, scale: 2 },
            Cell::Wide { index: 0, scale: 4 },
            Cell::Float(-0.25),
            Cell::Date(-1),
            Cell::Time(86_399_999_999),
            Cell::Timestamp(i64::MAX),
            Cell::TimestampTz(0),
            Cell::text(0..5),
            Cell::Uuid { start: 5 },
        ];
        rows_of(cells, b"ferry3f2504e0-4f89-11d3-9a0c-0305e82c3301", vec![i128::MAX])
    }

    #[rstest]
    #[case(true)]
    #[case(false)]
    fn rows_read_as_they_were_written(#[case] is_child: bool) {
        let rows = all_kinds();
        let mut bytes = Vec::new();
        begin(&columns(rows.width), &mut bytes);
        put_row(&rows, 0, is_child, &mut bytes);
        let mut block = Block::open(&bytes, is_child).expect("a block");
        let mut read = Rows::default();
        let row = block.next(&mut read).expect("whole").expect("a row");
        let link = Link { owner: 0, row: 3, parent: 7, position: 2 };
        assert_eq!(row, PackedRow { line: 7, link: if is_child { link } else { Link::default() } });
        assert_eq!(texts(&read), texts(&rows));
        assert_eq!((block.columns.len(), block.next(&mut read)), (rows.width, Ok(None)));
    }

    #[test]
    fn a_block_that_is_cut_short_is_damaged_and_nothing_worse() {
        let rows = all_kinds();
        let mut bytes = Vec::new();
        begin(&columns(rows.width), &mut bytes);
        let head = bytes.len();
        put_row(&rows, 0, true, &mut bytes);
        for end in 0..bytes.len() {
            let opened = Block::open(&bytes[..end], true);
            match opened {
                Ok(mut block) if end > head => {
                    assert_eq!(block.next(&mut Rows::default()), Err(Damaged), "{end}");
                }
                Ok(mut block) => assert_eq!(block.next(&mut Rows::default()), Ok(None)),
                Err(Damaged) => assert!(end < head),
            }
        }
    }

    #[rstest]
    #[case::same(Cell::Integer(5), Type::Integer, Some("5"))]
    #[case::decimal(Cell::Integer(5), Type::Decimal { precision: 9, scale: 2 }, Some("5.00"))]
    #[case::scale(Cell::Decimal { mantissa: -15, scale: 1 }, Type::Decimal { precision: 9, scale: 3 }, Some("-1.500"))]
    #[case::narrower(Cell::Decimal { mantissa: 15, scale: 1 }, Type::Decimal { precision: 9, scale: 0 }, None)]
    #[case::float(Cell::Decimal { mantissa: 25, scale: 2 }, Type::Float, Some("0.25"))]
    #[case::moment(Cell::Date(1), Type::Timestamp, Some("1970-01-02 00:00:00"))]
    #[case::text(Cell::Date(1), Type::Text, Some("1970-01-02"))]
    #[case::digits(Cell::Date(1), Type::Integer, Some("19700102"))]
    #[case::digits_of_a_moment(Cell::Timestamp(0), Type::Decimal { precision: 15, scale: 1 }, Some("19700101000000.0"))]
    #[case::day(Cell::Integer(20_251_231), Type::Date, Some("2025-12-31"))]
    #[case::day_as_moment(Cell::Integer(20_251_231), Type::Timestamp, Some("2025-12-31 00:00:00"))]
    #[case::second(Cell::Integer(20_251_231_101_505), Type::Timestamp, Some("2025-12-31 10:15:05"))]
    #[case::no_date(Cell::Integer(20_251_231_101_505), Type::Date, None)]
    #[case::no_day(Cell::Integer(20_251_331), Type::Date, None)]
    #[case::exact(Cell::Float(9.5e-5), Type::Decimal { precision: 18, scale: 18 }, Some("0.000095000000000000"))]
    #[case::short(Cell::Decimal { mantissa: 1500, scale: 2 }, Type::Text, Some("15"))]
    #[case::truth(Cell::Boolean(true), Type::Text, Some("true"))]
    #[case::other(Cell::Boolean(true), Type::Date, None)]
    fn a_value_becomes_one_of_a_wider_type(
        #[case] cell: Cell,
        #[case] to: Type,
        #[case] expected: Option<&str>,
    ) {
        let mut rows = Rows::default();
        let widened = widen(cell, to, &mut rows).map(|cell| {
            let mut out = Vec::new();
            cell.write(&rows.records.bytes, &rows.wide, &mut out);
            String::from_utf8(out).expect("text")
        });
        assert_eq!(widened.as_deref(), expected);
    }

    proptest! {
        #[test]
        fn no_bytes_end_it(bytes in prop::collection::vec(any::<u8>(), 0..200), is_child: bool) {
            if let Ok(mut block) = Block::open(&bytes, is_child) {
                block.columns = columns(3);
                let mut rows = Rows::default();
                while let Ok(Some(_)) = block.next(&mut rows) {}
            }
        }

        #[test]
        fn whole_numbers_read_as_they_were_written(value: i64, count: u64) {
            let mut bytes = Vec::new();
            put_signed(value, &mut bytes);
            put_count(count, &mut bytes);
            let mut block = Block { columns: Vec::new(), bytes: &bytes, is_child: false };
            prop_assert_eq!((block.signed(), block.count()), (Ok(value), Ok(count)));
        }
    }
}
