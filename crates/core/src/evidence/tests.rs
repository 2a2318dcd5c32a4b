use proptest::prelude::*;
use rstest::rstest;

use super::*;
use crate::cast::{Caster, Rows, Source, Target};
use crate::layout::Format;
use crate::record::{Field, Records};
use crate::spelling::number::Group;
use crate::spelling::{BoolWords, DateOrder, Fraction, NullSet, NumberStyle};
use crate::types::{Domain, Type};

fn evidence(values: &[&str]) -> ColumnEvidence {
    let mut column = ColumnEvidence::default();
    for (at, value) in values.iter().enumerate() {
        column.add(value.as_bytes(), || Spot { file: 0, line: at as u64 + 2 });
    }
    column
}

fn decided(values: &[&str]) -> Decision {
    decide(&evidence(values), Hints::default(), Forced::default())
}

#[rstest]
#[case(&["1", "2"], "integer")]
#[case(&["0", "1"], "integer")]
#[case(&["1", "2.50"], "decimal(3,2)")]
#[case(&["100", "0.125"], "decimal(6,3)")]
#[case(&["9223372036854775808"], "decimal(19,0)")]
#[case(&["1", "2e3"], "float")]
#[case(&["1,5e3", "2e3"], "float")]
#[case::floats(&["0.467699143493002", "0.31302260289310702"], "float")]
#[case::small_one(&["12.5", "1200", "9.5e-05"], "float")]
#[case::long_and_small(&["0.31302260289310702", "9.5e-05", "12345.678"], "float")]
#[case::of_any_size(&["1.5e300", "0.31302260289310702"], "float")]
#[case::fine_and_large(&["123456789.25", "0.00000000012345678901"], "decimal(29,20)")]
#[case::money(&["1234567890123.45", "99999999999999.99"], "decimal(16,2)")]
#[case::coins(&["12345678.12345678", "0.00000001"], "decimal(16,8)")]
#[case::eighteen_digits(&["0.123456789012345678", "0.1"], "decimal(18,18)")]
#[case::eighteen_digits_and_a_small_one(&["0.123456789012345678", "9.5e-05"], "decimal(18,18)")]
#[case::whole_and_fine(&["12345678901234567", "0.5"], "decimal(18,1)")]
#[case::whole_and_an_exponent(&["12345678901234567", "1e3"], "integer")]
#[case::nothing_holds_both(&["0.123456789012345678", "1e300"], "text")]
#[case::nothing_holds_infinity(&["0.123456789012345678", "inf"], "text")]
#[case(&["1", "NA", "-"], "integer")]
#[case(&["", "NULL"], "unknown")]
#[case(&["1", "relay down"], "text")]
#[case(&["1", "007"], "text")]
#[case(&["1.234,50", "2,5"], "decimal(6,2)")]
#[case(&["1,234", "12"], "integer")]
#[case(&["1 234,5", "7"], "decimal(5,1)")]
#[case(&["1.5", "1,5"], "text")]
#[case(&["5%", "7.5%"], "decimal(2,1)")]
#[case(&["5%", "7"], "text")]
#[case(&["€5", "$5"], "text")]
#[case(&["(12.30)", "4.00-"], "decimal(4,2)")]
#[case(&["yes", "No"], "boolean")]
#[case(&["yes", "true"], "text")]
#[case(&["2026-03-02", "2026-03-03"], "date")]
#[case(&["2026-03-02", "2026-03-03 07:15"], "timestamp")]
#[case(&["2026-03-02T07:15Z", "2026-03-03 07:15"], "text")]
#[case(&["13/04/2026", "04/13/2026"], "text")]
#[case(&["2026-W10"], "text")]
#[case::nanoseconds(&["2026-03-02T07:15:00.123456789"], "text")]
#[case::zeros_of_nanoseconds(&["2026-03-02T07:15:00.123456000"], "timestamp")]
#[case::one_compact_day(&["20260302"], "integer")]
#[case::compact_days(&["20260302", "20260303"], "date")]
#[case::the_same_compact_day(&["20260302", "20260302"], "date")]
#[case::compact_moments(&["20260302071500", "20260302235959"], "timestamp")]
#[case::compact_days_and_moments(&["20260302", "20260302235959"], "timestamp")]
#[case::no_compact_days(&["20260302", "20261399"], "integer")]
#[case::before_their_time(&["18991231", "20260302"], "integer")]
#[case::compact_and_marked(&["20260302", "2026-03-03"], "date")]
#[case::compact_and_empty(&["20260302", "", "20260303"], "date")]
#[case::compact_and_word(&["20260302", "20260303", "soon"], "text")]
#[case(&["07:15", "23:59:30"], "time")]
#[case(&["0f8fad5b-d9cb-469f-a165-70867728950e"], "uuid")]
#[case(&["{\"a\": 1}", "[]"], "json")]
#[case(&["{a: 1}"], "text")]
fn all_values_decide_the_type(#[case] values: &[&str], #[case] ty: &str) {
    assert_eq!(decided(values).domain.ty().to_string(), ty);
}

#[test]
fn dates_settle_their_order_by_the_value_that_has_but_one() {
    let decision = decided(&["03/04/2026", "25/04/2026"]);
    assert_eq!((decision.format.date, decision.ambiguity), (DateOrder::Dmy, None));
    let open = decided(&["03/04/2026"]);
    assert_eq!(
        open.ambiguity,
        Some(Ambiguity::DateOrder { chosen: DateOrder::Dmy, by: Chosen::Custom, is_marked_anew: false })
    );
}

#[test]
fn the_number_that_varies_is_taken_for_the_day() {
    let decision = decided(&["03/02/2026", "03/03/2026", "03/04/2026", "03/05/2026"]);
    assert_eq!(
        decision.ambiguity,
        Some(Ambiguity::DateOrder { chosen: DateOrder::Mdy, by: Chosen::WhatVaries, is_marked_anew: false })
    );
}

#[test]
fn a_clear_column_helps_an_open_one() {
    let table = TableEvidence {
        columns: vec![
            evidence(&["1,234"]),
            evidence(&["7,5"]),
            evidence(&["03/04/2026"]),
            evidence(&["04/25/2026"]),
        ],
        ..TableEvidence::default()
    };
    let decisions = decide_all(&table, Hints::default(), &[], &[]);
    assert_eq!(decisions[0].domain.ty(), Type::Decimal { precision: 4, scale: 3 });
    assert_eq!(decisions[2].format.date, DateOrder::Mdy);
    assert_eq!(
        decisions[2].ambiguity,
        Some(Ambiguity::DateOrder {
            chosen: DateOrder::Mdy,
            by: Chosen::AnotherColumn,
            is_marked_anew: false
        })
    );
}

#[test]
fn a_decimal_mark_that_could_group_is_said_to_be_open() {
    let decision = decided(&["1,234", "5,678"]);
    let style = NumberStyle { comma: false, group: Group::Mark };
    assert_eq!(decision.ambiguity, Some(Ambiguity::Mark { chosen: style, hinted: false }));
    assert_eq!(decided(&["1.234", "5.678"]).domain.ty(), Type::Decimal { precision: 4, scale: 3 });
}

#[test]
fn what_the_user_says_is_not_asked_of_the_values() {
    let style = NumberStyle { comma: true, group: Group::None };
    let forced = Forced { style: Some(style), order: Some(DateOrder::Mdy), fraction: None };
    let number = decide(&evidence(&["1,234"]), Hints::default(), forced);
    assert_eq!((number.domain.ty(), number.ambiguity), (Type::Decimal { precision: 4, scale: 3 }, None));
    let date = decide(&evidence(&["03/04/2026"]), Hints::default(), forced);
    assert_eq!((date.format.date, date.ambiguity), (DateOrder::Mdy, None));
    let mut column = ColumnEvidence { also_null: vec!["-999".into()], ..ColumnEvidence::default() };
    column.add(b"-999", Spot::default);
    column.add(b"2026-03-02", Spot::default);
    assert_eq!(decide(&column, Hints::default(), Forced::default()).domain.ty(), Type::Date);
}

#[rstest]
#[case(Some(Fraction::Round), "timestamp")]
#[case(Some(Fraction::Cut), "timestamp")]
#[case(Some(Fraction::Text), "text")]
fn seconds_of_more_digits_are_kept_as_is_said(#[case] fraction: Option<Fraction>, #[case] ty: &str) {
    let forced = Forced { fraction, ..Forced::default() };
    let column = evidence(&["2026-03-02 07:15:00.1234567", "2026-03-02 07:15"]);
    assert_eq!(decide(&column, Hints::default(), forced).domain.ty().to_string(), ty);
}

#[rstest]
#[case(&["1e-05", "12.5"], "0.00001", "12.5")]
#[case(&["1e300", "2.5e3"], "2500", "above 1e38")]
#[case(&["1e-300", "-1e300"], "below -1e38", "1e-300")]
fn extremes_know_exponents(#[case] values: &[&str], #[case] least: &str, #[case] greatest: &str) {
    let column = evidence(values);
    let decision = decide(&column, Hints::default(), Forced::default());
    let report = ColumnReport::of("c", "c", &column, &decision);
    assert_eq!((report.min.as_deref(), report.max.as_deref()), (Some(least), Some(greatest)));
}

#[test]
fn words_are_nulls_only_beside_typed_values() {
    assert_eq!(decided(&["NA", "1"]).nulls, 1);
    let text = decided(&["NA", "relay", ""]);
    assert_eq!((text.nulls, text.format.nulls), (1, NullSet::ALWAYS));
}

#[test]
fn what_stood_against_a_narrower_type_is_named() {
    let decision = decided(&["1", "2", "n/a (relay down)"]);
    let against = &decision.against[0];
    assert_eq!((against.narrower.as_str(), against.fitting, against.count), ("integer", 2, 1));
    assert_eq!((against.spot.line, against.value.as_str()), (4, "n/a (relay down)"));
}

#[test]
fn truth_words_set_the_format() {
    assert_eq!(decided(&["Y", "n"]).format, Format { truth: BoolWords::Yn, ..Format::default() });
}

#[test]
fn extremes_and_lengths_are_of_all_values() {
    let column = evidence(&["5", "-3", "", "größer", "12.5"]);
    let range = column.number_range(NumberStyle::default()).unwrap();
    assert_eq!((range.0.to_string(), range.1.to_string()), ("-3".into(), "12.5".into()));
    assert_eq!((column.max_length, column.values(), column.distinct()), (6, 4, (4, true)));
    assert_eq!(column.text_range().unwrap().0, b"-3");
}

fn value() -> impl Strategy<Value = String> {
    prop_oneof![
        Just(String::new()),
        Just("NA".to_owned()),
        any::<i32>().prop_map(|v| v.to_string()),
        (any::<i16>(), 0u8..99).prop_map(|(a, b)| format!("{a}.{b:02}")),
        (0u16..999, 0u16..999).prop_map(|(a, b)| format!("{a},{b:03}")),
        (1u8..29, 1u8..13).prop_map(|(d, m)| format!("{d:02}/{m:02}/2026")),
        Just("true".to_owned()),
        "[a-z]{1,5}",
        "0[0-9]{3}",
    ]
}

/// Everything an evidence says, in a form that can be compared.
fn said(column: &ColumnEvidence) -> String {
    let decision = decide(column, Hints::default(), Forced::default());
    let nulls: Vec<_> = column.nulls().map(|(at, tally)| (at, tally.clone())).collect();
    let classes: Vec<_> = column.classes().map(|(class, tally)| (class, tally.clone())).collect();
    format!(
        "{decision:?} {nulls:?} {classes:?} {:?} {:?} {} {} {}",
        column.distinct(),
        column.text_range(),
        column.max_length,
        column.present,
        column.padded
    )
}

fn part(values: &[String], file: u32) -> ColumnEvidence {
    let mut column = ColumnEvidence::default();
    values.iter().enumerate().for_each(|(at, v)| column.add(v.as_bytes(), || Spot { file, line: at as u64 }));
    column
}

fn merged(parts: &[&ColumnEvidence]) -> ColumnEvidence {
    let mut all = ColumnEvidence::default();
    parts.iter().for_each(|part| all.merge(part));
    all
}

/// Values that are like one another, and not quite of one type.
fn spelling() -> impl Strategy<Value = String> {
    let whole = prop_oneof![0u64..3, 0u64..2000, any::<u64>()];
    prop_oneof![
        3 => value(),
        2 => (whole.clone(), prop_oneof!["", "\\.", "\\.0{1,3}", "\\.[0-9]{1,3}", ",[0-9]{1,3}", "e[0-9]", "%"])
            .prop_map(|(whole, rest)| format!("{whole}{rest}")),
        1 => (whole, "[0-9]{3}", "[.,' ]", prop_oneof!["", ",5", "\\.0"])
            .prop_map(|(whole, group, mark, rest)| format!("{}{mark}{group}{rest}", whole % 1000)),
        1 => prop::sample::select(vec![
            "0", "1", "true", "False", "yes", "no", "Y", "t", "on", "-", "null", "inf", "(5)", "5-", "+5", "€5", "5 %",
            "2026-03-02", "2026-03-02 00:00", "2026-03-02T00:00:00Z", "2. March 2026", "03/02/2026", "13/02/2026",
            "20260302", "07:15", "24:00", "0f8fad5b-d9cb-469f-a165-70867728950e", "[]", "{}", " 7 ", "1e400",
            "0.0000000000000001", "123456789012345", "9.5e-05", "0.31302260289310702", "0.123456789012345678",
            "0.467699143493002", "12345678901234567", "1e5", "1.5e300", "1234567890123.456", "-inf", "0.30000000000000004",
            "1234.5678901234567", "4.676991434930019905e-01", "12345678901234567890123", "-0", "-0.0", ".5", "00:00",
        ]).prop_map(str::to_owned),
    ]
}

/// Casts values by what was decided of others.
fn cast_as(decision: &Decision, values: &[String]) -> Caster {
    let mut records = Records::default();
    for value in values {
        let start = records.bytes.len();
        records.bytes.extend_from_slice(value.as_bytes());
        records.push_field(Field::new(start..records.bytes.len(), false));
        records.end_record(start..records.bytes.len(), 1);
    }
    let target = Target {
        source_name: "c".into(),
        ty: decision.domain.ty(),
        digits: Target::digits_of(decision.domain),
        source: Source::Field(0),
        day: None,
        fraction: None,
        format: decision.format,
        also_null: Vec::new(),
        strings_are_text: false,
        pinned: false,
        required: false,
        limit: None,
        trim: false,
        default: None,
        demand: Default::default(),
    };
    let mut caster = Caster::new(vec![target], 1);
    caster.cast(&mut Rows { records, ..Default::default() });
    caster
}

proptest! {
    #[test]
    fn evidence_of_halves_is_evidence_of_the_whole(values in prop::collection::vec(value(), 0..60), cut in 0usize..60) {
        let mut whole = ColumnEvidence::default();
        let (mut left, mut right) = (ColumnEvidence::default(), ColumnEvidence::default());
        for (at, value) in values.iter().enumerate() {
            let spot = || Spot { file: 0, line: at as u64 };
            whole.add(value.as_bytes(), spot);
            if at < cut { left.add(value.as_bytes(), spot) } else { right.add(value.as_bytes(), spot) }
        }
        prop_assert_eq!(said(&merged(&[&left, &right])), said(&whole));
        prop_assert_eq!(said(&merged(&[&right, &left])), said(&whole));
    }

    #[test]
    fn evidence_merges_in_any_order_and_grouping(
        a in prop::collection::vec(value(), 0..20),
        b in prop::collection::vec(value(), 0..20),
        c in prop::collection::vec(value(), 0..20),
    ) {
        let (a, b, c) = (part(&a, 0), part(&b, 1), part(&c, 2));
        let left = merged(&[&merged(&[&a, &b]), &c]);
        let right = merged(&[&a, &merged(&[&b, &c])]);
        prop_assert_eq!(said(&left), said(&right));
        prop_assert_eq!(said(&left), said(&merged(&[&c, &a, &b])));
    }

    #[test]
    fn what_is_decided_does_not_change_when_seen_twice(values in prop::collection::vec(value(), 0..40)) {
        let once = part(&values, 0);
        // Of one day alone it cannot be said that it is one.
        prop_assume!(once.values() != 1);
        let twice = merged(&[&once, &once]);
        let (a, b) = (decide(&once, Hints::default(), Forced::default()), decide(&twice, Hints::default(), Forced::default()));
        prop_assert_eq!((a.domain, a.format, a.ambiguity), (b.domain, b.format, b.ambiguity));
    }

    #[test]
    fn a_decision_holds_every_value(values in prop::collection::vec(value(), 1..40)) {
        let decision = decided(&values.iter().map(String::as_str).collect::<Vec<_>>());
        prop_assert_eq!(cast_as(&decision, &values).surprises(), 0, "{:?}", decision.domain);
    }

    #[test]
    fn wider_evidence_never_narrows(a in prop::collection::vec(value(), 1..30), b in prop::collection::vec(value(), 1..30)) {
        let alone = decide(&part(&a, 0), Hints::default(), Forced::default()).domain;
        let both = decide(&merged(&[&part(&a, 0), &part(&b, 1)]), Hints::default(), Forced::default()).domain;
        if let (Domain::Number(x), Domain::Number(y)) = (alone, both) {
            prop_assert!(x.int <= y.int + y.scale && (x.float <= y.float));
        } else {
            prop_assert!(alone == both || alone == Domain::Unknown || both == Domain::Text || both == Domain::Timestamp);
        }
    }

    /// What is cast by a layout that is known already is not looked at: only what evidence would
    /// have found to be of that very layout may pass.
    #[test]
    fn what_is_cast_without_a_surprise_changes_no_type(
        known in prop::collection::vec(spelling(), 1..4),
        values in prop::collection::vec(spelling(), 1..4),
    ) {
        let known = decide(&part(&known, 0), Hints::default(), Forced::default());
        let table = TableEvidence { columns: vec![part(&values, 1)], ..TableEvidence::default() };
        let hint = FormatHint::of(known.domain, known.format);
        let found = decide_all(&table, Hints::default(), &[], &[hint]).remove(0);
        let caster = cast_as(&known, &values);
        let wider = known.domain.join(found.domain);
        if caster.surprises() == 0 {
            prop_assert_eq!(wider.ty(), known.domain.ty(), "{:?}", values);
            if let (Domain::Number(before), Domain::Number(after)) = (known.domain, wider) {
                let met = caster.digits()[0];
                prop_assert_eq!((before.int.max(met.int), before.scale.max(met.scale)), (after.int, after.scale));
            }
        }
    }
}
