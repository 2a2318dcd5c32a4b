//! When a feed is loaded, and by when its files should be there.

pub mod cron;
mod lateness;
mod timetable;

pub use lateness::{Lateness, late_feeds, lateness};
pub use timetable::{Due, Schedule, signed};
