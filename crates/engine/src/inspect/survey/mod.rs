//! Survey: what files are, one by one and grouped into layouts.

mod group;
mod key;
mod pattern;
mod report;
mod run;
mod warnings;

pub use group::{Group, TypeConflict};
pub use key::find_key;
pub use report::{FileReport, FoundFormat, FoundTable};
pub use run::{Survey, survey};
pub use warnings::{nearly_typed, open_choice};
