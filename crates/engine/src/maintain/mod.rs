//! What is done with files that were loaded, or are held: tallied, replayed, retracted, settled, and
//! their rejects exported and resubmitted.

mod apply_corrections;
mod corrected;
mod rejects;
mod resubmit;
mod retract;
mod settle;
mod tally;

pub use apply_corrections::apply_corrections;
pub use rejects::{ExportedReject, RejectGroup, export, exported, reject_groups};
pub use resubmit::{FeedOfEntry, Resubmission, resubmit};
pub use retract::{check_retractable, retract};
pub use settle::{
    Decider, Effect, as_it_was_held, discard, failed_files, held_files, note_settlement, settlement_effect,
};
pub use tally::{Agreement, SumLine, TallyLine, TallyRun};
