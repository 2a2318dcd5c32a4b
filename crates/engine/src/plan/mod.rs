//! Plans: what a feed's tables are ([`TargetState`]), and how a file's columns go into them
//! ([`TableMapping`]).

mod conflicts;
mod constraints;
mod mapping;
mod order;
mod renames;
mod target;

pub use conflicts::conflicts;
pub use mapping::TableMapping;
pub use order::{file_order, load_rules, named_moment, named_parts, table_plans};
pub use renames::{KnownTable, renames};
pub use target::{TableState, TargetState};
