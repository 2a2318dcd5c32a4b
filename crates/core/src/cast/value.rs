//! Reading one value for one column.

use super::{Cell, Reason, Target};
use crate::layout::Format;
use crate::record::{Field, Origin};
use crate::spelling::number::{self, digit_count};
use crate::spelling::words::{self, Word};
use crate::spelling::{Number, is_json, is_uuid, temporal, trim};
use crate::types::{Digits, Type, Unit};

/// Reads the values of one column, one after another.
pub struct Reader<'a> {
    ty: Type,
    trim: bool,
    format: Format,
    unit: Unit,
    also_null: &'a [String],
    wide: &'a mut Vec<i128>,
    /// The greatest magnitude met of a whole number or decimal, at the column's scale.
    greatest: u64,
}

impl<'a> Reader<'a> {
    /// A reader for a column; mantissas too wide for a cell go to `wide`.
    pub fn new(target: &'a Target, wide: &'a mut Vec<i128>) -> Reader<'a> {
        Reader {
            also_null: &target.also_null,
            ty: target.ty,
            trim: target.trim,
            format: target.format,
            unit: target.unit,
            wide,
            greatest: 0,
        }
    }

    /// A reader of a type that knows nothing else of the column.
    pub fn plain(ty: Type, format: Format, wide: &'a mut Vec<i128>) -> Reader<'a> {
        Reader { also_null: &[], ty, trim: false, format, unit: Unit::Bare, wide, greatest: 0 }
    }

    /// Reads a value that stands by itself: places are those in `value`.
    pub fn read_alone(&mut self, value: &[u8], origin: Origin) -> Result<Cell, Reason> {
        self.read(value, Field::new(0..value.len(), false), origin)
    }

    /// The digits that the numbers read so far need.
    pub fn digits(&self) -> Digits {
        let scale = match self.ty {
            Type::Decimal { scale, .. } => scale,
            _ => 0,
        };
        let int = digit_count(self.greatest as i128).saturating_sub(scale);
        Digits { int, scale, ..Digits::default() }
    }

    /// Reads a value; `place` is where it stands in the buffer.
    #[inline]
    pub fn read(&mut self, value: &[u8], place: Field, origin: Origin) -> Result<Cell, Reason> {
        let bytes = trim(value);
        let exact = origin == Origin::Text && self.ty == Type::Text;
        if let Some(index) = words::null_index(bytes)
            && self.format.nulls.holds(index)
            && !exact
            // A quoted blank in a text column is a text of no characters, written down as one.
            && !(origin == Origin::Quoted && index == words::EMPTY && self.ty == Type::Text && !value.is_empty())
        {
            return Ok(Cell::Null);
        }
        if !self.also_null.is_empty() && self.also_null.iter().any(|word| word.as_bytes() == bytes) {
            return Ok(Cell::Null);
        }
        match self.ty {
            Type::Text if self.trim => Ok(Cell::text(within(value, bytes, place))),
            Type::Text => Ok(Cell::text(place.range())),
            Type::Integer => self.integer(bytes),
            Type::Decimal { precision, scale } => self.decimal(bytes, precision, scale),
            Type::Float => number::read_float(bytes, self.format.number, self.unit)
                .map(Cell::Float)
                .ok_or(Reason::NotA(Type::Float)),
            Type::Date => {
                temporal::read_date(bytes, self.format.date).map(Cell::Date).ok_or(Reason::NotA(Type::Date))
            }
            Type::Time => temporal::read_time(bytes).map(Cell::Time).ok_or(Reason::NotA(Type::Time)),
            Type::Timestamp => temporal::read_timestamp(bytes, self.format.date)
                .map(Cell::Timestamp)
                .ok_or(Reason::NotA(Type::Timestamp)),
            Type::TimestampTz => temporal::read_timestamp_tz(bytes, self.format.date)
                .map(Cell::TimestampTz)
                .ok_or(Reason::NotA(Type::TimestampTz)),
            Type::Boolean => truth(bytes),
            Type::Uuid => uuid(value, bytes, place),
            Type::Json if is_json(bytes) => Ok(Cell::text(within(value, bytes, place))),
            Type::Json => Err(Reason::NotA(Type::Json)),
            Type::Unknown => Err(Reason::NoTypeYet),
        }
    }

    #[inline]
    fn integer(&mut self, bytes: &[u8]) -> Result<Cell, Reason> {
        if self.unit == Unit::Bare
            && let Some((value, _)) = number::plain_integer(bytes)
        {
            self.greatest = self.greatest.max(value.unsigned_abs());
            return Ok(Cell::Integer(value));
        }
        let number = number::read(bytes, self.format.number, self.unit).ok_or(Reason::NotA(Type::Integer))?;
        let whole = number.rescale(0).ok_or(Reason::TooFine { found: number.scale, scale: 0 })?;
        let value = i64::try_from(whole).map_err(|_| Reason::TooLarge(Type::Integer))?;
        self.greatest = self.greatest.max(value.unsigned_abs());
        Ok(Cell::Integer(value))
    }

    #[inline]
    fn decimal(&mut self, bytes: &[u8], precision: u16, scale: u16) -> Result<Cell, Reason> {
        let number = number::read(bytes, self.format.number, self.unit)
            .ok_or(Reason::NotA(Type::Decimal { precision, scale }))?;
        let mantissa = exact(number, scale)?;
        let limit = number::power_of_ten(precision).ok_or(Reason::TooLarge(self.ty))?;
        if mantissa.unsigned_abs() >= limit.unsigned_abs() {
            return Err(Reason::TooLarge(self.ty));
        }
        self.greatest = self.greatest.max(u64::try_from(mantissa.unsigned_abs()).unwrap_or(u64::MAX));
        Ok(match i64::try_from(mantissa) {
            Ok(mantissa) => Cell::Decimal { mantissa, scale: scale as u8 },
            Err(_) => {
                self.wide.push(mantissa);
                Cell::Wide { index: self.wide.len() as u32 - 1, scale: scale as u8 }
            }
        })
    }
}

#[inline]
fn exact(number: Number, scale: u16) -> Result<i128, Reason> {
    if number.scale == scale {
        return Ok(number.mantissa);
    }
    number.rescale(scale).ok_or(if number.scale > scale {
        Reason::TooFine { found: number.scale, scale }
    } else {
        Reason::TooLarge(Type::Decimal { precision: crate::types::MAX_DIGITS, scale })
    })
}

fn truth(bytes: &[u8]) -> Result<Cell, Reason> {
    match bytes {
        b"0" => Ok(Cell::Boolean(false)),
        b"1" => Ok(Cell::Boolean(true)),
        _ => match words::truth(bytes) {
            Some(Word::Boolean(_, value)) => Ok(Cell::Boolean(value)),
            _ => Err(Reason::NotA(Type::Boolean)),
        },
    }
}

fn uuid(value: &[u8], bytes: &[u8], place: Field) -> Result<Cell, Reason> {
    if !is_uuid(bytes) {
        return Err(Reason::NotA(Type::Uuid));
    }
    let braced = bytes.len() == 38;
    Ok(Cell::Uuid { start: (within(value, bytes, place).start + braced as usize) as u32 })
}

/// Where a trimmed value stands in the buffer.
fn within(value: &[u8], trimmed: &[u8], place: Field) -> std::ops::Range<usize> {
    let start = place.range().start + (trimmed.as_ptr() as usize - value.as_ptr() as usize);
    start..start + trimmed.len()
}
