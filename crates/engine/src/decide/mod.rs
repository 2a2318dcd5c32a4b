//! Whether a file is loaded, held, failed or skipped. Every reason is a variant here, and every
//! decision is a function of data: nothing is read, asked or written.
//!
//! The decisions fall in the order in which facts become known: [`on_capabilities`] before a file is
//! touched, [`on_arrival`] once the ledger is asked, [`on_digest`], [`on_header`], [`on_layout`] and
//! [`on_width`] before its rows are sent, and [`on_rows`] before they are committed.

mod arrival;
mod code;
mod columns;
mod layout;
mod reason;
mod reason_codes;
mod rows;
mod settlement;
mod violation;

use hypodoke_core::layout::Otherwise;

pub use arrival::{ArrivalFacts, LedgerMatch, on_arrival, on_capabilities, on_empty};
pub(crate) use code::of as reason_of;
pub use code::{HELD_EMPTY, SKIPPED_EMPTY};
pub use columns::{
    OtherColumns, key_column, moment_column, on_columns_of, on_key, on_keyed_parts, on_places, on_table_name,
    on_view, order_column,
};
pub use layout::{
    LayoutFacts, PartDecision, PartFacts, goes_by_place, is_other_layout, missing_sheet, new_part,
    on_changes, on_header, on_layout, on_likeness, on_width,
};
pub use reason::{ConstraintProblem, FailReason, HoldReason, SkipReason};
pub use reason_codes::{REASON_CODES, REASON_GROUPS, is_reason_code};
pub use rows::{ControlLine, DigestFacts, RowFacts, on_digest, on_rows, on_vanished};
pub use settlement::Settlement;
pub use violation::Violation;

/// What is to become of a file.
#[derive(Clone, Debug, PartialEq)]
pub enum FileDecision {
    /// It is loaded.
    Load(Terms),
    /// It waits for a person's decision.
    Hold(Vec<HoldReason>),
    /// It cannot be loaded as it is.
    Fail(FailReason),
    /// There is nothing to load.
    Skip(SkipReason),
}

/// On which terms a file is loaded.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Terms {
    /// The entry of the ledger whose rows its rows replace.
    pub replaces: Option<i64>,
    /// The expectations that it does not meet, and that do not keep it from being loaded.
    pub warnings: Vec<Violation>,
}

impl FileDecision {
    /// Loaded, replacing nothing, with nothing to say.
    pub fn load() -> FileDecision {
        FileDecision::Load(Terms::default())
    }

    /// The decision on violations, each with what is to become of its file: failing comes before
    /// holding, and holding before loading.
    fn on_violations(violations: Vec<(Otherwise, Violation)>) -> FileDecision {
        let (mut holds, mut fails, mut warnings) = (Vec::new(), Vec::new(), Vec::new());
        for (otherwise, violation) in violations {
            match otherwise {
                Otherwise::Fail => fails.push(violation),
                Otherwise::Warn => warnings.push(violation),
                Otherwise::Hold | Otherwise::Reject => holds.push(HoldReason::Unmet(violation)),
            }
        }
        match (fails.is_empty(), holds.is_empty()) {
            (false, _) => FileDecision::Fail(FailReason::Unmet(fails)),
            (true, false) => FileDecision::Hold(holds),
            (true, true) => FileDecision::Load(Terms { replaces: None, warnings }),
        }
    }
}
