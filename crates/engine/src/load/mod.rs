//! The load of one file: how its columns go into its tables, the pipeline that reads, casts and sends
//! its rows, and the attempts that are made until it is committed or given a reason.

mod attempt;
mod figures;
mod file_load;
mod greatest;
mod other_layout;
mod pipeline;
mod portions;
mod reconcile;
mod reject_reasons;
mod request;
mod speculative;
mod sums;
mod verification;

pub use file_load::load_file;
pub use request::{FileRequest, HeldFile, Loaded, NotLoaded};
pub use speculative::is_large;
pub use sums::{number as exact_sum, scale_of};
