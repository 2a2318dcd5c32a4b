use hypodoke_core::cast::Unmet;
use hypodoke_core::drift::{Alike, HeldChange};
use hypodoke_core::evidence::{Example, Spot};
use hypodoke_core::figures::UnusualFigure;
use hypodoke_core::outcome::Outcome;
use hypodoke_core::spelling::Number;
use hypodoke_core::types::Type;
use hypodoke_engine::decide::{ConstraintProblem, FailReason, REASON_CODES, SkipReason, Violation};
use hypodoke_stores::{Mode, Takes};
use rstest::rstest;
use serde_json::json;

use super::*;

fn held(change: HeldChange) -> HoldReason {
    HoldReason::Change(change)
}

fn renamed(names: f64, range: Option<f64>, values: Option<f64>, place: bool) -> HoldReason {
    let alike = Alike { names, range, values, kinds: true, place };
    held(HeldChange::RenamedColumn { gone: "GT".into(), new: "Tonnage".into(), alike })
}

fn other_kind(values: Option<(u64, u64)>, first: Option<&str>) -> HoldReason {
    let first = first.map(|value| Example { value: value.into(), spot: Spot { file: 0, line: 1204 } });
    held(HeldChange::OtherKind { column: "GT".into(), from: Type::Integer, values, first })
}

fn figure(column: Option<&str>, companion: Option<&str>, rejected: u64) -> HoldReason {
    HoldReason::Unmet(Violation::OtherFigure {
        column: column.map(str::to_owned),
        companion: companion.map(str::to_owned),
        stated: Number { mantissa: 615, scale: 1 },
        found: Number { mantissa: 60, scale: 0 },
        rejected,
    })
}

fn layout(common: usize, nearest: Option<&str>) -> HoldReason {
    HoldReason::OtherLayout { common, columns: 7, nearest: nearest.map(str::to_owned) }
}

#[rstest]
#[case::renamed_by_values(
    renamed(0.9, Some(0.5), Some(0.84), false),
    "`GT` is gone and `Tonnage` is new; 84% of the values known of the one are in the other: probably a rename"
)]
#[case::renamed_by_range(
    renamed(0.2, Some(0.5), Some(0.1), true),
    "`GT` is gone and `Tonnage` is new; it stands in the same place, and 50% of their values' range agrees: probably a rename"
)]
#[case::renamed_by_name(
    renamed(0.9, None, None, false),
    "`GT` is gone and `Tonnage` is new; their names are alike: probably a rename"
)]
#[case::renamed_by_kind(
    renamed(0.1, Some(0.2), None, false),
    "`GT` is gone and `Tonnage` is new; its values are of the same kind: probably a rename"
)]
#[case::new_column(
    held(HeldChange::NewColumn { column: "tugs".into(), ty: Type::Decimal { precision: 6, scale: 2 } }),
    "new column `tugs` (decimal(6,2))"
)]
#[case::missing(held(HeldChange::MissingColumn { column: "tugs".into() }), "column `tugs` is missing")]
#[case::wider(
    held(HeldChange::WiderType { column: "tugs".into(), from: Type::Integer, to: Type::Text }),
    "column `tugs` needs text, the table has integer"
)]
#[case::other_kind(
    other_kind(Some((1500, 20000)), Some("n/a")),
    "column `GT` has 1,500 of 20,000 values that are not integer, the first `n/a` on line 1204"
)]
#[case::of_other_kind_all(other_kind(None, None), "column `GT` has no value that is integer")]
#[case::header_gone(
    HoldReason::HeaderGone,
    "its header is gone: the first line is a row, and columns can only be told by their place"
)]
#[case::width(
    HoldReason::OtherWidth { now: 4, before: 5 },
    "4 columns instead of 5, and without a header nobody can say which"
)]
#[case::moved(
    HoldReason::ColumnsChangedPlaces(vec!["a".into(), "b".into()]),
    "`a` and `b` hold other kinds of values than before, and without a header columns that changed places cannot be told"
)]
#[case::part(HoldReason::NewPart { path: "$.tugs".into(), was_object: false }, "`$.tugs` is new in it, and takes a table of its own")]
#[case::part_was_object(
    HoldReason::NewPart { path: "$.tugs".into(), was_object: true },
    "`$.tugs` was an object until now and is a list here, which takes a table of its own"
)]
#[case::sheet(
    HoldReason::MissingSheet { path: "Dues".into() },
    "the sheet `Dues` is missing, which the files before it had"
)]
#[case::vanished(
    HoldReason::Vanished { vanished: 12, there: 3000 },
    "12 of the 3,000 keys that the table holds are not in it"
)]
#[case::layout_of_none(
    layout(0, None),
    "it has none of the 7 columns of the files before it: it may be of another feed"
)]
#[case::layout_of_other(
    layout(1, Some("dues")),
    "it has only 1 of the 7 columns of the files before it; they are those of `dues`"
)]
#[case::sum(figure(Some("fee"), None, 0), "the sum of `fee`: its trailer says 61.5, the file holds 60")]
#[case::rows_of_companion(
    figure(None, Some("f.ctl"), 2),
    "rows: its companion f.ctl says 61.5, the file holds 60; 2 rows rejected"
)]
fn a_hold_is_told_in_a_sentence(#[case] hold: HoldReason, #[case] expected: &str) {
    assert_eq!(of_hold(&hold), expected);
}

#[rstest]
#[case::few(Violation::TooFewRows { read: 1, least: 1000 }, "1 row, at least 1,000 expected")]
#[case::many(Violation::TooManyRows { read: 2000, most: 10 }, "2,000 rows, at most 10 expected")]
#[case::unusual(
    Violation::UnusualRows { read: 4, usual: 4000, files: 9 },
    "4 rows, where this feed usually brings 4,000 (the middle of the last 9)"
)]
#[case::values(
    Violation::Values(Unmet { column: "fee".into(), what: "below 0".into(), rows: 3, line: 17 }),
    "`fee`: below 0 in 3 rows, first on line 17"
)]
#[case::cut(Violation::CutShort { line: 4001 }, "it breaks off within its last record, on line 4,001")]
#[case::figure(
    Violation::Unusual(Unusual {
        column: "fee".into(), figure: UnusualFigure::NewWord, now: "`q`".into(), before: "`p`".into(),
    }),
    "`fee` holds `q`, until now only `p`"
)]
#[case::rejects(
    Violation::TooManyRejects { rejected: 30, read: 100, most: "2.5%".into() },
    "30 of 100 rows rejected, at most 2.5% allowed"
)]
#[case::no_companion(
    Violation::CompanionUnreadable { companion: "f.ctl".into(), why: "it is not there".into() },
    "its companion f.ctl: it is not there"
)]
#[case::no_digest(Violation::NoDigest { companion: "f.ctl".into() }, "its companion f.ctl states no digest of it")]
#[case::digest(
    Violation::OtherDigest { companion: "f.ctl".into(), stated: "md5:1".into(), found: "md5:2".into() },
    "its companion f.ctl says md5:1, its content has md5:2"
)]
#[case::no_trailer(Violation::NoTrailer, "it has no trailer, where its control figures are expected")]
#[case::few_figures(
    Violation::TooFewFigures { companion: None, found: 1, expected: 2, line: " END 4 ".into() },
    "its trailer has 1 number (`END 4`), 2 expected"
)]
#[case::no_sum(
    Violation::NoSum { column: "berth".into(), companion: Some("f.ctl".into()) },
    "`berth` is not a column of numbers in it, and its companion f.ctl gives its sum"
)]
fn an_expectation_is_told_alike_where_it_holds_fails_or_warns(
    #[case] violation: Violation,
    #[case] expected: &str,
) {
    assert_eq!(of_hold(&HoldReason::Unmet(violation.clone())), expected);
    let failed = FailReason::Unmet(vec![violation.clone(), Violation::NoTrailer]).reasons();
    let both = format!("a.csv: {expected}; it has no trailer, where its control figures are expected");
    assert_eq!(of_file(&failed, "a.csv"), Some(both));
    let is_told_as_change = matches!(violation, Violation::Unusual(_));
    let mut line = ReceiptLine::default();
    line.notes = vec!["2 lines left out".into()];
    line.reasons = vec![violation.warning()];
    let warned = if is_told_as_change { vec![] } else { vec![expected] };
    assert_eq!(notes(&line), ["2 lines left out"].into_iter().chain(warned).collect::<Vec<_>>());
    assert_eq!(of_line(&line), None);
}

fn names(names: &[&str]) -> Vec<String> {
    names.iter().map(|name| (*name).to_owned()).collect()
}

#[rstest]
#[case::reserved(
    FailReason::ReservedTable { table: "hd_files".into() },
    "a.csv: it would fill the table `hd_files`, and names that begin with `hd_` are the ledger's"
)]
#[case::rows(
    FailReason::RowsNotFound { table: "moves".into() },
    "a.csv: it changed after it was loaded, and `moves` has no lineage columns to find its rows by"
)]
#[case::columns(
    FailReason::TooManyColumns { columns: 2100, most: 1598, database: "PostgreSQL".into() },
    "a.csv: 2,100 columns; a table of PostgreSQL holds 1,598, lineage columns included"
)]
#[case::changed(FailReason::ChangedWhileRead, "a.csv: it changed while it was read")]
#[case::width(
    FailReason::OtherWidth { now: 4, before: 5 },
    "a.csv: 4 columns, where the file before had 5: they cannot be matched by their place"
)]
#[case::key_of_rows(
    FailReason::KeyOfList { mode: Mode::Upsert, path: String::new() },
    "a.csv: mode `upsert` tells rows apart by a key, and there is none for its rows"
)]
#[case::key_of_list(
    FailReason::KeyOfList { mode: Mode::History, path: "$.tugs".into() },
    "a.csv: mode `history` tells rows apart by a key, and there is none for `$.tugs`"
)]
#[case::order(
    FailReason::NoColumnFor { column: "day".into(), there: names(&["a", "b"]) },
    "a.csv: no column `day`, which says in which order files are or from when on rows hold; there are a, b"
)]
#[case::moment(
    FailReason::NoMoment { column: "day".into(), ty: Type::Integer },
    "a.csv: `day` is integer, and says from when on a row holds: a date or a timestamp can"
)]
#[case::part(
    FailReason::NoPart { path: "Dues".into(), there: names(&[]) },
    "a.csv: no sheet or list `Dues`, which has a key of its own; there are none"
)]
#[case::key_column(
    FailReason::NoKeyColumn { column: "id".into(), there: names(&["a"]) },
    "a.csv: no column `id`, which is in the key; there are a"
)]
#[case::other_columns(
    FailReason::OtherColumns {
        table: "moves".into(), unknown: names(&["x", "y"]), required: names(&["z"]), of_name: names(&[]),
    },
    "a.csv does not fit the table `moves`: the table has no `x`, `y`; the file has no `z`, which the table requires"
)]
#[case::view(
    FailReason::TakesNoRows { table: "moves".into(), takes: Takes::Nothing },
    "`moves` is a view that takes no rows"
)]
#[case::view_with_trigger(
    FailReason::TakesNoRows { table: "moves".into(), takes: Takes::Statements },
    "`moves` is a view, and rows go into one in bulk only by an INSTEAD OF INSERT trigger"
)]
#[case::rule(
    FailReason::Constraint(ConstraintProblem::OtherType { why: "`x` is not integer".into(), column: "gt".into() }),
    "a.csv: `x` is not integer, which the column `gt` is"
)]
#[case::rule_of_kept(
    FailReason::Constraint(ConstraintProblem::OtherTypeOfKept { why: "`x` is not integer".into(), column: "gt".into() }),
    "a.csv: `x` is not integer, by which rows are kept, as `gt` is"
)]
#[case::rule_without_column(
    FailReason::Constraint(ConstraintProblem::NoKeptColumn { column: "gt".into() }),
    "a.csv: rows are kept by the column `gt`, which is not in it"
)]
#[case::not_offered(
    FailReason::NotOffered { what: "the mode \"history\"".into(), database: "the lake".into() },
    "a.csv: the lake does not offer the mode \"history\""
)]
#[case::delivery(
    FailReason::OtherOfDelivery,
    "not loaded: another file of the same delivery failed or is held"
)]
#[case::panicked(FailReason::Panicked("index 9".into()), "a.csv: reading it failed unexpectedly: index 9")]
fn a_failure_is_told_in_a_sentence_that_names_the_file(#[case] reason: FailReason, #[case] expected: &str) {
    let error = EngineError::unloadable("a.csv", reason);
    assert_eq!(of_error(&error), expected);
    assert_eq!(of_file(&error.reasons(), "a.csv").as_deref(), Some(expected));
}

#[rstest]
#[case::known(SkipReason::Known, None)]
#[case::same(SkipReason::SameContent { batch: 3, path: None }, Some("same content as loaded in batch 3"))]
#[case::same_elsewhere(
    SkipReason::SameContent { batch: 3, path: Some("b.csv".into()) },
    Some("same content as b.csv, loaded in batch 3")
)]
#[case::in_use(
    SkipReason::InUse,
    Some("another process is loading files of this table; the next load tries again")
)]
#[case::gone(SkipReason::Gone, Some("it was there when the files were listed, and is not any more"))]
#[case::empty(SkipReason::Empty, Some("it is empty"))]
fn a_skipped_file_is_told_in_a_sentence(#[case] reason: SkipReason, #[case] expected: Option<&str>) {
    assert_eq!(of_file(&[reason.reason()], "a.csv").as_deref(), expected);
}

/// Every code has a sentence, except `skipped.known`. A reason with a cause says the cause.
#[test]
fn every_code_has_a_sentence() {
    for code in REASON_CODES {
        let bare = sentence(&Reason::new(code, json!({})));
        let caused = sentence(&Reason::new(code, json!({ "cause": "the line is cut" })));
        assert_eq!(caused.as_deref(), Some("the line is cut"), "{code}");
        let is_worded = bare.as_ref().is_some_and(|words| !words.starts_with(code));
        let is_of_library = HAVE_A_CAUSE.contains(&code);
        let is_figure = code.ends_with(".unusual_values");
        assert_eq!(is_worded, !is_of_library && !is_figure && code != "skipped.known", "{code}: {bare:?}");
    }
}

/// The codes whose facts always have a cause: the text of a library, a place or a database.
const HAVE_A_CAUSE: [&str; 29] = [
    "failed.again",
    "failed.archive",
    "failed.columnar",
    "failed.compression",
    "failed.database",
    "failed.empty",
    "failed.empty_folder",
    "failed.encoding",
    "failed.encrypted",
    "failed.expansion",
    "failed.header_setting",
    "failed.invalid_json",
    "failed.keys_are_data",
    "failed.ledger_entry",
    "failed.long_cell",
    "failed.long_line",
    "failed.long_value",
    "failed.no_table",
    "failed.not_built",
    "failed.not_text",
    "failed.one_table",
    "failed.password",
    "failed.resubmit",
    "failed.too_large",
    "failed.too_many_fields",
    "failed.unknown_format",
    "failed.unreachable",
    "failed.unreadable",
    "failed.workbook",
];

#[test]
fn an_entry_says_what_a_person_said_of_it_first() {
    let discarded = Reason::new("held.empty", json!(null));
    let reasons = [discarded];
    let mut line = ReceiptLine::default();
    (line.path, line.outcome, line.reasons) = ("a.csv".into(), Outcome::Discarded, reasons.to_vec());
    assert_eq!(of_line(&line).as_deref(), Some("it is empty"));
    line.message = Some("a test of the sender's".into());
    assert_eq!(of_line(&line).as_deref(), Some("a test of the sender's"));
}

#[test]
fn holds_are_told_a_line_each() {
    let reasons = [HoldReason::HeaderGone.reason(), HoldReason::ChangedFile.reason()];
    let told = of_file(&reasons, "a.csv").expect("two lines");
    let lines: Vec<&str> = told.lines().collect();
    assert_eq!(lines.len(), 2, "{told}");
    assert_eq!(lines[1], "it has changed since it was loaded");
}
