//! The part of Hypodoke without I/O, clock, environment or printing: values and types, the
//! evidence that files give, the layouts decided from it, how they are reconciled, and how
//! records become typed rows.
//!
//! Data travels one way: [`record`] → [`evidence`] → [`layout`] → [`reconcile`] → [`drift`]
//! → [`cast`]. [`outcome`] is what became of a file; [`count`] and [`sanitize`] are what every
//! message needs.

pub mod arrival;
pub mod cast;
pub mod change;
pub mod count;
pub mod drift;
pub mod evidence;
pub mod figures;
pub mod format;
pub mod isolate;
pub mod layout;
pub mod names;
pub mod outcome;
pub mod partition;
pub mod pattern;
pub mod reconcile;
pub mod record;
pub mod redact;
pub mod sanitize;
pub mod spelling;
pub mod template;
pub mod types;
