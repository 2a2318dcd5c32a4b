//! Files of the ledger found again, and read again: for a tally, or so that their rows are kept anew.

mod dry_run;
mod find;
mod replay;
mod reread;

pub use dry_run::DryRunStore;
pub use find::{Finder, FoundFile, candidate_of};
pub use replay::{Replay, plan_replay};
pub use reread::{keep_rows, read_again};
