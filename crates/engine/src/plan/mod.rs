//! Plans: what a feed's tables are ([`TargetState`]), and how a file's columns go into them
//! ([`TableMapping`]).

mod conflicts;
mod constraints;
mod mapping;
mod renames;
mod target;

pub use conflicts::conflicts;
pub use mapping::{TableMapping, takes_rows};
pub use renames::renames;
pub use target::{TableState, TargetState};
