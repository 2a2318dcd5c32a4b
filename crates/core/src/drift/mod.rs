//! Drift: how a file's layout differs from its table's, and what a feed's policy makes of it.

mod between;
mod held;
mod judge;
mod kind;
mod policy;
mod rename;

pub use crate::change::{Action, Cause, Change, Drift};

pub use between::{Difference, between};
pub use held::{HeldChange, Remedy};
pub use judge::{Judged, judge};
pub use kind::{KindChange, MOST_OF_OTHER_KIND, keep_kinds};
pub use policy::{
    HeaderPolicy, MissingColumn, MissingSheet, NewColumn, OtherKind, OtherLayout, Policy, RenamedColumn,
    WiderType,
};
pub use rename::{Alike, Rename, likeliest, name_likeness, same_kind};
