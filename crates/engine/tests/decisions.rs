//! What is decided about a file, by the engine alone: loaded, held, or skipped, and for which reason.

mod quay;

use hypodoke_core::drift::{MissingColumn, NewColumn, Policy, WiderType};
use hypodoke_core::outcome::Outcome;
use hypodoke_engine::decide::{HoldReason, Settlement};
use hypodoke_engine::job::{ChangedFile, Expectations, Feed, SameContent};
use hypodoke_engine::maintain::{Decider, held_files, note_settlement};
use hypodoke_stores::Mode;
use quay::Quay;
use rstest::rstest;

fn feed(change: impl FnOnce(&mut Feed)) -> Feed {
    let mut feed = Feed::new("berths");
    change(&mut feed);
    feed
}

fn policy(change: impl FnOnce(&mut Policy)) -> Feed {
    feed(|feed| change(&mut feed.policy))
}

fn expect(change: impl FnOnce(&mut Expectations)) -> Feed {
    feed(|feed| change(&mut feed.expect))
}

/// A file of the feed is in the table, and another comes.
fn second(feed: Feed, path: &str, content: &str) -> Quay {
    let mut quay = Quay::with(&[("a.csv", "berth,draught\nN1,7.5\nN2,6.5\n")]);
    quay.feed = feed.clone().expecting(Expectations::default());
    quay.load();
    quay.feed = feed;
    quay.place.put(path, content);
    quay
}

#[rstest]
#[case::new_column(policy(|p| p.new_column = NewColumn::Hold), "berth,draught,wind\nN3,5.5,7\n")]
#[case::missing_column(policy(|p| p.missing_column = MissingColumn::Hold), "berth\nN3\n")]
#[case::wider_type(policy(|p| p.wider_type = WiderType::Hold), "berth,draught\nN3,deep\n")]
#[case::too_few(expect(|e| e.min_rows = Some(2)), "berth,draught\nN3,5.5\n")]
#[case::too_many(expect(|e| e.max_rows = Some(1)), "berth,draught\nN3,5.5\nN4,4.5\n")]
fn a_file_that_may_not_be_loaded_is_held_whole_and_the_table_stays(
    #[case] feed: Feed,
    #[case] content: &str,
) {
    let mut quay = second(feed, "b.csv", content);
    let before = quay.rows();
    let report = quay.load();
    assert_eq!((report.receipt.totals.files_held, report.receipt.totals.rows_loaded), (1, 0));
    let held = report.receipt.files.iter().find(|line| line.outcome == Outcome::Held).expect("one is held");
    assert_eq!(held.holds.len(), 1, "{:?}", held.holds);
    assert_eq!(quay.rows(), before);
    // It is told once, and stays held.
    assert_eq!(held_files(&mut quay.store).expect("the ledger").len(), 1);
    assert_eq!(quay.load().receipt.totals.files_loaded, 0);
}

#[test]
fn what_a_person_decided_about_a_held_file_is_done() {
    let mut quay = second(expect(|e| e.min_rows = Some(2)), "b.csv", "berth,draught\nN3,5.5\n");
    let report = quay.load();
    assert!(
        matches!(report.receipt.files[0].holds[..], [HoldReason::Unmet(_)]),
        "{:?}",
        report.receipt.files
    );
    let entry = held_files(&mut quay.store).expect("the ledger").remove(0);
    let settlement = Settlement { load_anyway: true, ..Settlement::default() };
    let decider = Decider { by: "harbour master".into(), why: None };
    note_settlement(&mut quay.store, &entry, &settlement, decider).expect("noted");
    assert_eq!(quay.load().receipt.totals.files_loaded, 1);
    assert_eq!(quay.rows(), ["N1,7.5", "N2,6.5", "N3,5.5"]);
}

#[rstest]
#[case::skipped(SameContent::Skip, 2)]
#[case::loaded(SameContent::Load, 4)]
fn the_same_content_under_another_name_goes_by_the_feed(#[case] same: SameContent, #[case] rows: usize) {
    let content = "berth,draught\nN1,7.5\nN2,6.5\n";
    let mut quay = second(feed(|feed| feed.same_content = same), "b.csv", content);
    quay.load();
    assert_eq!(quay.rows().len(), rows);
}

#[rstest]
#[case::replaced(ChangedFile::Replace, &["N1,8.5"])]
#[case::added(ChangedFile::Append, &["N1,7.5", "N1,8.5", "N2,6.5"])]
#[case::held(ChangedFile::Hold, &["N1,7.5", "N2,6.5"])]
#[case::ignored(ChangedFile::Ignore, &["N1,7.5", "N2,6.5"])]
fn a_file_whose_content_has_changed_goes_by_the_feed(#[case] changed: ChangedFile, #[case] rows: &[&str]) {
    let mut quay = second(feed(|feed| feed.changed_file = changed), "a.csv", "berth,draught\nN1,8.5\n");
    quay.load();
    assert_eq!(quay.rows(), rows);
    // The same again changes nothing.
    quay.load();
    assert_eq!(quay.rows(), rows);
}

#[test]
fn a_mode_that_the_tables_do_not_offer_fails_the_file_and_says_so_as_data() {
    let mut quay = Quay::with(&[("a.csv", "berth,draught\nN1,7.5\n")]);
    quay.feed = feed(|feed| {
        feed.mode = Mode::History;
        feed.key = vec!["berth".into()];
    });
    let report = quay.load();
    let line = &report.receipt.files[0];
    assert_eq!((line.outcome, line.reasons[0].code.as_str()), (Outcome::Failed, "failed.not_offered"));
    assert_eq!(line.reasons[0].facts["what"], "the mode `history`");
    // The ledger keeps the code, and no row was touched.
    assert_eq!(quay.store.files[0].reasons, line.reasons);
    assert!(quay.rows().is_empty());
}

#[test]
fn why_a_file_is_held_is_a_code_with_facts_in_receipt_and_ledger() {
    let mut quay = second(expect(|e| e.min_rows = Some(2)), "b.csv", "berth,draught\nN3,5.5\n");
    let report = quay.load();
    let line = report.receipt.files.iter().find(|line| line.outcome == Outcome::Held).expect("one is held");
    assert_eq!(line.reasons[0].code, "held.too_few_rows");
    assert_eq!((&line.reasons[0].facts["read"], &line.reasons[0].facts["least"]), (&1.into(), &2.into()));
    let entry = held_files(&mut quay.store).expect("the ledger").remove(0);
    assert_eq!(entry.reasons, line.reasons);
}
