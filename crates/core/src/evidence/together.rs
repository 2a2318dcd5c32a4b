//! The columns of a table decided together: where a column's own values leave it open how they are
//! written, the feed's earlier files tell, or the file's other columns.

use super::decide::{Ambiguity, Decision, Forced, Hints};
use super::declared::decide;
use super::{ColumnEvidence, TableEvidence};
use crate::format::{Format, Reading};
use crate::spelling::number::{ALL_STYLES, Group};
use crate::spelling::temporal::ANY_ORDER;
use crate::spelling::{DateOrder, NumberStyle};
use crate::types::Domain;

/// How a column was written until now, as far as its values showed it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct FormatHint {
    /// Whether its decimal mark is a comma, if any of its numbers had a mark.
    pub comma: Option<bool>,
    /// The order of its dates.
    pub order: Option<DateOrder>,
    /// What stood between their numbers.
    pub date_mark: Option<u8>,
}

impl FormatHint {
    /// What a column's layout tells of it.
    pub fn of(domain: Domain, format: Format) -> FormatHint {
        let has_marks =
            matches!(domain, Domain::Number(d) if d.scale > 0 || format.number.group == Group::Mark);
        let is_dated = matches!(domain, Domain::Date | Domain::Timestamp | Domain::TimestampTz);
        FormatHint {
            comma: has_marks.then_some(format.number.comma),
            order: is_dated.then_some(format.date),
            date_mark: format.date_mark.filter(|_| is_dated),
        }
    }

    /// The hint of both, where they do not differ.
    pub fn meet(self, other: FormatHint) -> FormatHint {
        fn both<T: PartialEq>(ours: Option<T>, theirs: Option<T>) -> Option<T> {
            match (ours, theirs) {
                (Some(ours), Some(theirs)) => (ours == theirs).then_some(ours),
                (one, None) | (None, one) => one,
            }
        }
        FormatHint {
            comma: both(self.comma, other.comma),
            order: both(self.order, other.order),
            date_mark: both(self.date_mark, other.date_mark),
        }
    }

    /// Whether what was decided of a column that its values leave open goes against it.
    pub fn is_broken_by(self, decision: &Decision) -> bool {
        let now = FormatHint::of(decision.domain, decision.format);
        let met = self.meet(now);
        decision.reading == Reading::Guessed && (met.comma, met.order) != (self.comma, self.order)
    }
}

/// Decides every column of a table, the clear ones first: what they show helps the others.
///
/// `forced` says how columns are written, and `known_hints` how they were until now, by their number;
/// those beyond its end are free. A column that its values leave open is read as it always was,
/// unless clear ones show that the file is written in another way than the ones before.
pub fn decide_all(
    table: &TableEvidence,
    hints: Hints,
    forced: &[Forced],
    known_hints: &[FormatHint],
) -> Vec<Decision> {
    let said = |at: usize| forced.get(at).copied().unwrap_or_default();
    let first = |(at, column)| decide(column, Hints::default(), said(at));
    let alone: Vec<Decision> = table.columns.iter().enumerate().map(first).collect();
    let kept = still_kept(&alone, known_hints);
    let clear = |d: &&Decision| d.ambiguity.is_none();
    let comma = alone.iter().filter(clear).find_map(|d| match d.domain {
        Domain::Number(digits) if digits.scale > 0 => Some(d.format.number.comma),
        _ => None,
    });
    // Where commas part the fields and decimals have points, `1,2` is a list.
    let is_decimal = |d: &Decision, comma: bool| {
        matches!(d.domain, Domain::Number(digits) if digits.scale > 0) && d.format.number.comma == comma
    };
    let no_comma =
        hints.likely_comma == Some(false) && alone.iter().filter(clear).any(|d| is_decimal(d, false));
    let order = table.columns.iter().zip(&alone).filter(|(_, d)| clear(d)).find_map(|(column, d)| {
        (column.orders_in_common() != ANY_ORDER && FormatHint::of(d.domain, d.format).order.is_some())
            .then_some(d.format.date)
    });
    let hints = Hints { comma: comma.or(hints.comma), order: order.or(hints.order), ..hints };
    let again = |((at, column), alone): ((usize, &ColumnEvidence), Decision)| {
        let mut hint = kept(at);
        // Dates that are marked in another way, or that the file's name speaks against, are read anew.
        let is_marked_anew = hint.order.is_some()
            && matches!((hint.date_mark, alone.format.date_mark), (Some(was), Some(is)) if was != is);
        let near = column.order_near(hints.day, column.orders_in_common());
        if is_marked_anew || near.is_some_and(|near| hint.order.is_some_and(|order| order != near)) {
            hint.order = None;
        }
        hint.date_mark = None;
        if no_comma && alone.ambiguity.is_none() && is_decimal(&alone, true) && said(at).style.is_none() {
            decide(column, Hints { no_comma, ..hints }, said(at))
        } else if alone.reading == Reading::Guessed && hint != FormatHint::default() {
            let hints =
                Hints { comma: hint.comma.or(hints.comma), order: hint.order.or(hints.order), ..hints };
            Decision { ambiguity: None, reading: Reading::Kept, ..decide(column, hints, said(at)) }
        } else if alone.ambiguity.is_some() {
            let mut decision = decide(column, hints, said(at));
            if let Some(Ambiguity::DateOrder { is_marked_anew: told, .. }) = &mut decision.ambiguity {
                *told = is_marked_anew;
            }
            decision
        } else {
            alone
        }
    };
    table.columns.iter().enumerate().zip(alone).map(again).collect()
}

/// The hints that a file keeps to: those of marks, and of dates, unless a column breaks with its own.
fn still_kept<'a>(
    alone: &[Decision],
    known_hints: &'a [FormatHint],
) -> impl Fn(usize) -> FormatHint + use<'a> {
    let clear = alone.iter().zip(known_hints).filter(|(decision, _)| decision.reading == Reading::Shown);
    let (mut marks, mut dates) = (true, true);
    for (decision, before) in clear {
        let now = FormatHint::of(decision.domain, decision.format);
        marks &= now.comma.is_none() || before.comma.is_none() || now.comma == before.comma;
        dates &= now.order.is_none() || before.order.is_none() || now.order == before.order;
    }
    move |at| {
        let hint = known_hints.get(at).copied().unwrap_or_default();
        FormatHint {
            comma: hint.comma.filter(|_| marks),
            order: hint.order.filter(|_| dates),
            date_mark: hint.date_mark.filter(|_| dates),
        }
    }
}

impl ColumnEvidence {
    /// Whether its numbers may be read with a point as well as with a comma, and not alike, or its
    /// dates in several orders.
    pub(super) fn is_open(&self) -> bool {
        let (styles, orders) = (self.styles_in_common(), self.orders_in_common());
        let may_be = |comma: bool| {
            NumberStyle::ALL.iter().any(|style| style.comma == comma && styles & style.bit() != 0)
        };
        (styles != ALL_STYLES && may_be(true) && may_be(false))
            || (orders != ANY_ORDER && orders.count_ones() > 1)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::evidence::Spot;

    /// Columns parted by `|`, their values by blanks.
    fn table(columns: &str) -> TableEvidence {
        let column = |values: &str| {
            let mut evidence = ColumnEvidence::default();
            values.split(' ').for_each(|value| evidence.add(value.as_bytes(), Spot::default));
            evidence
        };
        TableEvidence { columns: columns.split('|').map(column).collect(), ..TableEvidence::default() }
    }

    fn number(comma: bool) -> FormatHint {
        FormatHint { comma: Some(comma), ..FormatHint::default() }
    }

    fn date(order: DateOrder) -> FormatHint {
        FormatHint { order: Some(order), ..FormatHint::default() }
    }

    #[rstest]
    #[case::comma("1.234", &[number(true)], "integer")]
    #[case::point("1.234", &[number(false)], "decimal(4,3)")]
    #[case::none_known("1.234", &[], "decimal(4,3)")]
    #[case::grouped("1,234", &[number(false)], "integer")]
    #[case::comma_and_no_group("1,234", &[number(true)], "decimal(4,3)")]
    #[case::its_own_values_come_first("1.234 2.5", &[number(true)], "decimal(4,3)")]
    #[case::another_stays("1.234|7,5", &[number(false), number(true)], "decimal(4,3)")]
    #[case::written_anew("1,234|7,5", &[number(false), number(false)], "decimal(4,3)")]
    fn what_values_leave_open_is_read_as_it_always_was(
        #[case] columns: &str,
        #[case] known_hints: &[FormatHint],
        #[case] ty: &str,
    ) {
        let decisions = decide_all(&table(columns), Hints::default(), &[], known_hints);
        assert_eq!(decisions[0].domain.ty().to_string(), ty);
        assert!(known_hints.len() != 1 || decisions[0].ambiguity.is_none());
    }

    #[rstest]
    #[case::known("03/04/2026", &[date(DateOrder::Mdy)], DateOrder::Mdy)]
    #[case::not_known("03/04/2026", &[], DateOrder::Dmy)]
    #[case::of_the_standard("03/04/2026", &[date(DateOrder::Ymd)], DateOrder::Dmy)]
    #[case::its_own_values_come_first("03/04/2026 25/04/2026", &[date(DateOrder::Mdy)], DateOrder::Dmy)]
    #[case::dated_anew("03/04/2026|04/25/2026", &[date(DateOrder::Dmy), date(DateOrder::Dmy)], DateOrder::Mdy)]
    fn dates_are_read_as_they_always_were(
        #[case] columns: &str,
        #[case] known_hints: &[FormatHint],
        #[case] order: DateOrder,
    ) {
        let decisions = decide_all(&table(columns), Hints::default(), &[], known_hints);
        assert_eq!(decisions[0].format.date, order);
    }

    #[rstest]
    #[case::lists("1,2 1,25|2.5", Some(false), "text")]
    #[case::decimals("1,2 1,25|2,5", Some(false), "decimal(3,2)")]
    #[case::parted_by_semicolons("1,2 1,25|2.5", Some(true), "decimal(3,2)")]
    fn a_comma_beside_points_parts_a_list(
        #[case] columns: &str,
        #[case] likely_comma: Option<bool>,
        #[case] ty: &str,
    ) {
        let hints = Hints { likely_comma, ..Hints::default() };
        let decisions = decide_all(&table(columns), hints, &[], &[]);
        assert_eq!(decisions[0].domain.ty().to_string(), ty);
    }

    #[rstest]
    #[case::as_ever("02.03.2026", b'.', None, DateOrder::Dmy, false)]
    #[case::marked_anew("03/12/2026", b'.', None, DateOrder::Dmy, true)]
    #[case::marked_anew_and_named("03/12/2026", b'.', Some(20_524), DateOrder::Mdy, true)]
    #[case::against_the_name("03.12.2026", b'.', Some(20_524), DateOrder::Mdy, true)]
    #[case::by_the_name("12.03.2026", b'.', Some(20_524), DateOrder::Dmy, false)]
    #[case::far_from_the_name("03.12.1987", b'.', Some(20_524), DateOrder::Dmy, false)]
    fn dates_that_contradict_are_told(
        #[case] value: &str,
        #[case] mark: u8,
        #[case] day: Option<i32>,
        #[case] order: DateOrder,
        #[case] is_told: bool,
    ) {
        let known = FormatHint { date_mark: Some(mark), ..date(DateOrder::Dmy) };
        let hints = Hints { day, ..Hints::default() };
        let decision = &decide_all(&table(value), hints, &[], &[known])[0];
        assert_eq!((decision.format.date, decision.ambiguity.is_some()), (order, is_told));
    }

    #[test]
    fn what_the_user_says_comes_before_any_habit() {
        let forced = Forced { style: Some(NumberStyle::default()), ..Forced::default() };
        let decisions = decide_all(&table("1.234"), Hints::default(), &[forced], &[number(true)]);
        assert_eq!(decisions[0].domain.ty().to_string(), "decimal(4,3)");
    }

    #[test]
    fn a_habit_is_what_was_shown() {
        let whole = Domain::Number(crate::types::Digits { int: 3, ..Default::default() });
        assert_eq!(FormatHint::of(whole, Format::default()), FormatHint::default());
        let grouped = Format { number: NumberStyle { comma: true, group: Group::Mark }, ..Format::default() };
        assert_eq!(FormatHint::of(whole, grouped), number(true));
        assert_eq!(number(true).meet(number(false)), FormatHint::default());
        assert_eq!(number(true).meet(FormatHint::default()), number(true));
    }
}
