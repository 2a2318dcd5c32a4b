//! Reading one value for one column.

use super::{Cell, Reason};
use crate::layout::Format;
use crate::record::{Field, Origin, Records};
use crate::spelling::number::{self, digit_count};
use crate::spelling::words::{self, ALL_PAIRS, BoolWords, Pairs};
use crate::spelling::{Fraction, Number, is_json, is_uuid, temporal, trim};
use crate::types::{Digits, Domain, Type, Unit};

/// What was met among the values of one column, as far as evidence would have asked about it.
#[derive(Clone, Copy, Debug)]
pub struct SeenValues {
    /// The greatest magnitude of a whole number or decimal, at the column's scale.
    greatest: u64,
    /// The digits that floats were written with.
    floats: Digits,
    /// The pairs that all truth words may belong to.
    pairs: Pairs,
    /// Values that are exact in the column and by their spelling are of a wider type: `5.00` among
    /// whole numbers, `1` among truth words.
    pub wider: u64,
    /// Numbers that lost digits, since the user says so.
    pub rounded: u64,
}

/// A value as it was written.
#[derive(Clone, Copy, Debug)]
pub struct Raw<'v> {
    /// Its record, by its place in the batch.
    pub at: usize,
    /// Its bytes.
    pub value: &'v [u8],
    /// Where they stand in the buffer.
    pub place: Field,
    /// How it stood in its source.
    pub origin: Origin,
}

/// The values of one column, of the records that nothing is wrong with so far.
pub struct FieldValues<'r> {
    /// The records.
    pub records: &'r Records,
    /// Those that something is wrong with.
    pub bad: &'r [bool],
    /// Which of their fields it is.
    pub field: usize,
    /// How many fields each has, where that is known of all.
    pub even: Option<usize>,
    /// The next record.
    pub at: usize,
}

impl<'r> Iterator for FieldValues<'r> {
    type Item = Raw<'r>;

    // A call for each value of each column would cost as much as reading it.
    #[inline(always)]
    fn next(&mut self) -> Option<Raw<'r>> {
        while *self.bad.get(self.at)? {
            self.at += 1;
        }
        let at = self.at;
        self.at += 1;
        // A record that may stop short has no more than it says.
        let place = self.records.field(at, self.field, self.even).unwrap_or(Field::ABSENT);
        Some(Raw { at, value: self.records.value(place), place, origin: place.origin() })
    }
}

/// Reads the values of one column, one after another.
pub struct Reader<'a> {
    pub(super) ty: Type,
    pub(super) trim: bool,
    pub(super) format: Format,
    pub(super) known: Digits,
    pub(super) also_null: &'a [String],
    pub(super) strings_are_text: bool,
    /// The day that the file is of.
    pub(super) day: Option<i32>,
    /// What becomes of digits that are not kept: of seconds, and of numbers of a type that was given.
    pub(super) fraction: Option<Fraction>,
    pub(super) rounds: Option<Fraction>,
    pub(super) wide: &'a mut Vec<i128>,
    pub(super) met: SeenValues,
}

impl<'a> Reader<'a> {
    /// A reader of a type that knows nothing else of the column.
    pub fn plain(ty: Type, format: Format, wide: &'a mut Vec<i128>) -> Reader<'a> {
        let (known, met) = (Digits::default(), SeenValues::default());
        Reader {
            also_null: &[],
            strings_are_text: false,
            ty,
            trim: false,
            format,
            known,
            day: None,
            fraction: None,
            rounds: None,
            wide,
            met,
        }
    }

    /// What was met so far.
    pub fn met(&self) -> SeenValues {
        self.met
    }

    /// Reads a value that stands by itself: places are those in `value`.
    pub fn read_alone(&mut self, value: &[u8], origin: Origin) -> Result<Cell, Reason> {
        self.read(Raw { at: 0, value, place: Field::new(0..value.len(), false), origin })
    }

    /// Reads one value.
    pub fn read(&mut self, raw: Raw<'_>) -> Result<Cell, Reason> {
        let mut read = Ok(Cell::Null);
        self.read_all(std::iter::once(raw), |_, what| read = what);
        read
    }

    /// Whether texts of a source that declares its types are nothing but handed on.
    pub fn takes_texts_as_they_are(&self) -> bool {
        self.ty == Type::Text && !self.trim && self.also_null.is_empty()
    }

    /// Takes a value of a typed source as it is; `None` where it has to be read as its text: it is a
    /// text, it is of another type than the column, or words of the user's are null in the column.
    #[inline]
    pub fn read_typed(&mut self, cell: Cell, wide: &[i128]) -> Option<Result<Cell, Reason>> {
        if cell == Cell::Null {
            return Some(Ok(Cell::Null));
        }
        if !self.also_null.is_empty() {
            return None;
        }
        match (self.ty, cell) {
            (Type::Date, Cell::Date(_))
            | (Type::Time, Cell::Time(_))
            | (Type::Timestamp, Cell::Timestamp(_))
            | (Type::Uuid, Cell::Uuid { .. })
            | (Type::TimestampTz, Cell::TimestampTz(_)) => Some(Ok(cell)),
            (Type::Float, Cell::Float(value)) if value.is_finite() => Some(Ok(cell)),
            (Type::Boolean, Cell::Boolean(_)) => {
                self.met.pairs &= BoolWords::TrueFalse.bit();
                self.met.wider += u64::from(self.met.pairs == 0);
                Some(Ok(cell))
            }
            (Type::Integer, Cell::Integer(value)) if self.known.unit == Unit::Bare => {
                self.met.greatest = self.met.greatest.max(value.unsigned_abs());
                self.note_whole(value);
                Some(Ok(cell))
            }
            (Type::Float, _) if self.known.unit == Unit::Bare => {
                let number = cell.number(wide)?;
                let read = number::as_float(number, Unit::Bare).ok_or(Reason::NotA(Type::Float));
                Some(read.map(|(value, digits)| self.float_of(value, digits)))
            }
            (Type::Integer | Type::Decimal { .. }, _) if self.known.unit == Unit::Bare => {
                let number = cell.number(wide)?;
                Some(match self.ty {
                    Type::Decimal { precision, scale } => {
                        let limit = number::power_of_ten(precision).map_or(0, i128::unsigned_abs);
                        self.decimal_of(number, scale, limit)
                    }
                    _ => self.integer_of(number),
                })
            }
            _ => None,
        }
    }

    /// Reads values one after another and hands over what each is. The type is asked for once: each
    /// has a loop of its own.
    #[inline]
    pub fn read_all<'v>(
        &mut self,
        values: impl Iterator<Item = Raw<'v>>,
        out: impl FnMut(usize, Result<Cell, Reason>),
    ) {
        match self.ty {
            Type::Text if self.trim => {
                self.each::<true>(values, out, |_, raw, bytes| Ok(Cell::text(within(raw, bytes))))
            }
            Type::Text => self.each::<true>(values, out, |_, raw, _| Ok(Cell::text(raw.place.range()))),
            Type::Integer => self.each::<false>(values, out, |reader, _, bytes| reader.integer(bytes)),
            Type::Decimal { precision, scale } => {
                // No type has more digits than there are powers of ten.
                let limit = number::power_of_ten(precision).map_or(0, i128::unsigned_abs);
                self.each::<false>(values, out, |reader, _, bytes| reader.decimal(bytes, scale, limit))
            }
            Type::Float => self.each::<false>(values, out, |reader, _, bytes| reader.float(bytes)),
            Type::Date => self.each::<false>(values, out, |reader, _, bytes| {
                reader.note_marks(bytes);
                let read = temporal::read_date(bytes, reader.format.date);
                reader.note_day(read);
                read.map(Cell::Date).ok_or(Reason::NotA(Type::Date))
            }),
            Type::Time => self.each::<false>(values, out, |_, _, bytes| {
                temporal::read_time(bytes).map(Cell::Time).ok_or(Reason::NotA(Type::Time))
            }),
            Type::Timestamp => self.each::<false>(values, out, |reader, _, bytes| {
                reader.note_marks(bytes);
                let read = temporal::read_moment(bytes, reader.format.date, reader.fraction, false);
                reader.note_day(read.and_then(|micros| i32::try_from(micros.div_euclid(temporal::DAY)).ok()));
                read.map(Cell::Timestamp).ok_or(Reason::NotA(Type::Timestamp))
            }),
            Type::TimestampTz => self.each::<false>(values, out, |reader, _, bytes| {
                let read = temporal::read_moment(bytes, reader.format.date, reader.fraction, true);
                read.map(Cell::TimestampTz).ok_or(Reason::NotA(Type::TimestampTz))
            }),
            Type::Boolean => {
                self.each::<false>(values, out, |reader, raw, bytes| reader.truth(bytes, raw.origin))
            }
            Type::Uuid => self.each::<false>(values, out, |_, raw, bytes| uuid(raw, bytes)),
            Type::Json => self.each::<false>(values, out, |reader, raw, bytes| reader.json(raw, bytes)),
            Type::Unknown => self.each::<false>(values, out, |_, _, _| Err(Reason::NoTypeYet)),
        }
    }

    /// Hands what is no null to `convert`, with the blanks around it taken off.
    #[inline(always)]
    fn each<'v, const TEXT: bool>(
        &mut self,
        values: impl Iterator<Item = Raw<'v>>,
        mut out: impl FnMut(usize, Result<Cell, Reason>),
        convert: impl Fn(&mut Self, Raw<'v>, &'v [u8]) -> Result<Cell, Reason>,
    ) {
        for raw in values {
            let bytes = trim(raw.value);
            let read = match raw.origin {
                Origin::Missing => Ok(Cell::Null),
                _ if self.is_null::<TEXT>(raw, bytes) => Ok(Cell::Null),
                _ => convert(self, raw, bytes),
            };
            out(raw.at, read);
        }
    }

    #[inline(always)]
    fn is_null<const TEXT: bool>(&mut self, raw: Raw<'_>, bytes: &[u8]) -> bool {
        if !TEXT && raw.origin == Origin::Text && self.strings_are_text {
            self.met.wider += 1;
        }
        let exact = TEXT && raw.origin == Origin::Text;
        // A typed source has nulls of its own: of its strings only the empty one is none.
        let is_word = raw.origin == Origin::Text && !bytes.is_empty();
        if let Some(index) = words::null_index_in(bytes, self.format.nulls)
            && !exact
            && !is_word
        {
            // A quoted blank in a text column is a text of no characters, written down as one.
            let blank = TEXT && raw.origin == Origin::Quoted && index == words::EMPTY;
            return !blank || raw.value.is_empty() || self.is_named_null(bytes);
        }
        !self.also_null.is_empty() && self.is_named_null(bytes)
    }

    /// Whether the user says that this word is a null.
    #[cold]
    fn is_named_null(&self, bytes: &[u8]) -> bool {
        self.also_null.iter().any(|word| word.as_bytes() == bytes)
    }

    /// Days that were digits alone until now are days for good once one is written with marks.
    #[inline(always)]
    fn note_marks(&mut self, bytes: &[u8]) {
        if self.known.int > 0 {
            self.met.wider += u64::from(!bytes.iter().all(u8::is_ascii_digit));
        }
        // Another mark may go with another order.
        if let (Some(known), Some(mark)) =
            (self.format.date_mark, bytes.iter().take(3).find(|b| !b.is_ascii_digit()))
        {
            self.met.wider += u64::from(*mark != known);
        }
    }

    /// A day that lies near the file's own if day and month change places, and far from it as it is.
    #[inline(always)]
    fn note_day(&mut self, read: Option<i32>) {
        if let (Some(day), Some(read), true) = (self.day, read, self.format.date_mark.is_some()) {
            self.met.wider += u64::from(temporal::is_nearer_in_other_order(read, day));
        }
    }

    fn json(&mut self, raw: Raw<'_>, bytes: &[u8]) -> Result<Cell, Reason> {
        if !is_json(bytes) {
            return Err(Reason::NotA(Type::Json));
        }
        self.met.wider += u64::from(!matches!(bytes[0], b'{' | b'['));
        Ok(Cell::text(within(raw, bytes)))
    }

    #[inline]
    fn integer(&mut self, bytes: &[u8]) -> Result<Cell, Reason> {
        if self.known.unit == Unit::Bare
            && let Some((value, _)) = number::plain_integer(bytes)
        {
            self.met.greatest = self.met.greatest.max(value.unsigned_abs());
            self.note_whole(value);
            return Ok(Cell::Integer(value));
        }
        let number = self.number(bytes)?;
        self.integer_of(number)
    }

    fn integer_of(&mut self, number: Number) -> Result<Cell, Reason> {
        let value = i64::try_from(self.exact(number, 0)?).map_err(|_| Reason::TooLarge(Type::Integer))?;
        self.met.greatest = self.met.greatest.max(value.unsigned_abs());
        self.note_whole(value);
        Ok(Cell::Integer(value))
    }

    /// Whether a float holds a large number is for evidence to find out, and whether more numbers show that
    /// all of them are days.
    #[inline(always)]
    fn note_whole(&mut self, value: i64) {
        self.met.wider += u64::from(!self.known.not_moments);
        self.met.wider += u64::from(number::may_be_beyond_floats(value) && !self.known.exact);
    }

    #[inline]
    fn number(&mut self, bytes: &[u8]) -> Result<Number, Reason> {
        let (style, unit) = (self.format.number, self.known.unit);
        if let Some(number) = number::read(bytes, style, unit) {
            return Ok(number);
        }
        let shifted = number::read_shifted(bytes, style, unit).ok_or(Reason::NotA(self.ty))?;
        // An exponent makes floats of a column, unless no float holds the others.
        self.met.wider += u64::from(!self.known.exact);
        Ok(shifted)
    }

    #[inline(always)]
    fn decimal(&mut self, bytes: &[u8], scale: u16, limit: u128) -> Result<Cell, Reason> {
        let number = self.number(bytes)?;
        self.decimal_of(number, scale, limit)
    }

    #[inline(always)]
    fn decimal_of(&mut self, number: Number, scale: u16, limit: u128) -> Result<Cell, Reason> {
        let mantissa = self.exact(number, scale)?;
        // Whether a float prints so many digits is for evidence to find out.
        self.met.wider += u64::from(number::is_long(number.mantissa) && !self.known.exact);
        if mantissa.unsigned_abs() >= limit {
            return Err(Reason::TooLarge(self.ty));
        }
        self.met.greatest = self.met.greatest.max(u64::try_from(mantissa.unsigned_abs()).unwrap_or(u64::MAX));
        Ok(match i64::try_from(mantissa) {
            Ok(mantissa) => Cell::Decimal { mantissa, scale: scale as u8 },
            Err(_) => {
                self.wide.push(mantissa);
                Cell::Wide { index: self.wide.len() as u32 - 1, scale: scale as u8 }
            }
        })
    }

    /// The mantissa of a number with exactly so many digits after the mark.
    #[inline]
    fn exact(&mut self, number: Number, scale: u16) -> Result<i128, Reason> {
        if number.scale == scale {
            return Ok(number.mantissa);
        }
        self.met.wider += u64::from(number.scale > scale);
        if let Some(fraction @ (Fraction::Round | Fraction::Cut)) = self.rounds
            && number.scale > scale
            && number.rescale(scale).is_none()
        {
            self.met.rounded += 1;
            return Ok(number.shortened(scale, fraction == Fraction::Round));
        }
        number.rescale(scale).ok_or(if number.scale > scale {
            Reason::TooFine { found: number.scale, scale }
        } else {
            Reason::TooLarge(Type::Decimal { precision: crate::types::MAX_DIGITS, scale })
        })
    }

    fn float(&mut self, bytes: &[u8]) -> Result<Cell, Reason> {
        let read = number::read_float(bytes, self.format.number, self.known.unit);
        let (value, digits) = read.ok_or(Reason::NotA(Type::Float))?;
        Ok(self.float_of(value, digits))
    }

    fn float_of(&mut self, value: f64, digits: Digits) -> Cell {
        let floats = self.met.floats.join(digits);
        if floats != self.met.floats {
            self.met.floats = floats;
            // Each float gives its digits back, but no type may hold those of all of them.
            let all = Domain::Number(self.known.join(floats)).ty();
            self.met.wider += u64::from(all != Type::Float);
        }
        Cell::Float(value)
    }

    fn truth(&mut self, bytes: &[u8], origin: Origin) -> Result<Cell, Reason> {
        let (pairs, value) = match (bytes, words::truth(bytes)) {
            (b"0", _) => (0, false),
            (b"1", _) => (0, true),
            (_, Some(found)) => found,
            _ => return Err(Reason::NotA(Type::Boolean)),
        };
        let in_common = self.met.pairs & pairs;
        if in_common != 0 {
            self.met.pairs = in_common;
        }
        // A typed source has truth values of its own: its strings are texts.
        self.met.wider += u64::from(in_common == 0 || origin == Origin::Text);
        Ok(Cell::Boolean(value))
    }
}

impl Default for SeenValues {
    fn default() -> Self {
        SeenValues { greatest: 0, floats: Digits::default(), pairs: ALL_PAIRS, wider: 0, rounded: 0 }
    }
}

impl SeenValues {
    /// Takes in what another caster of the same column met.
    pub fn merge(&mut self, other: &SeenValues) {
        self.greatest = self.greatest.max(other.greatest);
        self.floats = self.floats.join(other.floats);
        self.wider += other.wider;
        self.rounded += other.rounded;
    }

    /// The digits that the numbers of a column of this type needed.
    pub fn digits(&self, ty: Type) -> Digits {
        let scale = match ty {
            Type::Float => return self.floats,
            Type::Decimal { scale, .. } => scale,
            _ => 0,
        };
        // Casting does not find out whether all values are days. Where they may be, each counts as a surprise,
        // so the file is profiled.
        let int = digit_count(self.greatest as i128).saturating_sub(scale);
        Digits { int, scale, ..Digits::default() }
    }
}

fn uuid(raw: Raw<'_>, bytes: &[u8]) -> Result<Cell, Reason> {
    if !is_uuid(bytes) {
        return Err(Reason::NotA(Type::Uuid));
    }
    let braced = bytes.len() == 38;
    Ok(Cell::Uuid { start: (within(raw, bytes).start + braced as usize) as u32 })
}

/// Where a trimmed value stands in the buffer.
fn within(raw: Raw<'_>, trimmed: &[u8]) -> std::ops::Range<usize> {
    let start = raw.place.range().start + (trimmed.as_ptr() as usize - raw.value.as_ptr() as usize);
    start..start + trimmed.len()
}
