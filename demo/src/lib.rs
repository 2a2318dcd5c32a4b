//! The made-up harbour of Quillane: its files, and the figures that loading them must give.
//!
//! Everything here is invented. The same call writes the same bytes on every machine.

pub mod movements;
mod random;
