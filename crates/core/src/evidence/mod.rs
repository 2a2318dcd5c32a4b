//! Evidence: what the values of a table's columns showed.
//!
//! Evidence is a value with laws: the evidence of two halves merges to the evidence of the
//! whole, in any order, so parts of a file and many files are looked at in parallel. What
//! follows from it (types, formats, what stood against a narrower type) is in [`decide`].

mod column;
mod decide;
mod declared;
mod extremes;
mod likeness;
mod recent;
mod report;
mod sketch;
mod table;
mod tally;
mod together;
mod typed;
mod within;

pub use column::ColumnEvidence;
pub use decide::{Against, Ambiguity, Chosen, Decision, Forced, Hints};
pub use declared::decide;
pub use extremes::{Extremes, TextExtremes};
pub use likeness::overlap;
pub use report::{ColumnReport, FINE};
pub use sketch::{EXACT, Sketch};
pub use table::TableEvidence;
pub use tally::{EXAMPLE_BYTES, Example, Spot, Tally, shorten};
pub use together::{FormatHint, decide_all};
pub use within::Within;

#[cfg(test)]
mod tests;
