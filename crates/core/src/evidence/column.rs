//! What the values of one column showed.

use std::collections::{BTreeMap, BTreeSet};
use std::hash::{BuildHasher, Hasher};

use super::extremes::{Extremes, TextExtremes};
use super::recent::{Recent, Remembered};
use super::sketch::Sketch;
use super::tally::{Spot, Tally};
use super::typed;
use crate::record::{Cell, Field, Origin, Records};
use crate::spelling::number::{is_beyond_floats, is_long};
use crate::spelling::{
    Class, Number, Recognised, RecognisedNumber, RecognisedTemporal, recognise, temporal, trim,
    words::{self, ALL_PAIRS, Pairs, Word},
};
use crate::types::{Digits, Domain, Unit};

/// What is added to the hash by which a typed value is remembered.
const TYPED: u64 = 0x7479_7065_6420_6162;

pub(super) const HASH: foldhash::fast::FixedState = foldhash::fast::FixedState::with_seed(0x0071_1e57_a1e5);

/// What the values of one column showed.
#[derive(Clone, Debug)]
pub struct ColumnEvidence {
    /// Records in which the column was there at all, null or not.
    pub present: u64,
    /// Records that did not have it.
    pub missing: u64,
    /// Words that are null in this column because the user says so.
    pub also_null: Vec<String>,
    /// Strings of a typed source are text, whatever they say.
    pub strings_are_text: bool,
    /// What the file itself says that its values are.
    pub declared: Option<Domain>,
    /// Values that are not exact as what is declared, and were taken in as texts.
    pub(super) astray: u64,
    /// The least and the greatest float of a declared column.
    pub(super) floats: Option<(f64, f64)>,
    /// One tally per spelling of null, by its index in [`words::NULL_SPELLINGS`].
    pub(super) nulls: Vec<Tally>,
    pub(super) classes: Vec<Tally>,
    /// Digits and extremes per number class, an ambiguous mark read as the decimal mark.
    pub(super) digits: [Digits; NUMBERS],
    pub(super) numbers: [Extremes<Number>; NUMBERS],
    /// The extremes of whole numbers that fit 64 bits, which are kept apart for speed.
    pub(super) integers: Extremes<i64>,
    pub(super) units: BTreeMap<UnitKey, Tally>,
    /// Numbers that have the digits of a printed float, and those that no float prints as.
    pub(super) printed: Tally,
    pub(super) unprinted: Tally,
    /// Decimals of more than 15 digits.
    pub long: u64,
    /// Whole numbers whose digits are a day or a moment, and those whose are not.
    pub(super) days: Tally,
    pub(super) no_days: Tally,
    /// Numbers in parentheses or with their minus behind them.
    pub accounting: u64,
    /// Dates with a year of two digits.
    pub short_years: u64,
    /// One tally per set of date orders, and the extremes per order.
    pub(super) orders: Vec<Tally>,
    pub(super) instants: [Extremes<i64>; 3],
    /// Which numbers up to 31 stood first and second in dates whose order is not plain.
    pub(super) stood: (u32, u32),
    /// What stood between their numbers.
    pub(super) date_marks: BTreeSet<u8>,
    /// The pairs that all truth words may belong to.
    pub(super) pairs: Pairs,
    pub(super) times: Extremes<i64>,
    pub(super) texts: TextExtremes,
    /// The longest value, in characters.
    pub max_length: u64,
    pub(super) distinct: Sketch,
    pub(super) recent: Recent,
    /// Values with blanks around them.
    pub padded: u64,
}

pub(super) const NUMBERS: usize = Class::Infinite as usize + 1;

/// Units in an order of their own, so that evidence lists them alike however it was merged.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum UnitKey {
    Percent,
    Currency(char),
}

impl Default for ColumnEvidence {
    fn default() -> Self {
        ColumnEvidence {
            present: 0,
            missing: 0,
            also_null: Vec::new(),
            strings_are_text: false,
            declared: None,
            astray: 0,
            floats: None,
            nulls: vec![Tally::default(); words::NULL_SPELLINGS.len()],
            classes: vec![Tally::default(); Class::COUNT],
            digits: [Digits::default(); NUMBERS],
            numbers: [Extremes(None); NUMBERS],
            integers: Extremes(None),
            units: BTreeMap::new(),
            printed: Tally::default(),
            unprinted: Tally::default(),
            long: 0,
            days: Tally::default(),
            no_days: Tally::default(),
            accounting: 0,
            short_years: 0,
            orders: vec![Tally::default(); 8],
            instants: [Extremes(None); 3],
            stood: (0, 0),
            date_marks: BTreeSet::new(),
            pairs: ALL_PAIRS,
            times: Extremes(None),
            texts: TextExtremes::default(),
            max_length: 0,
            distinct: Sketch::default(),
            recent: Recent::default(),
            padded: 0,
        }
    }
}

impl ColumnEvidence {
    #[inline]
    pub(super) fn add_field(&mut self, records: &Records, field: Field, spot: impl Fn() -> Spot) {
        match field.origin() {
            Origin::Missing => self.missing += 1,
            // A typed source has nulls and truth values of its own: a string that reads like one is a word.
            Origin::Text if self.strings_are_text || is_plain_word(records.value(field)) => {
                self.add_text_as_such(records.value(field), spot)
            }
            _ => self.add(records.value(field), spot),
        }
    }

    /// Takes in a string that is not asked what else it might be.
    pub(super) fn add_text_as_such(&mut self, value: &[u8], spot: impl Fn() -> Spot) {
        self.present += 1;
        let mut hasher = HASH.build_hasher();
        hasher.write(value);
        self.classes[Class::Text as usize].add(&spot, value);
        if !value.is_empty() {
            self.add_text(value);
        }
        self.distinct.add(hasher.finish());
    }

    /// Takes a value of a typed source in: what it is need not be recognised. `text` is that value as a
    /// file of text would have it.
    pub(super) fn add_typed(&mut self, cell: Cell, text: &[u8], wide: &[i128], spot: impl Fn() -> Spot) {
        // A text of the same digits may be something else: neither is taken for the other.
        let salt = if matches!(cell, Cell::Text { .. }) { 0 } else { TYPED };
        self.add_as(text, salt, || typed::recognised(cell, text, wide), spot);
    }

    /// Takes a value in.
    #[inline]
    pub fn add(&mut self, value: &[u8], spot: impl Fn() -> Spot) {
        self.add_as(value, 0, || recognise(value), spot);
    }

    #[inline(always)]
    pub(super) fn add_as(
        &mut self,
        value: &[u8],
        salt: u64,
        found: impl FnOnce() -> Recognised,
        spot: impl Fn() -> Spot,
    ) {
        self.present += 1;
        if value.is_empty() {
            return self.nulls[words::EMPTY as usize].add(&spot, value);
        }
        if !self.also_null.is_empty() && self.also_null.iter().any(|word| word.as_bytes() == trim(value)) {
            return self.nulls[words::EMPTY as usize].add(&spot, value);
        }
        let mut hasher = HASH.build_hasher();
        hasher.write(value);
        let hash = hasher.finish();
        if let Some(Remembered { class, orders }) = self.recent.get(hash ^ salt) {
            self.classes[class as usize].count += 1;
            self.orders[orders as usize].count += u64::from(orders != 0);
            return;
        }
        self.add_new(value, hash, salt, found(), spot);
    }

    /// Takes in a value that was not seen a short while ago.
    #[inline]
    pub(super) fn add_new(
        &mut self,
        value: &[u8],
        hash: u64,
        salt: u64,
        found: Recognised,
        spot: impl Fn() -> Spot,
    ) {
        let mut remembered = Some(Remembered::default());
        let class = match found {
            Recognised::Null(index) => return self.nulls[index as usize].add(&spot, value),
            Recognised::Integer(number, digits) => {
                self.add_integer(number, digits, &spot, value);
                Class::Integer
            }
            Recognised::Number(number) => {
                // What is counted besides the class cannot be remembered.
                let Digits { unit, binary, exact, .. } = number.digits;
                let is_long = is_long(number.number.mantissa);
                let is_counted = unit != Unit::Bare || number.accounting || binary || exact || is_long;
                remembered = remembered.filter(|_| !is_counted);
                self.add_number(&number, &spot, value)
            }
            Recognised::Temporal(temporal) => {
                remembered =
                    (!temporal.short_year).then_some(Remembered { class: 0, orders: temporal.orders });
                self.add_temporal(&temporal, &spot, value)
            }
            Recognised::Time(micros) => {
                self.times.add(micros);
                Class::Time
            }
            Recognised::Boolean(pairs) => {
                self.pairs &= pairs;
                found.class().unwrap_or(Class::Text)
            }
            ref other => other.class().unwrap_or(Class::Text),
        };
        self.classes[class as usize].add(&spot, value);
        let padded = self.add_text(value);
        self.distinct.add(hash);
        if let Some(remembered) = remembered.filter(|_| !padded) {
            self.recent.put(hash ^ salt, Remembered { class: class as u8, ..remembered });
        }
    }

    #[inline]
    pub(super) fn add_integer(&mut self, value: i64, digits: u16, spot: impl FnOnce() -> Spot, text: &[u8]) {
        let seen = &mut self.digits[Class::Integer as usize];
        seen.int = seen.int.max(digits);
        seen.exact |= is_beyond_floats(value);
        let moment = temporal::of_digits(value);
        seen.not_days |= moment.is_none_or(|(_, class)| class != Class::Date);
        seen.not_moments |= moment.is_none();
        let tally = if moment.is_some() { &mut self.days } else { &mut self.no_days };
        tally.add(spot, text);
        self.integers.add(value);
    }

    pub(super) fn add_number(
        &mut self,
        found: &RecognisedNumber,
        spot: impl Fn() -> Spot,
        value: &[u8],
    ) -> Class {
        let at = found.class as usize;
        self.digits[at] = self.digits[at].join(Digits { not_days: true, not_moments: true, ..found.digits });
        self.numbers[at].add(found.number);
        self.accounting += found.accounting as u64;
        self.long += u64::from(is_long(found.number.mantissa));
        if found.digits.binary {
            self.printed.add(&spot, value);
        } else if found.digits.exact {
            self.unprinted.add(&spot, value);
        }
        let unit = match found.digits.unit {
            Unit::Bare => return found.class,
            Unit::Percent => UnitKey::Percent,
            Unit::Currency(sign) => UnitKey::Currency(sign),
        };
        self.units.entry(unit).or_default().add(spot, value);
        found.class
    }

    pub(super) fn add_temporal(
        &mut self,
        found: &RecognisedTemporal,
        spot: impl FnOnce() -> Spot,
        value: &[u8],
    ) -> Class {
        self.orders[found.orders as usize].add(spot, value);
        self.short_years += found.short_year as u64;
        self.stood.0 |= 1u32.wrapping_shl(u32::from(found.pair.0));
        self.stood.1 |= 1u32.wrapping_shl(u32::from(found.pair.1));
        if found.mark != 0 && !self.date_marks.contains(&found.mark) {
            self.date_marks.insert(found.mark);
        }
        for order in 0..3 {
            if found.orders >> order & 1 == 1 {
                self.instants[order].add(found.micros[order]);
            }
        }
        found.class
    }

    /// Whether there are blanks around the value.
    #[inline]
    pub(super) fn add_text(&mut self, value: &[u8]) -> bool {
        if value.len() as u64 > self.max_length {
            self.max_length = self.max_length.max(characters(value));
        }
        self.texts.add(value);
        let padded = value[0] <= b' ' || value[value.len() - 1] <= b' ';
        self.padded += u64::from(padded);
        padded
    }

    /// Takes in what the other saw.
    pub fn merge(&mut self, other: &ColumnEvidence) {
        self.merge_declared(other);
        self.present += other.present;
        self.missing += other.missing;
        merge_all(&mut self.nulls, &other.nulls);
        merge_all(&mut self.classes, &other.classes);
        merge_all(&mut self.orders, &other.orders);
        for at in 0..NUMBERS {
            self.digits[at] = self.digits[at].join(other.digits[at]);
            self.numbers[at].merge(&other.numbers[at]);
        }
        self.integers.merge(&other.integers);
        for (unit, tally) in &other.units {
            self.units.entry(*unit).or_default().merge(tally);
        }
        self.printed.merge(&other.printed);
        self.unprinted.merge(&other.unprinted);
        self.long += other.long;
        self.days.merge(&other.days);
        self.no_days.merge(&other.no_days);
        self.accounting += other.accounting;
        self.short_years += other.short_years;
        for order in 0..3 {
            self.instants[order].merge(&other.instants[order]);
        }
        self.stood = (self.stood.0 | other.stood.0, self.stood.1 | other.stood.1);
        self.date_marks.extend(&other.date_marks);
        self.pairs &= other.pairs;
        self.times.merge(&other.times);
        self.texts.merge(&other.texts);
        self.max_length = self.max_length.max(other.max_length);
        self.distinct.merge(&other.distinct);
        self.padded += other.padded;
    }

    /// Takes over what another part of the same column was declared to be. Where one part has values and
    /// no declaration, as in files of text, the values decide for all.
    pub(super) fn merge_declared(&mut self, other: &ColumnEvidence) {
        let is_blank = |column: &ColumnEvidence| column.present == 0 && column.declared.is_none();
        self.declared = match (self.declared, other.declared) {
            (Some(ours), Some(theirs)) => Some(ours.join(theirs)),
            (Some(ours), None) if is_blank(other) => Some(ours),
            (None, Some(theirs)) if is_blank(self) => Some(theirs),
            _ => None,
        };
        self.astray += other.astray;
        self.floats = match (self.floats, other.floats) {
            (Some(ours), Some(theirs)) => Some((ours.0.min(theirs.0), ours.1.max(theirs.1))),
            (one, other) => one.or(other),
        };
    }

    /// How often each spelling of null was seen, those that were.
    pub fn nulls(&self) -> impl Iterator<Item = (u8, &Tally)> {
        self.nulls.iter().enumerate().filter(|(_, t)| t.count > 0).map(|(at, t)| (at as u8, t))
    }

    /// How often each class was seen, those that were.
    pub fn classes(&self) -> impl Iterator<Item = (Class, &Tally)> {
        Class::ALL.into_iter().zip(&self.classes).filter(|(_, t)| t.count > 0)
    }

    /// The tally of one class.
    pub fn class(&self, class: Class) -> &Tally {
        &self.classes[class as usize]
    }

    /// How many distinct values there are, nulls left out, and whether that is exact.
    pub fn distinct(&self) -> (u64, bool) {
        (self.distinct.count(), self.distinct.is_exact())
    }

    /// Values that are no spelling of null.
    pub fn values(&self) -> u64 {
        self.classes.iter().map(|t| t.count).sum()
    }
}

fn merge_all(ours: &mut [Tally], theirs: &[Tally]) {
    ours.iter_mut().zip(theirs).for_each(|(a, b)| a.merge(b));
}

/// Whether a text would be read as a truth value or a null in a file of text.
fn is_plain_word(value: &[u8]) -> bool {
    let is_short = (1..=words::LONGEST_TRUTH).contains(&value.len());
    is_short && matches!(words::look_up(trim(value)), Some(Word::Boolean(..) | Word::Null(1..)))
}

fn characters(value: &[u8]) -> u64 {
    value.iter().filter(|b| (**b as i8) >= -0x40).count() as u64
}
