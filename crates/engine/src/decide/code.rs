//! Reasons as codes and facts: what the ledger keeps, what JSON documents say and what programs may compare.
//!
//! A code is the outcome, a dot and the case: `held.truncated`, `failed.password`, `skipped.same_content`. Codes
//! may be added, and keep their meaning.

use std::fmt;

use hypodoke_core::cast::Unmet;
use hypodoke_core::drift::HeldChange;
use hypodoke_core::outcome::Reason;
use hypodoke_stores::Takes;
use serde_json::{Value, json};

use super::reason::{ConstraintProblem, FailReason, HoldReason, SkipReason};
use super::reason_codes::is_reason_code;
use super::violation::Violation;

/// The code of a file that was left out since there is nothing in it.
pub const SKIPPED_EMPTY: &str = "skipped.empty";

/// The code of a file that is held since there is nothing in it.
pub const HELD_EMPTY: &str = "held.empty";

/// A case and its facts, without the outcome.
type Case = (&'static str, Value);

/// The reason of a case.
pub(crate) fn of(outcome: &str, (case, facts): Case) -> Reason {
    let reason = Reason::new(format!("{outcome}.{case}"), facts);
    debug_assert!(is_reason_code(&reason.code), "`{}` is not among the codes", reason.code);
    reason
}

impl HoldReason {
    /// The reason as a code and its facts.
    pub fn reason(&self) -> Reason {
        let case = match self {
            HoldReason::Change(change) => case_of_change(change),
            HoldReason::HeaderGone => ("header_gone", Value::Null),
            HoldReason::HeaderAppeared => ("header_appeared", Value::Null),
            HoldReason::OtherWidth { now, before } => {
                ("other_width", json!({ "now": now, "before": before }))
            }
            HoldReason::ColumnsChangedPlaces(columns) => ("columns_moved", json!({ "columns": columns })),
            HoldReason::RenamedPart { gone, new } => ("renamed_part", json!({ "gone": gone, "new": new })),
            HoldReason::NewPart { path, was_object } => {
                ("new_part", json!({ "path": path, "was_object": was_object }))
            }
            HoldReason::MissingSheet { path } => ("missing_sheet", json!({ "path": path })),
            HoldReason::Vanished { vanished, there } => {
                ("missing_keys", json!({ "missing": vanished, "keys": there }))
            }
            HoldReason::ChangedFile => ("changed_file", Value::Null),
            HoldReason::Empty => ("empty", Value::Null),
            HoldReason::OtherLayout { common, columns, nearest } => {
                ("unknown_layout", json!({ "common": common, "columns": columns, "nearest": nearest }))
            }
            HoldReason::Unmet(violation) => violation.case(),
        };
        of("held", case)
    }
}

fn case_of_change(change: &HeldChange) -> Case {
    match change {
        HeldChange::RenamedColumn { gone, new, alike } => {
            ("renamed_column", json!({ "gone": gone, "new": new, "alike": alike }))
        }
        HeldChange::NewColumn { column, ty } => {
            ("new_column", json!({ "column": column, "type": ty.to_string() }))
        }
        HeldChange::MissingColumn { column } => ("missing_column", json!({ "column": column })),
        HeldChange::WiderType { column, from, to } => {
            ("wider_type", json!({ "column": column, "from": from.to_string(), "to": to.to_string() }))
        }
        HeldChange::OtherKind { column, from, values, first } => {
            let (other, all) = values.unzip();
            let first = first.as_ref().map(|first| json!({ "value": first.value, "line": first.spot.line }));
            let facts = json!({
                "column": column, "from": from.to_string(), "values": other, "of": all, "first": first,
            });
            ("incompatible_type", facts)
        }
    }
}

impl SkipReason {
    /// The reason as a code and its facts.
    pub fn reason(&self) -> Reason {
        let case = match self {
            SkipReason::Known => ("known", Value::Null),
            SkipReason::SameContent { batch, path } => {
                ("same_content", json!({ "batch": batch, "path": path }))
            }
            SkipReason::ChangeIgnored => ("change_ignored", Value::Null),
            SkipReason::LoadedMeanwhile => ("loaded_meanwhile", Value::Null),
            SkipReason::InUse => ("in_use", Value::Null),
            SkipReason::Changing => ("changing", Value::Null),
            SkipReason::Gone => ("gone", Value::Null),
            SkipReason::DeliveryWaits => ("delivery_waits", Value::Null),
            SkipReason::Empty => ("empty", Value::Null),
        };
        of("skipped", case)
    }
}

impl FailReason {
    /// The reasons as codes and their facts: one, or one for each expectation that is not met.
    pub fn reasons(&self) -> Vec<Reason> {
        let case = match self {
            FailReason::Unmet(violations) => {
                return violations.iter().map(|violation| of("failed", violation.case())).collect();
            }
            FailReason::ReservedTable { table } => ("reserved_table", json!({ "table": table })),
            FailReason::RowsNotFound { table } => ("rows_not_found", json!({ "table": table })),
            FailReason::TooManyColumns { columns, most, database } => {
                ("too_many_columns", json!({ "columns": columns, "most": most, "database": database }))
            }
            FailReason::ChangedWhileRead => ("changed_while_read", Value::Null),
            FailReason::OtherWidth { now, before } => {
                ("other_width", json!({ "now": now, "before": before }))
            }
            FailReason::KeyOfList { mode, path } => ("no_key", json!({ "mode": mode.word(), "path": path })),
            FailReason::NoColumnFor { column, there } => {
                ("no_order_column", json!({ "column": column, "columns": there }))
            }
            FailReason::NoMoment { column, ty } => {
                ("no_moment", json!({ "column": column, "type": ty.to_string() }))
            }
            FailReason::NoPart { path, there } => ("no_part", json!({ "path": path, "parts": there })),
            FailReason::NoKeyColumn { column, there } => {
                ("no_key_column", json!({ "column": column, "columns": there }))
            }
            FailReason::OtherColumns { table, unknown, required, .. } => {
                ("other_columns", json!({ "table": table, "unknown": unknown, "required": required }))
            }
            FailReason::TakesNoRows { table, takes } => {
                let by_trigger = *takes == Takes::Statements;
                ("takes_no_rows", json!({ "table": table, "by_trigger": by_trigger }))
            }
            FailReason::Constraint(problem) => ("rule", facts_of_rule(problem)),
            FailReason::NotOffered { what, database } => {
                ("not_offered", json!({ "what": what, "database": database }))
            }
            FailReason::OtherOfDelivery => ("other_of_delivery", Value::Null),
            FailReason::Panicked(what) => ("panicked", json!({ "what": what })),
        };
        vec![of("failed", case)]
    }
}

/// The codes and their facts as JSON.
impl fmt::Display for FailReason {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (at, reason) in self.reasons().iter().enumerate() {
            let between = if at == 0 { "" } else { "; " };
            write!(out, "{between}{reason}")?;
        }
        Ok(())
    }
}

fn facts_of_rule(problem: &ConstraintProblem) -> Value {
    match problem {
        ConstraintProblem::OtherType { why, column } => {
            json!({ "column": column, "why": why, "keeps_rows": false })
        }
        ConstraintProblem::OtherTypeOfKept { why, column } => {
            json!({ "column": column, "why": why, "keeps_rows": true })
        }
        ConstraintProblem::NoKeptColumn { column } => json!({ "column": column, "keeps_rows": true }),
    }
}

impl Violation {
    /// The reason to warn of it, where the file is loaded all the same.
    pub fn warning(&self) -> Reason {
        of("warned", self.case())
    }

    fn case(&self) -> Case {
        match self {
            Violation::TooFewRows { read, least } => {
                ("too_few_rows", json!({ "read": read, "least": least }))
            }
            Violation::TooManyRows { read, most } => ("too_many_rows", json!({ "read": read, "most": most })),
            Violation::UnusualRows { read, usual, files } => {
                ("unusual_rows", json!({ "read": read, "usual": usual, "files": files }))
            }
            Violation::Values(Unmet { column, what, rows, line }) => {
                ("values", json!({ "column": column, "what": what, "rows": rows, "line": line }))
            }
            Violation::CutShort { line } => ("truncated", json!({ "line": line })),
            Violation::Unusual(unusual) => ("unusual_values", json!(unusual)),
            Violation::TooManyRejects { rejected, read, most } => {
                ("too_many_rejects", json!({ "rejected": rejected, "read": read, "most": most }))
            }
            Violation::UnreadableKeys { table, rows } => {
                ("unreadable_keys", json!({ "table": table, "rows": rows }))
            }
            Violation::CompanionUnreadable { companion, why } => {
                ("companion_unreadable", json!({ "companion": companion, "why": why }))
            }
            Violation::NoDigest { companion } => ("no_digest", json!({ "companion": companion })),
            Violation::OtherDigest { companion, stated, found } => {
                ("other_digest", json!({ "companion": companion, "stated": stated, "found": found }))
            }
            Violation::NoTrailer => ("no_trailer", Value::Null),
            Violation::TooFewFigures { companion, found, expected, line } => {
                let facts =
                    json!({ "companion": companion, "found": found, "expected": expected, "line": line });
                ("too_few_figures", facts)
            }
            Violation::NoSum { column, companion } => {
                ("no_sum", json!({ "column": column, "companion": companion }))
            }
            Violation::OtherFigure { column, companion, stated, found, rejected } => {
                let (stated, found) = (stated.to_string(), found.to_string());
                let facts = json!({
                    "column": column, "companion": companion, "stated": stated, "found": found,
                    "rejected": rejected,
                });
                ("other_figure", facts)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::of_a_violation(HoldReason::Unmet(Violation::CutShort { line: 130 }), "held.truncated", json!({ "line": 130 }))]
    #[case::without_facts(HoldReason::Empty, HELD_EMPTY, Value::Null)]
    #[case::of_a_change(
        HoldReason::Change(HeldChange::MissingColumn { column: "draught".into() }),
        "held.missing_column",
        json!({ "column": "draught" })
    )]
    fn a_hold_is_a_code_and_its_facts(#[case] reason: HoldReason, #[case] code: &str, #[case] facts: Value) {
        assert_eq!(reason.reason(), Reason::new(code, facts));
    }

    #[test]
    fn each_expectation_that_fails_a_file_is_a_reason_of_its_own() {
        let unmet = vec![Violation::NoTrailer, Violation::TooFewRows { read: 1, least: 9 }];
        let codes: Vec<String> =
            FailReason::Unmet(unmet).reasons().into_iter().map(|reason| reason.code).collect();
        assert_eq!(codes, ["failed.no_trailer", "failed.too_few_rows"]);
        assert_eq!(SkipReason::Empty.reason().code, SKIPPED_EMPTY);
    }
}
