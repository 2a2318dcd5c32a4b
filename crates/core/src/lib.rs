//! The part of Hypodoke without I/O, clock, environment or printing: values and types, the
//! evidence that files give, the layouts decided from it, how they are reconciled, and how
//! records become typed rows.
//!
//! Data travels one way: [`record`] → [`evidence`] → [`layout`] → [`reconcile`] → [`drift`]
//! → [`cast`] → [`event`].

pub mod arrival;
pub mod cast;
pub mod drift;
pub mod event;
pub mod evidence;
pub mod layout;
pub mod names;
pub mod pattern;
pub mod reconcile;
pub mod record;
pub mod spelling;
pub mod types;
