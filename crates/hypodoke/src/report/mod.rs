//! The report: what the ledger holds, as a page to look at.
//!
//! [`gather`] asks the ledger, [`figures`] works out what is usual and what is odd, [`charts`]
//! draws, and [`page`] puts it on a page that needs nothing but itself.

pub mod charts;
pub mod figures;
pub mod gather;
pub mod page;
mod style;

pub use gather::Report;
