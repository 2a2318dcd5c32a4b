//! Batches: the new files of all feeds, loaded, recorded and put away.

mod collector;
mod context;
mod delivery;
mod feeds;
mod file;
mod first_profile;
mod group;
mod job;
mod parallel;
mod put_away;
mod respell;
mod retry;
mod run;
mod run_of_files;
mod state;
mod unreachable;

pub use context::{COMMIT_EVERY, Connect, Connections, LoadContext, RunOptions, Sources, StopSignal};
pub use job::{LoadReport, load_new, run_job};
pub use run::{BatchEnd, NotTaken, run_batch};
