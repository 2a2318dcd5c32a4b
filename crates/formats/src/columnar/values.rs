//! Values of columns as cells. What a cell does not hold exactly becomes a text.

use arrow_array::cast::AsArray;
use arrow_array::types::*;
use arrow_array::{Array, ArrowPrimitiveType, BinaryViewArray, PrimitiveArray, StringViewArray};
use arrow_buffer::{NullBuffer, i256};
use arrow_schema::{DataType, IntervalUnit, TimeUnit};
use hypodoke_core::record::{Cell, TypedColumn};
use hypodoke_core::spelling::temporal::{self, DAY, SECOND};

use crate::error::ReadError;

/// Nanoseconds of a second, and of a microsecond.
const NANOS: i128 = 1_000_000_000;
const NANOS_OF_MICRO: i128 = 1_000;

/// Seconds of a day.
const DAY_SECONDS: i64 = 86_400;

/// What there is to tell of the values of one column.
#[derive(Clone, Copy, Debug, Default)]
pub struct Told {
    /// Floats that are no number.
    pub not_numbers: u64,
    /// Bytes that are no text.
    pub as_hex: u64,
}

/// Rows of an array, and which of them are there at all.
#[derive(Clone, Copy)]
pub struct Rows<'r> {
    /// Their numbers in the array, in the order in which they are wanted.
    pub numbers: &'r [usize],
    /// Of what the array stands in: a value of a struct that is null is null.
    pub mask: Option<&'r NullBuffer>,
}

impl Rows<'_> {
    /// The rows, each with whether the array has a value there.
    fn are_there<'a>(&'a self, array: &dyn Array) -> impl Iterator<Item = (usize, bool)> + 'a {
        let nulls = NullBuffer::union(array.nulls(), self.mask);
        let nulls = nulls.filter(|nulls| nulls.null_count() > 0);
        self.numbers.iter().map(move |row| (*row, nulls.as_ref().is_none_or(|nulls| nulls.is_valid(*row))))
    }
}

/// A column that is being filled.
pub struct Filling<'f> {
    /// Its cells, and what texts and long decimals are kept in.
    pub column: TypedColumn<'f>,
    /// What there is to tell of it.
    pub told: &'f mut Told,
    /// The longest text that is taken, in bytes.
    pub limit: usize,
    /// Sixteen bytes are an identifier.
    pub is_uuid: bool,
}

impl Filling<'_> {
    /// Puts rows of an array into the column.
    ///
    /// # Errors
    ///
    /// A text is too long, or the array is of a type that is no scalar.
    pub fn fill(&mut self, array: &dyn Array, rows: Rows<'_>) -> Result<(), ReadError> {
        match array.data_type() {
            DataType::Null => self.column.cells.extend(rows.numbers.iter().map(|_| Cell::Null)),
            DataType::Boolean => {
                let values = array.as_boolean();
                let cell = |(row, there)| if there { Cell::Boolean(values.value(row)) } else { Cell::Null };
                self.column.cells.extend(rows.are_there(array).map(cell));
            }
            DataType::Int8 => self.integers::<Int8Type>(array, rows),
            DataType::Int16 => self.integers::<Int16Type>(array, rows),
            DataType::Int32 => self.integers::<Int32Type>(array, rows),
            DataType::Int64 => self.integers::<Int64Type>(array, rows),
            DataType::UInt8 => self.integers::<UInt8Type>(array, rows),
            DataType::UInt16 => self.integers::<UInt16Type>(array, rows),
            DataType::UInt32 => self.integers::<UInt32Type>(array, rows),
            DataType::UInt64 => {
                self.each::<UInt64Type>(array, rows, |own, value| own.decimal(value.into(), 0))
            }
            DataType::Float16 => {
                self.each::<Float16Type>(array, rows, |own, value| own.float(value.to_f64()))
            }
            DataType::Float32 => self.each::<Float32Type>(array, rows, |own, value| own.float(value.into())),
            DataType::Float64 => self.each::<Float64Type>(array, rows, Filling::float),
            DataType::Decimal32(_, scale) => {
                self.each::<Decimal32Type>(array, rows, |own, value| own.decimal(value.into(), *scale));
            }
            DataType::Decimal64(_, scale) => {
                self.each::<Decimal64Type>(array, rows, |own, value| own.decimal(value.into(), *scale));
            }
            DataType::Decimal128(_, scale) => {
                self.each::<Decimal128Type>(array, rows, |own, value| own.decimal(value, *scale));
            }
            DataType::Decimal256(precision, scale) => {
                self.each::<Decimal256Type>(array, rows, |own, value| own.wide(value, *precision, *scale));
            }
            DataType::Date32 => self.each::<Date32Type>(array, rows, Filling::date),
            DataType::Date64 => self.each::<Date64Type>(array, rows, Filling::date_of_millis),
            DataType::Time32(TimeUnit::Second) => {
                self.each::<Time32SecondType>(array, rows, |own, value| own.time(i128::from(value) * NANOS));
            }
            DataType::Time32(_) => self.each::<Time32MillisecondType>(array, rows, |own, value| {
                own.time(i128::from(value) * 1_000_000)
            }),
            DataType::Time64(TimeUnit::Microsecond) => {
                self.each::<Time64MicrosecondType>(array, rows, |own, value| {
                    own.time(i128::from(value) * 1_000)
                });
            }
            DataType::Time64(_) => {
                self.each::<Time64NanosecondType>(array, rows, |own, value| own.time(value.into()));
            }
            DataType::Timestamp(unit, zone) => self.timestamps(array, rows, *unit, zone.is_some()),
            DataType::Duration(unit) => self.durations(array, rows, *unit),
            DataType::Interval(unit) => self.intervals(array, rows, *unit),
            _ => return self.texts(array, rows),
        }
        Ok(())
    }

    fn each<T: ArrowPrimitiveType>(
        &mut self,
        array: &dyn Array,
        rows: Rows<'_>,
        cell: impl Fn(&mut Self, T::Native) -> Cell,
    ) {
        let values: &PrimitiveArray<T> = array.as_primitive();
        self.column.cells.reserve(rows.numbers.len());
        for (row, is_there) in rows.are_there(array) {
            let cell = if is_there { cell(self, values.value(row)) } else { Cell::Null };
            self.column.cells.push(cell);
        }
    }

    fn integers<T: ArrowPrimitiveType>(&mut self, array: &dyn Array, rows: Rows<'_>)
    where
        i64: From<T::Native>,
    {
        self.each::<T>(array, rows, |_, value| Cell::Integer(value.into()));
    }

    fn float(&mut self, value: f64) -> Cell {
        if value.is_nan() {
            self.told.not_numbers += 1;
            return Cell::Null;
        }
        Cell::Float(value)
    }

    fn decimal(&mut self, mantissa: i128, scale: i8) -> Cell {
        let Ok(scale) = u8::try_from(scale) else {
            let factor = 10i128.checked_pow(u32::from(scale.unsigned_abs()));
            return match factor.and_then(|factor| mantissa.checked_mul(factor)) {
                Some(mantissa) => self.decimal(mantissa, 0),
                None => self.text(&format!("{mantissa}e{}", scale.unsigned_abs())),
            };
        };
        match i64::try_from(mantissa) {
            Ok(mantissa) if scale == 0 => Cell::Integer(mantissa),
            Ok(mantissa) => Cell::Decimal { mantissa, scale },
            Err(_) => match u32::try_from(self.column.wide.len()) {
                Ok(index) => {
                    self.column.wide.push(mantissa);
                    Cell::Wide { index, scale }
                }
                Err(_) => self.text(&mantissa.to_string()),
            },
        }
    }

    /// A decimal of up to 76 digits: of those that are declared to have more than 38, each is a text.
    fn wide(&mut self, value: i256, precision: u8, scale: i8) -> Cell {
        let digits = i16::from(precision).max(i16::from(scale)) - i16::from(scale.min(0));
        match value.to_i128().filter(|_| digits <= 38) {
            Some(mantissa) => self.decimal(mantissa, scale),
            None => self.text(&Decimal256Type::format_decimal(value, precision, scale)),
        }
    }

    /// A day, as a text where it is beyond all years of four digits.
    fn date(&mut self, days: i32) -> Cell {
        match (YEAR_1..YEAR_10000).contains(&(i64::from(days) * DAY_SECONDS)) {
            true => Cell::Date(days),
            false => self.text(&format!("{days} days since 1970")),
        }
    }

    fn date_of_millis(&mut self, millis: i64) -> Cell {
        let (days, rest) = (millis.div_euclid(86_400_000), millis.rem_euclid(86_400_000));
        match i32::try_from(days) {
            Ok(days) if rest == 0 => self.date(days),
            _ => self.moment(i128::from(millis) * 1_000_000, false, true),
        }
    }

    fn time(&mut self, nanos: i128) -> Cell {
        let micros = i64::try_from(nanos.div_euclid(NANOS_OF_MICRO)).unwrap_or(i64::MAX);
        if !(0..DAY).contains(&micros) {
            return self.text(&seconds(nanos));
        }
        if nanos % NANOS_OF_MICRO == 0 {
            return Cell::Time(micros);
        }
        let mut text = Vec::new();
        temporal::write_time(micros - micros % SECOND, &mut text);
        text.extend_from_slice(format!(".{:09}", nanos.rem_euclid(NANOS)).as_bytes());
        self.bytes(&text)
    }

    fn timestamps(&mut self, array: &dyn Array, rows: Rows<'_>, unit: TimeUnit, is_zoned: bool) {
        let moment = |nanos: i128| {
            move |own: &mut Self, value: i64| own.moment(i128::from(value) * nanos, is_zoned, false)
        };
        match unit {
            TimeUnit::Second => self.each::<TimestampSecondType>(array, rows, moment(NANOS)),
            TimeUnit::Millisecond => self.each::<TimestampMillisecondType>(array, rows, moment(1_000_000)),
            TimeUnit::Microsecond => self.each::<TimestampMicrosecondType>(array, rows, moment(1_000)),
            TimeUnit::Nanosecond => self.each::<TimestampNanosecondType>(array, rows, moment(1)),
        }
    }

    /// A moment; as a text where it is finer than a microsecond, beyond all years, or where a day is
    /// declared.
    fn moment(&mut self, nanos: i128, is_zoned: bool, is_text: bool) -> Cell {
        let whole = nanos.div_euclid(NANOS);
        let Some(micros) = i64::try_from(nanos.div_euclid(NANOS_OF_MICRO)).ok().filter(|micros| {
            // Years of more than four digits have no common spelling.
            (YEAR_1..YEAR_10000).contains(&micros.div_euclid(SECOND))
        }) else {
            return self.text(&format!("{} seconds since 1970", seconds_plain(nanos)));
        };
        let is_exact = nanos % NANOS_OF_MICRO == 0;
        if is_exact && !is_text {
            return if is_zoned { Cell::TimestampTz(micros) } else { Cell::Timestamp(micros) };
        }
        let mut text = Vec::new();
        if is_exact {
            temporal::write_timestamp(micros, &mut text);
        } else {
            temporal::write_timestamp(i64::try_from(whole * 1_000_000).unwrap_or_default(), &mut text);
            text.extend_from_slice(format!(".{:09}", nanos.rem_euclid(NANOS)).as_bytes());
        }
        if is_zoned {
            text.extend_from_slice(b"+00:00");
        }
        self.bytes(&text)
    }

    fn durations(&mut self, array: &dyn Array, rows: Rows<'_>, unit: TimeUnit) {
        let span = |nanos: i128| {
            move |own: &mut Self, value: i64| {
                own.text(&format!("PT{}S", seconds_plain(i128::from(value) * nanos)))
            }
        };
        match unit {
            TimeUnit::Second => self.each::<DurationSecondType>(array, rows, span(NANOS)),
            TimeUnit::Millisecond => self.each::<DurationMillisecondType>(array, rows, span(1_000_000)),
            TimeUnit::Microsecond => self.each::<DurationMicrosecondType>(array, rows, span(1_000)),
            TimeUnit::Nanosecond => self.each::<DurationNanosecondType>(array, rows, span(1)),
        }
    }

    /// Spans of months, days and a rest, in the words of ISO 8601.
    fn intervals(&mut self, array: &dyn Array, rows: Rows<'_>, unit: IntervalUnit) {
        match unit {
            IntervalUnit::YearMonth => self
                .each::<IntervalYearMonthType>(array, rows, |own, months| own.text(&format!("P{months}M"))),
            IntervalUnit::DayTime => self.each::<IntervalDayTimeType>(array, rows, |own, value| {
                let rest = seconds_plain(i128::from(value.milliseconds) * 1_000_000);
                own.text(&format!("P{}DT{rest}S", value.days))
            }),
            IntervalUnit::MonthDayNano => self.each::<IntervalMonthDayNanoType>(array, rows, |own, value| {
                let rest = seconds_plain(value.nanoseconds.into());
                own.text(&format!("P{}M{}DT{rest}S", value.months, value.days))
            }),
        }
    }

    /// Texts and bytes, and columns that say once what many rows have.
    fn texts(&mut self, array: &dyn Array, rows: Rows<'_>) -> Result<(), ReadError> {
        match array.data_type() {
            DataType::Utf8 => {
                let values = array.as_string::<i32>();
                self.each_bytes(array, rows, |row| values.value(row).as_bytes(), Self::limited)
            }
            DataType::LargeUtf8 => {
                let values = array.as_string::<i64>();
                self.each_bytes(array, rows, |row| values.value(row).as_bytes(), Self::limited)
            }
            DataType::Utf8View => {
                let values: &StringViewArray = array.as_string_view();
                self.each_bytes(array, rows, |row| values.value(row).as_bytes(), Self::limited)
            }
            DataType::Binary => {
                let values = array.as_binary::<i32>();
                self.each_bytes(array, rows, |row| values.value(row), Self::binary)
            }
            DataType::LargeBinary => {
                let values = array.as_binary::<i64>();
                self.each_bytes(array, rows, |row| values.value(row), Self::binary)
            }
            DataType::BinaryView => {
                let values: &BinaryViewArray = array.as_binary_view();
                self.each_bytes(array, rows, |row| values.value(row), Self::binary)
            }
            DataType::FixedSizeBinary(_) => {
                let values = array.as_fixed_size_binary();
                self.each_bytes(array, rows, |row| values.value(row), Self::binary)
            }
            DataType::Dictionary(_, _) => {
                let values = array.as_any_dictionary();
                let keys = values.normalized_keys();
                self.through(values.values().as_ref(), array, rows, |row| keys.get(row).copied())
            }
            DataType::RunEndEncoded(_, _) => self.runs(array, rows),
            other => Err(ReadError::Columnar { what: "columnar", error: format!("`{other}` is no scalar") }),
        }
    }

    fn runs(&mut self, array: &dyn Array, rows: Rows<'_>) -> Result<(), ReadError> {
        if let Some(runs) = array.as_run_opt::<Int16Type>() {
            self.through(runs.values().as_ref(), array, rows, |row| Some(runs.get_physical_index(row)))
        } else if let Some(runs) = array.as_run_opt::<Int32Type>() {
            self.through(runs.values().as_ref(), array, rows, |row| Some(runs.get_physical_index(row)))
        } else {
            let runs = array.as_run::<Int64Type>();
            self.through(runs.values().as_ref(), array, rows, |row| Some(runs.get_physical_index(row)))
        }
    }

    /// Fills in values that rows of another array point to.
    fn through(
        &mut self,
        values: &dyn Array,
        array: &dyn Array,
        rows: Rows<'_>,
        place: impl Fn(usize) -> Option<usize>,
    ) -> Result<(), ReadError> {
        let begin = self.column.cells.len();
        let mut places = Vec::with_capacity(rows.numbers.len());
        let mut absent = Vec::new();
        for (at, (row, is_there)) in rows.are_there(array).enumerate() {
            match place(row).filter(|place| is_there && *place < values.len()) {
                Some(place) => places.push(place),
                None => absent.push(at),
            }
        }
        self.fill(values, Rows { numbers: &places, mask: None })?;
        if absent.is_empty() {
            return Ok(());
        }
        let filled = self.column.cells.split_off(begin);
        let (mut filled, mut absent) = (filled.into_iter(), absent.into_iter().peekable());
        for at in 0..rows.numbers.len() {
            let is_absent = absent.next_if_eq(&at).is_some();
            let cell = if is_absent { Cell::Null } else { filled.next().unwrap_or(Cell::Null) };
            self.column.cells.push(cell);
        }
        Ok(())
    }

    /// Takes in the bytes of each row that is there, as `cell` makes of them.
    fn each_bytes<'v>(
        &mut self,
        array: &dyn Array,
        rows: Rows<'_>,
        value: impl Fn(usize) -> &'v [u8],
        cell: impl Fn(&mut Self, &[u8], usize) -> Result<Cell, ReadError>,
    ) -> Result<(), ReadError> {
        for (at, (row, is_there)) in rows.are_there(array).enumerate() {
            let cell = if is_there { cell(self, value(row), at)? } else { Cell::Null };
            self.column.cells.push(cell);
        }
        Ok(())
    }

    /// Bytes: an identifier, a text, or else written as hexadecimal digits. So is a text that would be taken for
    /// the digits of other bytes: what differs is told apart.
    fn binary(&mut self, value: &[u8], at: usize) -> Result<Cell, ReadError> {
        if let (true, Ok(bytes)) = (self.is_uuid, <[u8; 16]>::try_from(value)) {
            let start = self.column.bytes.len();
            for (at, byte) in bytes.iter().enumerate() {
                if matches!(at, 4 | 6 | 8 | 10) {
                    self.column.bytes.push(b'-');
                }
                self.column.bytes.extend_from_slice(&hex(*byte));
            }
            return Ok(u32::try_from(start).map_or(Cell::Null, |start| Cell::Uuid { start }));
        }
        if is_text(value) && !is_hex_of_bytes(value) {
            return self.limited(value, at);
        }
        self.told.as_hex += 1;
        let mut text = b"0x".to_vec();
        text.extend(value.iter().flat_map(|byte| hex(*byte)));
        self.limited(&text, at)
    }

    fn limited(&mut self, value: &[u8], at: usize) -> Result<Cell, ReadError> {
        let total = self.column.bytes.len().saturating_add(value.len());
        if value.len() > self.limit || u32::try_from(total).is_err() {
            return Err(ReadError::LongValue { row: at as u64 + 1, limit: self.limit });
        }
        Ok(self.bytes(value))
    }

    fn text(&mut self, text: &str) -> Cell {
        self.bytes(text.as_bytes())
    }

    fn bytes(&mut self, text: &[u8]) -> Cell {
        let start = self.column.bytes.len();
        self.column.bytes.extend_from_slice(text);
        Cell::text(start..self.column.bytes.len())
    }
}

/// The seconds from 1970 to the year 1, and to the year 10000.
const YEAR_1: i64 = -62_135_596_800;
const YEAR_10000: i64 = 253_402_300_800;

/// Whether bytes are a text that a database takes.
fn is_text(value: &[u8]) -> bool {
    simdutf8::basic::from_utf8(value).is_ok() && memchr::memchr(0, value).is_none()
}

/// Whether a text reads as the hexadecimal digits that bytes which are no text are written as, or such a text.
fn is_hex_of_bytes(value: &[u8]) -> bool {
    let Some(digits) = value.strip_prefix(b"0x").filter(|digits| digits.len().is_multiple_of(2)) else {
        return false;
    };
    let digit = |digit: u8| match digit {
        b'0'..=b'9' => Some(digit - b'0'),
        b'a'..=b'f' => Some(digit - b'a' + 10),
        _ => None,
    };
    let byte = |pair: &[u8]| Some(digit(*pair.first()?)? << 4 | digit(*pair.get(1)?)?);
    let bytes: Option<Vec<u8>> = digits.chunks(2).map(byte).collect();
    bytes.is_some_and(|bytes| !is_text(&bytes) || is_hex_of_bytes(&bytes))
}

fn hex(byte: u8) -> [u8; 2] {
    const DIGITS: &[u8; 16] = b"0123456789abcdef";
    [DIGITS[usize::from(byte >> 4)], DIGITS[usize::from(byte & 15)]]
}

/// A time of day that no day has.
fn seconds(nanos: i128) -> String {
    format!("{} seconds of a day of {DAY_SECONDS}", seconds_plain(nanos))
}

/// Nanoseconds as seconds, with as many digits as they need.
fn seconds_plain(nanos: i128) -> String {
    let sign = if nanos < 0 { "-" } else { "" };
    let (whole, rest) =
        (nanos.unsigned_abs() / NANOS.unsigned_abs(), nanos.unsigned_abs() % NANOS.unsigned_abs());
    match rest {
        0 => format!("{sign}{whole}"),
        rest => {
            let digits = format!("{rest:09}");
            format!("{sign}{whole}.{}", digits.trim_end_matches('0'))
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::bytes_of_no_text(b"0xff", true)]
    #[case::of_a_text_that_is_such(b"0x30786666", true)]
    #[case::of_a_text(b"0x41", false)]
    #[case::an_address(b"0x52ae", true)]
    #[case::capitals(b"0xFF", false)]
    #[case::odd(b"0xfff", false)]
    #[case::no_digits(b"0xfg", false)]
    #[case::nothing(b"0x", false)]
    fn texts_that_would_be_taken_for_bytes_are_found(#[case] value: &[u8], #[case] expected: bool) {
        assert_eq!(is_hex_of_bytes(value), expected);
    }
}
