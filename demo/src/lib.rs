//! The made-up harbour of Quillane: its files, and the figures that loading them must give.
//!
//! Everything here is invented. The same call writes the same bytes on every machine.

#[cfg(feature = "objects")]
pub mod bucket;
#[cfg(feature = "columnar")]
pub mod cranes;
pub mod gauges;
mod harbour;
pub mod movements;
pub mod office;
mod pilotage;
mod random;
mod write;

pub use harbour::{
    CONFIGURATION, CRANES, DATABASE, Expected, Figures, MARK, MONDAY, Step, expected, write_step,
};
