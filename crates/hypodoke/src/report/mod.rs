//! The report: what the ledger holds, as a page to look at.
//!
//! [`gather`] asks the ledger, [`figures`] works out what is usual and what is odd, [`charts`]
//! draws, and [`page`] puts it on a page that needs nothing but itself; [`live`] is the same while a watch
//! runs, with a [`file_page`] for each file.

pub mod charts;
pub mod figures;
pub mod file_page;
pub mod gather;
pub mod live;
pub mod page;
mod style;
mod values;

pub use gather::Report;
