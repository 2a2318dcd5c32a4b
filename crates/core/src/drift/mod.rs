//! Drift: how a file's layout differs from its table's, and what a feed's policy makes of it.

mod between;
mod held;
mod judge;
mod policy;
mod rename;

pub use crate::change::{Action, Change, Drift};

pub use between::{Difference, between};
pub use held::{HeldChange, Remedy};
pub use judge::{Judged, judge};
pub use policy::{HeaderPolicy, MissingColumn, MissingSheet, NewColumn, Policy, RenamedColumn, WiderType};
pub use rename::{Alike, Rename, likeliest, name_likeness, same_kind};
