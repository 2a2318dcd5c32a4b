//! Profiles: what a file holds, by all its values. [`Source`] opens a file, [`profile_file`] gathers
//! the evidence of its columns, and [`FormatHints`] carry what is known of how files are written.

mod cache;
mod companion;
mod file_profile;
mod gather;
mod hints;
mod profiler;
mod source;

pub use companion::{control_line, digest_facts};
pub use file_profile::{FileProfile, TableProfile, is_virtual};
pub use hints::FormatHints;
pub use profiler::{MOST_KEPT, ProfileOptions, SMALL, dialect_hints, profile_file, profile_files, threads};
pub use source::{Source, content_hash, header};
