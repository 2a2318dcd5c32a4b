//! From evidence to a decision: the narrowest type that holds every value, the one format
//! in which they all are written, and what stood against anything narrower.

use serde::Serialize;

use super::column::UnitKey;
use super::{ColumnEvidence, Spot, Tally};
use crate::format::{Format, Reading};
use crate::spelling::number::{ALL_STYLES, Styles};
use crate::spelling::temporal::{self, ANY_ORDER, Orders};
use crate::spelling::words::{BoolWords, NullSet};
use crate::spelling::{Class, DateOrder, Family, Fraction, Number, NumberStyle};
use crate::types::{Digits, Domain, Type, Unit};

/// What a column's neighbours and its file suggest where its own values leave a choice.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Hints {
    /// The decimal mark is a comma (`true`) or a point: other columns show it.
    pub comma: Option<bool>,
    /// The same, but only the delimiter suggests it: enough to read `1,234`, where a comma has
    /// to mean something, and not enough to take the point in `1.234` for anything but a point.
    pub likely_comma: Option<bool>,
    /// The order of dates.
    pub order: Option<DateOrder>,
    /// The day that the file is of, by its name, in days since 1970.
    pub day: Option<i32>,
    /// A comma is no decimal mark in this file, whatever stands on both sides of it.
    pub no_comma: bool,
}

/// What a user says of how a column is written: it is not asked of its values.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Forced {
    /// The style of its numbers.
    pub style: Option<NumberStyle>,
    /// The order of its dates.
    pub order: Option<DateOrder>,
    /// What becomes of digits that are not kept.
    pub fraction: Option<Fraction>,
}

/// What a column is, as far as its values tell.
#[derive(Clone, Debug, PartialEq)]
pub struct Decision {
    /// The values' domain, whose type is the column's.
    pub domain: Domain,
    /// How they are written.
    pub format: Format,
    /// Some record has no value.
    pub nullable: bool,
    /// How many records have none.
    pub nulls: u64,
    /// What the values leave open, and what was chosen.
    pub ambiguity: Option<Ambiguity>,
    /// What it is known from how the values are read. Not every guess is worth telling.
    pub reading: Reading,
    /// It is text since some of its timestamps have more digits of a second than are kept, and nobody has
    /// said what becomes of these.
    pub is_too_fine: bool,
    /// What stood against narrower types.
    pub against: Vec<Against>,
}

impl Decision {
    /// The decision for a column that no value was asked about.
    pub fn of_domain(domain: Domain) -> Decision {
        let nulls = if domain == Domain::Unknown { NullSet::ALWAYS } else { NullSet::ALL };
        Decision {
            domain,
            format: Format { nulls, ..Format::default() },
            nullable: false,
            nulls: 0,
            ambiguity: None,
            reading: Reading::Shown,
            is_too_fine: false,
            against: Vec::new(),
        }
    }
}

/// A choice that the values alone do not settle.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ambiguity {
    /// The only mark is followed by three digits everywhere: decimals or thousands.
    Mark {
        /// The style that was chosen.
        chosen: NumberStyle,
        /// Whether other columns or the delimiter suggested it.
        hinted: bool,
    },
    /// No day is above twelve.
    DateOrder {
        /// The order that was chosen.
        chosen: DateOrder,
        /// What it was chosen by.
        by: Chosen,
        /// What stands between the numbers is not what it was in the files before.
        is_marked_anew: bool,
    },
}

/// What an order was chosen by where the values leave it open.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Chosen {
    /// Another column of the file has it.
    AnotherColumn,
    /// Read so, the dates lie near the day in the file's name, and not otherwise.
    FileName,
    /// One of the two numbers changes from value to value and the other does not: days do.
    WhatVaries,
    /// It is the commoner one.
    Custom,
}

/// Values that kept a column from a narrower type.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Against {
    /// The narrower type.
    #[serde(rename = "type")]
    pub narrower: String,
    /// How many values are of the narrower type.
    #[serde(skip)]
    pub fitting: u64,
    /// How many are not.
    pub count: u64,
    /// Where the first of them stands.
    #[serde(flatten)]
    pub spot: Spot,
    /// The first of them.
    pub value: String,
}

/// Decides one column by its values.
pub(super) fn decide_by_values(column: &ColumnEvidence, hints: Hints, forced: Forced) -> Decision {
    let mut format = Format::default();
    let (mut domain, ambiguity) = narrowest(column, hints, forced, &mut format);
    if domain.ty() == Type::Text {
        domain = Domain::Text;
        // A user may know better and give the column a type: then most of its values count.
        format.number = forced.style.unwrap_or_else(|| column.commonest_style());
        format.date = forced.order.unwrap_or_else(|| column.commonest_order());
    }
    // In a column of text, a word like `NA` or a dash may mean what it says. A column without values records
    // that it held such words: they become values if the column becomes text.
    let has_words = || column.nulls().any(|(at, _)| !NullSet::ALWAYS.holds(at));
    format.nulls = match domain {
        Domain::Text => NullSet::ALWAYS,
        Domain::Unknown if !has_words() => NullSet::ALWAYS,
        _ => NullSet::ALL,
    };
    let null_count = |at: u8| format.nulls.holds(at);
    let nulls =
        column.missing + column.nulls().filter(|(at, _)| null_count(*at)).map(|(_, t)| t.count).sum::<u64>();
    let against = against(column, domain);
    let is_free = forced.style.is_none() && forced.order.is_none();
    let is_guess = domain != Domain::Text && is_free && column.is_open();
    let reading = if is_guess { Reading::Guessed } else { Reading::Shown };
    let is_too_fine = domain == Domain::Text && column.fine() > 0 && forced.fraction.is_none();
    Decision { domain, format, nullable: nulls > 0, nulls, ambiguity, reading, is_too_fine, against }
}

fn narrowest(
    column: &ColumnEvidence,
    hints: Hints,
    forced: Forced,
    format: &mut Format,
) -> (Domain, Option<Ambiguity>) {
    let keeps_fine = matches!(forced.fraction, Some(Fraction::Round | Fraction::Cut));
    let family = |class: Class| if keeps_fine && class.is_fine() { Family::Temporal } else { class.family() };
    let mut families: Vec<Family> = column.classes().map(|(class, _)| family(class)).collect();
    families.dedup();
    match families[..] {
        [] => (Domain::Unknown, None),
        [Family::Number] => numbers(column, hints, forced.style, format),
        // Days written as digits alone, beside others.
        [Family::Number, Family::Temporal] => {
            let (digits, _) = numbers(column, hints, forced.style, format);
            let (days, ambiguity) = temporals(column, hints, forced.order, format);
            (digits.join(days), ambiguity)
        }
        [Family::Boolean] => (truths(column, format), None),
        [Family::Temporal] => temporals(column, hints, forced.order, format),
        [Family::Time] => (Domain::Time, None),
        [Family::Uuid] => (Domain::Uuid, None),
        [Family::Json] => (Domain::Json, None),
        _ => (Domain::Text, None),
    }
}

fn truths(column: &ColumnEvidence, format: &mut Format) -> Domain {
    let Some(pair) = BoolWords::first_of(column.pairs) else { return Domain::Text };
    format.truth = pair;
    Domain::Boolean
}

fn numbers(
    column: &ColumnEvidence,
    hints: Hints,
    forced: Option<NumberStyle>,
    format: &mut Format,
) -> (Domain, Option<Ambiguity>) {
    let Some(unit) = column.unit_in_common() else { return (Domain::Text, None) };
    let styles = column.styles_in_common() & forced.map_or(ALL_STYLES, NumberStyle::bit);
    let Some((style, ambiguity)) = choose_style(column, styles, hints) else { return (Domain::Text, None) };
    format.number = style;
    let digits = column.digits_in(style);
    if hints.no_comma && style.comma && digits.scale > 0 {
        return (Domain::Text, None);
    }
    // One day alone may be any number.
    let several = column.values() > 1 && !digits.not_moments;
    let digits = Digits { unit, several, ..digits };
    (Domain::Number(digits), ambiguity)
}

fn choose_style(
    column: &ColumnEvidence,
    styles: Styles,
    hints: Hints,
) -> Option<(NumberStyle, Option<Ambiguity>)> {
    let possible: Vec<NumberStyle> = NumberStyle::ALL.into_iter().filter(|s| styles & s.bit() != 0).collect();
    let first = *possible.first()?;
    if styles == ALL_STYLES {
        return Some((first, None));
    }
    let open = |class: Class| column.class(class).count > 0;
    let comma =
        open(Class::CommaOrGroup) && possible.iter().any(|s| s.comma) && possible.iter().any(|s| !s.comma);
    let point =
        open(Class::PointOrGroup) && possible.iter().any(|s| s.comma) && possible.iter().any(|s| !s.comma);
    if !comma && !point {
        return Some((first, None));
    }
    // `1,234` alone: thousands are likelier than decimals that all happen to have three
    // digits, unless the file shows decimal commas elsewhere. `1.234`: a point is a point.
    let wants_comma = match comma {
        true => hints.comma.or(hints.likely_comma),
        false => hints.comma,
    };
    let chosen = possible.iter().copied().find(|s| s.comma == wants_comma.unwrap_or(false)).unwrap_or(first);
    let open = comma || chosen.comma || hints.likely_comma == Some(true);
    Some((chosen, open.then_some(Ambiguity::Mark { chosen, hinted: wants_comma.is_some() })))
}

fn temporals(
    column: &ColumnEvidence,
    hints: Hints,
    forced: Option<DateOrder>,
    format: &mut Format,
) -> (Domain, Option<Ambiguity>) {
    let orders = match column.orders_in_common() {
        ANY_ORDER => ANY_ORDER,
        orders => orders & forced.map_or(ANY_ORDER, DateOrder::bit),
    };
    let mut possible = DateOrder::ALL.into_iter().filter(|order| orders & order.bit() != 0);
    let Some(first) = possible.next() else { return (Domain::Text, None) };
    let mut domain = Domain::Unknown;
    let temporal =
        column.classes().filter(|(class, _)| class.family() == Family::Temporal || class.is_fine());
    for (class, _) in temporal {
        domain = domain.join(match class {
            Class::Date => Domain::Date,
            Class::Timestamp | Class::FineTimestamp => Domain::Timestamp,
            _ => Domain::TimestampTz,
        });
    }
    if orders == ANY_ORDER {
        format.date = DateOrder::Ymd;
        return (domain, None);
    }
    let settled = possible.next().is_none();
    let hinted = hints.order.filter(|order| orders & order.bit() != 0);
    let varying = column.varying().filter(|order| orders & order.bit() != 0);
    let (chosen, by) = match (hinted, column.order_near(hints.day, orders), varying) {
        (Some(order), ..) => (order, Chosen::AnotherColumn),
        (None, Some(order), _) => (order, Chosen::FileName),
        (None, None, Some(order)) => (order, Chosen::WhatVaries),
        (None, None, None) => (first, Chosen::Custom),
    };
    format.date = if settled { first } else { chosen };
    format.date_mark = column.date_mark();
    let ambiguity = Ambiguity::DateOrder { chosen, by, is_marked_anew: false };
    (domain, (!settled && domain != Domain::Text).then_some(ambiguity))
}

impl ColumnEvidence {
    /// Timestamps with more digits of a second than are kept.
    pub fn fine(&self) -> u64 {
        self.class(Class::FineTimestamp).count + self.class(Class::FineTimestampTz).count
    }

    /// The styles in which every number of the column is one.
    pub fn styles_in_common(&self) -> Styles {
        self.classes()
            .map(|(class, _)| class)
            .filter(|c| c.family() == Family::Number)
            .fold(ALL_STYLES, |all, c| all & c.styles())
    }

    /// The style in which most numbers of the column are one.
    pub(super) fn commonest_style(&self) -> NumberStyle {
        let fitting = |style: &NumberStyle| -> u64 {
            self.classes()
                .filter(|(class, _)| class.styles() & style.bit() != 0)
                .map(|(_, tally)| tally.count)
                .sum()
        };
        // The last of equals wins in `max_by_key`, and the first is preferred.
        NumberStyle::ALL.into_iter().rev().max_by_key(fitting).unwrap_or_default()
    }

    /// The order in which most dates of the column are one.
    fn commonest_order(&self) -> DateOrder {
        let fitting = |order: &DateOrder| -> u64 {
            let seen = self.orders.iter().enumerate().filter(|(orders, _)| *orders as u8 & order.bit() != 0);
            seen.map(|(_, tally)| tally.count).sum()
        };
        DateOrder::ALL.into_iter().rev().max_by_key(fitting).unwrap_or_default()
    }

    /// What stands between the numbers of all dates whose order is not plain.
    pub(super) fn date_mark(&self) -> Option<u8> {
        let mut marks = self.date_marks.iter();
        marks.next().copied().filter(|_| marks.next().is_none())
    }

    /// The only order of these in which all dates lie within seven weeks of a day.
    pub(super) fn order_near(&self, day: Option<i32>, orders: Orders) -> Option<DateOrder> {
        let day = i64::from(day?) * temporal::DAY;
        let is_near = |order: &DateOrder| {
            let range = self.instants.get(*order as usize).and_then(|instants| instants.0);
            range.is_some_and(|(least, greatest)| {
                [least, greatest].iter().all(|at| at.abs_diff(day) <= 45 * temporal::DAY.unsigned_abs())
            })
        };
        let mut near = DateOrder::ALL.into_iter().filter(|order| orders & order.bit() != 0).filter(is_near);
        near.next().filter(|_| near.next().is_none())
    }

    /// The order by which number varies: over a few weeks days do and months hardly.
    fn varying(&self) -> Option<DateOrder> {
        let (first, second) = ((self.stood.0 & !1).count_ones(), (self.stood.1 & !1).count_ones());
        match (first, second) {
            (3.., 0..=2) => Some(DateOrder::Dmy),
            (0..=2, 3..) => Some(DateOrder::Mdy),
            _ => None,
        }
    }

    /// The orders in which every date of the column is one.
    pub fn orders_in_common(&self) -> Orders {
        let seen = self.orders.iter().enumerate().filter(|(_, tally)| tally.count > 0);
        seen.fold(ANY_ORDER, |all, (orders, _)| all & orders as u8)
    }

    /// Whether some dates can only be one order and others only another, with an example each.
    pub fn orders_at_odds(&self) -> Option<(&Tally, &Tally)> {
        let only = |order: DateOrder| &self.orders[order.bit() as usize];
        let (dmy, mdy) = (only(DateOrder::Dmy), only(DateOrder::Mdy));
        (dmy.count > 0 && mdy.count > 0).then_some((dmy, mdy))
    }

    /// The sign that every number carries; `None` where they do not agree.
    pub(super) fn unit_in_common(&self) -> Option<Unit> {
        let numbers: u64 =
            self.classes().filter(|(c, _)| c.family() == Family::Number).map(|(_, t)| t.count).sum();
        let mut units = self.units.iter();
        match (units.next(), units.next()) {
            (None, _) => Some(Unit::Bare),
            (Some((unit, tally)), None) if tally.count == numbers => Some(match unit {
                UnitKey::Percent => Unit::Percent,
                UnitKey::Currency(sign) => Unit::Currency(*sign),
            }),
            _ => None,
        }
    }

    /// Numbers that carry a percent or currency sign.
    pub fn with_unit(&self) -> u64 {
        self.units.values().map(|tally| tally.count).sum()
    }

    fn digits_in(&self, style: NumberStyle) -> Digits {
        self.digits_of(style, &|_| true)
    }

    /// The digits of the numbers of some classes, as read in a style.
    pub(super) fn digits_of(&self, style: NumberStyle, is_wanted: &dyn Fn(Class) -> bool) -> Digits {
        self.number_classes().filter(|class| is_wanted(*class)).fold(Digits::default(), |all, class| {
            let mut digits = self.digits[class as usize];
            if reads_as_group(class, style) {
                digits = Digits { int: digits.int + digits.scale, scale: 0, binary: false, ..digits };
            }
            all.join(digits)
        })
    }

    fn number_classes(&self) -> impl Iterator<Item = Class> {
        self.classes().map(|(class, _)| class).filter(|class| class.family() == Family::Number)
    }

    /// The least and greatest number as read in a style.
    pub fn number_range(&self, style: NumberStyle) -> Option<(Number, Number)> {
        let whole = |value: i64| Number { mantissa: value as i128, scale: 0 };
        let integers = self.integers.0.map(|(least, greatest)| (whole(least), whole(greatest)));
        let ranges = self.number_classes().filter_map(|class| {
            let (mut least, mut greatest) = self.numbers[class as usize].0?;
            if reads_as_group(class, style) {
                (least.scale, greatest.scale) = (0, 0);
            }
            Some((least, greatest))
        });
        ranges.chain(integers).reduce(|a, b| (a.0.min(b.0), a.1.max(b.1)))
    }

    /// The least and greatest whole number.
    pub fn whole_range(&self) -> Option<(i64, i64)> {
        self.integers.0
    }

    /// The earliest and latest instant as read in an order, in microseconds since 1970.
    pub fn instant_range(&self, order: DateOrder) -> Option<(i64, i64)> {
        self.instants[order as usize].0
    }

    /// The earliest and latest time of day, in microseconds.
    pub fn time_range(&self) -> Option<(i64, i64)> {
        self.times.0
    }

    /// The least and greatest value as text, by bytes, up to their first 64.
    pub fn text_range(&self) -> Option<(&[u8], &[u8])> {
        self.texts.get()
    }
}

fn reads_as_group(class: Class, style: NumberStyle) -> bool {
    match class {
        Class::PointOrGroup => style.comma,
        Class::CommaOrGroup => !style.comma,
        _ => false,
    }
}

/// The steps a type was reached by: each class of values that a narrower type could not hold.
pub(super) fn against(column: &ColumnEvidence, domain: Domain) -> Vec<Against> {
    let ty = domain.ty();
    let of = |wanted: &dyn Fn(Class) -> bool| -> Tally {
        let mut all = Tally::default();
        column.classes().filter(|(class, _)| wanted(*class)).for_each(|(_, tally)| all.merge(tally));
        all
    };
    let numbers = of(&|class| class.family() == Family::Number);
    let but = |outside: &Tally| Tally { count: numbers.count - outside.count, first: numbers.first.clone() };
    let mut found = Vec::new();
    let mut step = |narrower: &str, inside: Tally, outside: Tally| {
        if let Some(first) = outside.first
            && inside.count > 0
        {
            let (fitting, count) = (inside.count, outside.count);
            let value = first.value.to_string();
            found.push(Against { narrower: narrower.to_owned(), fitting, count, spot: first.spot, value });
        }
    };
    let whole = |class: Class| matches!(class, Class::Integer | Class::SpaceWhole | Class::ApostropheWhole);
    match ty {
        Type::Decimal { .. } => {
            step("integer", of(&whole), of(&|c| !whole(c)));
            if matches!(domain, Domain::Number(digits) if digits.float || digits.binary) {
                step("float", but(&column.unprinted), column.unprinted.clone());
            }
        }
        Type::Float => {
            let mut floats = of(&|class| class.type_word() == "float");
            floats.merge(&column.printed);
            // A number with an exponent may have the digits of a printed float as well.
            floats.count = floats.count.min(numbers.count);
            step("decimal", but(&floats), floats);
        }
        // One day alone may be any number.
        Type::Integer if column.days.count > 0 => step("date", column.days.clone(), column.no_days.clone()),
        Type::Timestamp => step("date", of(&|c| c == Class::Date), of(&|c| c != Class::Date)),
        Type::Text => against_text(column, &of, &mut step),
        _ => {}
    }
    found
}

/// Adds up the tallies of the classes that a test picks.
type Gather<'a> = dyn Fn(&dyn Fn(Class) -> bool) -> Tally + 'a;

/// A column of text is held against the type that most of its values are of.
fn against_text(column: &ColumnEvidence, of: &Gather<'_>, step: &mut dyn FnMut(&str, Tally, Tally)) {
    let typed = column.classes().filter(|(class, _)| class.family() != Family::Text);
    let Some((leading, _)) = typed.max_by_key(|(_, tally)| tally.count) else { return };
    let family = leading.family();
    let mut outside = of(&|class| class.family() != family);
    let all_of_family = outside.count == 0;
    if all_of_family {
        // All of one family and still text: signs, marks or orders that do not agree.
        let rest = of(&|class| class.family() == family && class != leading);
        outside =
            if rest.count > 0 { rest } else { column.units.values().next().cloned().unwrap_or_default() };
        if outside.count == 0
            && let Some((_, mdy)) = column.orders_at_odds()
        {
            outside = mdy.clone();
        }
    }
    let mut inside = of(&|class| class.family() == family);
    inside.count = inside.count.saturating_sub(if all_of_family { outside.count } else { 0 });
    if inside.count * 10 < inside.count + outside.count {
        // A word here and there that could be something else says nothing of a column of text.
        return;
    }
    step(leading.type_word(), inside, outside);
}
