//! Decisions about a file by its content: its digest before it is read, and what its rows came to
//! before they are committed.

use hypodoke_core::cast::Unmet;
use hypodoke_core::count;
use hypodoke_core::figures::Unusual;
use hypodoke_core::layout::{Otherwise, UnusualValues};
use hypodoke_core::spelling::number::read;
use hypodoke_core::spelling::{Number, NumberStyle};
use hypodoke_core::types::Unit;

use super::{FileDecision, HoldReason, Violation};
use crate::job::{Control, Expectations, RejectLimit, RejectMaximum};

/// Files that a feed has brought before it is known what is usual.
const USUAL_FROM: usize = 5;

/// What is known of a file's digest.
#[derive(Clone, Debug, PartialEq)]
pub struct DigestFacts {
    /// The companion file that states it.
    pub companion: String,
    /// The digest stated and the digest of the content, each in words; `None` where none is stated,
    /// an error where the companion cannot be read.
    pub digests: Result<Option<(String, String)>, String>,
}

/// Decides by the digest that the sender states.
pub fn on_digest(expect: &Expectations, facts: DigestFacts) -> FileDecision {
    let DigestFacts { companion, digests } = facts;
    let violation = match digests {
        Err(why) => Violation::CompanionUnreadable { companion, why },
        Ok(None) => Violation::NoDigest { companion },
        Ok(Some((stated, found))) if stated != found => Violation::OtherDigest { companion, stated, found },
        Ok(Some(_)) => return FileDecision::load(),
    };
    FileDecision::on_violations(vec![(expect.weighed(expect.otherwise), violation)])
}

/// The line that control figures stand on, with the companion file it is in; `None` where there is none, and the
/// companion and why where it cannot be read.
pub type ControlLine = Result<Option<(String, Option<String>)>, (String, String)>;

/// What came of a file's rows, as far as expectations ask.
#[derive(Clone, Debug)]
pub struct RowFacts<'a> {
    /// Records read.
    pub read: u64,
    /// Records rejected.
    pub rejected: u64,
    /// The sums of the columns that the control line names, in its order; `None` for counts of rows.
    pub sums: &'a [Option<Number>],
    /// The line that control figures stand on, with the companion file it is in; `None` where there is no
    /// trailer, an error where the companion file (named first) cannot be read.
    pub control: ControlLine,
    /// What values did not meet, with what is to become of it.
    pub unmet: &'a [(Unmet, Otherwise)],
    /// How many records the files before had.
    pub before: &'a [u64],
    /// The line of the last record, where it breaks off.
    pub cut: Option<u64>,
    /// What is unusual about its values, with what is to become of it.
    pub unusual: &'a [(Unusual, UnusualValues)],
}

/// Decides by what the rows came to.
pub fn on_rows(expect: &Expectations, facts: &RowFacts<'_>) -> FileDecision {
    let usual = expect.weighed(expect.otherwise);
    let mut violations: Vec<(Otherwise, Violation)> = Vec::new();
    let read = facts.read;
    if let Some(least) = expect.min_rows.filter(|least| read < *least) {
        violations.push((usual, Violation::TooFewRows { read, least }));
    }
    if let Some(most) = expect.max_rows.filter(|most| read > *most) {
        violations.push((usual, Violation::TooManyRows { read, most }));
    }
    if let Some(violation) = expect.usual_rows.and_then(|share| unusual(read, facts.before, share)) {
        violations.push((usual, violation));
    }
    violations.extend(control_figures(expect, facts).into_iter().map(|violation| (usual, violation)));
    for (unmet, otherwise) in facts.unmet {
        violations.push((expect.weighed(*otherwise), Violation::Values(unmet.clone())));
    }
    if let Some(line) = facts.cut {
        violations.push((expect.weighed(expect.cut_short), Violation::CutShort { line }));
    }
    for (unusual, fate) in facts.unusual {
        let otherwise = match fate {
            UnusualValues::Off => continue,
            UnusualValues::Warn => Otherwise::Warn,
            UnusualValues::Hold => Otherwise::Hold,
        };
        violations.push((expect.weighed(otherwise), Violation::Unusual(unusual.clone())));
    }
    if let Some(limit) = expect.rejected_rows
        && let Some(most) = exceeded(limit, facts)
    {
        let rejected = facts.rejected;
        violations
            .push((expect.weighed(limit.otherwise), Violation::TooManyRejects { rejected, read, most }));
    }
    FileDecision::on_violations(violations)
}

/// The reason to hold a full delivery that would let so many of the keys `there` vanish.
pub fn on_vanished(vanished: u64, there: u64) -> HoldReason {
    HoldReason::Vanished { vanished, there }
}

/// The limit in words, where it is exceeded.
fn exceeded(limit: RejectLimit, facts: &RowFacts<'_>) -> Option<String> {
    match limit.most {
        RejectMaximum::Rows(most) => (facts.rejected > most).then(|| count::number(most)),
        RejectMaximum::Share(share) => {
            let most = facts.read as f64 * share;
            (facts.rejected as f64 > most).then(|| format!("{}%", share * 100.0))
        }
    }
}

/// What is unusual about a number of rows.
fn unusual(read: u64, before: &[u64], share: f64) -> Option<Violation> {
    if before.len() < USUAL_FROM {
        return None;
    }
    let mut sorted = before.to_vec();
    sorted.sort_unstable();
    let usual = *sorted.get(sorted.len() / 2)?;
    let is_far = (read as f64 - usual as f64).abs() > usual as f64 * share;
    is_far.then_some(Violation::UnusualRows { read, usual, files: before.len() })
}

/// The control figures that the file does not hold.
fn control_figures(expect: &Expectations, facts: &RowFacts<'_>) -> Vec<Violation> {
    let expected = expect.control.iter().filter(|control| **control != Control::Digest).count();
    if expected == 0 {
        return Vec::new();
    }
    let (line, companion) = match &facts.control {
        Ok(Some((line, companion))) => (line, companion),
        Ok(None) => return vec![Violation::NoTrailer],
        Err((companion, why)) => {
            return vec![Violation::CompanionUnreadable { companion: companion.clone(), why: why.clone() }];
        }
    };
    let figures = numbers(line);
    let Some(unused) = figures.len().checked_sub(expected) else {
        let (companion, line, found) = (companion.clone(), line.clone(), figures.len());
        return vec![Violation::TooFewFigures { companion, found, expected, line }];
    };
    let mut stated = figures.iter().skip(unused);
    let mut wrong = Vec::new();
    for (control, sum) in expect.control.iter().zip(facts.sums) {
        let (column, found) = match (control, sum) {
            (Control::Digest, _) => continue,
            (Control::Rows, _) => (None, Number { mantissa: i128::from(facts.read), scale: 0 }),
            (Control::Sum(column), Some(sum)) => (Some(column.clone()), *sum),
            (Control::Sum(column), None) => {
                wrong.push(Violation::NoSum { column: column.clone(), companion: companion.clone() });
                stated.next();
                continue;
            }
        };
        let Some(readings) = stated.next() else { break };
        if let Some(stated) = readings.first().copied().filter(|_| !readings.contains(&found)) {
            let (companion, rejected) = (companion.clone(), facts.rejected);
            wrong.push(Violation::OtherFigure { column, companion, stated, found, rejected });
        }
    }
    wrong
}

/// The numbers in a line, in order: each as all the ways of writing numbers read it, since
/// `1,204` is one thing to some and another to others.
fn numbers(line: &str) -> Vec<Vec<Number>> {
    let parts = line.split(|c: char| !(c.is_ascii_digit() || ".,-'".contains(c)));
    let readings = |text: &str| {
        let text = text.trim_matches(|c: char| ".,'".contains(c));
        let mut found: Vec<Number> = Vec::new();
        for number in
            NumberStyle::ALL.into_iter().filter_map(|style| read(text.as_bytes(), style, Unit::Bare))
        {
            if !found.contains(&number) {
                found.push(number);
            }
        }
        found
    };
    let all = parts.filter(|part| part.bytes().any(|b| b.is_ascii_digit())).map(readings);
    all.filter(|found| !found.is_empty()).collect()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::{Value, json};

    use super::*;
    use crate::decide::FailReason;

    #[rstest]
    #[case("TRL;120;5341.50", &["120", "5341.50"])]
    #[case("Total rows: 1,204.", &["1.204 or 1204"])]
    #[case("Summe 12 1.234,5", &["12", "1234.5"])]
    #[case("end", &[])]
    #[case("balance -7", &["-7"])]
    fn numbers_of_a_line_are_read(#[case] line: &str, #[case] expected: &[&str]) {
        let words = |readings: &Vec<Number>| {
            let mut all: Vec<String> = readings.iter().map(Number::to_string).collect();
            all.sort();
            all.join(" or ")
        };
        let found: Vec<String> = numbers(line).iter().map(words).collect();
        assert_eq!(found, expected);
    }

    #[rstest]
    #[case(100, &[100, 101, 99, 100, 98], 0.5, false)]
    #[case(40, &[100, 101, 99, 100, 98], 0.5, true)]
    #[case(160, &[100, 101, 99, 100, 98], 0.5, true)]
    #[case(1, &[100, 100], 0.5, false)]
    fn a_count_far_from_the_usual_is_told(
        #[case] read: u64,
        #[case] before: &[u64],
        #[case] share: f64,
        #[case] told: bool,
    ) {
        assert_eq!(unusual(read, before, share).is_some(), told);
    }

    fn facts(read: u64, rejected: u64, trailer: Option<&str>) -> RowFacts<'static> {
        let control = Ok(trailer.map(|line| (line.to_owned(), None)));
        RowFacts { read, rejected, sums: &[None], control, unmet: &[], before: &[], cut: None, unusual: &[] }
    }

    #[rstest]
    #[case::as_stated(Some("rows 12"), None)]
    #[case::other(
        Some("rows 13"),
        Some(json!({ "column": null, "companion": null, "stated": "13", "found": "12", "rejected": 0 }))
    )]
    #[case::none(
        Some("the end"),
        Some(json!({ "companion": null, "found": 0, "expected": 1, "line": "the end" }))
    )]
    #[case::no_trailer(None, Some(Value::Null))]
    fn a_file_is_held_for_control_figures_it_does_not_hold(
        #[case] trailer: Option<&str>,
        #[case] why: Option<Value>,
    ) {
        let expect = Expectations { control: vec![Control::Rows], ..Expectations::default() };
        match (on_rows(&expect, &facts(12, 0, trailer)), why) {
            (FileDecision::Load(_), None) => {}
            (FileDecision::Hold(reasons), Some(why)) => assert_eq!(reasons[0].reason().facts, why),
            (decision, _) => panic!("{decision:?}"),
        }
    }

    #[rstest]
    #[case::few(RejectMaximum::Rows(2), Otherwise::Fail, 2, false)]
    #[case::many(RejectMaximum::Rows(2), Otherwise::Fail, 3, true)]
    #[case::share(RejectMaximum::Share(0.25), Otherwise::Fail, 25, false)]
    #[case::larger_share(RejectMaximum::Share(0.25), Otherwise::Fail, 26, true)]
    fn too_many_rejects_fail_a_file(
        #[case] most: RejectMaximum,
        #[case] otherwise: Otherwise,
        #[case] rejected: u64,
        #[case] fails: bool,
    ) {
        let expect =
            Expectations { rejected_rows: Some(RejectLimit { most, otherwise }), ..Expectations::default() };
        let decision = on_rows(&expect, &facts(100, rejected, None));
        assert_eq!(matches!(decision, FileDecision::Fail(FailReason::Unmet(_))), fails);
    }

    #[test]
    fn failing_comes_before_holding_and_a_waiver_makes_both_warnings() {
        let limit = RejectLimit { most: RejectMaximum::Rows(0), otherwise: Otherwise::Fail };
        let expect =
            Expectations { min_rows: Some(5), rejected_rows: Some(limit), ..Expectations::default() };
        assert!(matches!(on_rows(&expect, &facts(2, 1, None)), FileDecision::Fail(_)));
        let waived = Expectations { waived: true, ..expect };
        match on_rows(&waived, &facts(2, 1, None)) {
            FileDecision::Load(terms) => assert_eq!(terms.warnings.len(), 2),
            decision => panic!("{decision:?}"),
        }
    }

    #[rstest]
    #[case(Ok(Some(("sha256:1".into(), "sha256:1".into()))), None)]
    #[case(Ok(Some(("sha256:1".into(), "sha256:2".into()))), Some("held.other_digest"))]
    #[case(Ok(None), Some("held.no_digest"))]
    #[case(Err("it is not there".into()), Some("held.companion_unreadable"))]
    fn a_digest_is_held_against_the_one_stated(
        #[case] digests: Result<Option<(String, String)>, String>,
        #[case] code: Option<&str>,
    ) {
        let decision = on_digest(&Expectations::default(), DigestFacts { companion: "c".into(), digests });
        let held = match &decision {
            FileDecision::Hold(reasons) => reasons.first().map(|hold| hold.reason().code),
            _ => None,
        };
        assert_eq!(held.as_deref(), code);
    }
}
