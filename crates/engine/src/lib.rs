//! The engine of Hypodoke as a library: it finds files, profiles them, decides, loads every row it can
//! and keeps every row it cannot, and records what it did. It knows no command line, no terminal, no
//! exit codes and no configuration file: a program resolves what it is told into a [`job::Job`], and
//! renders the [`event::Event`]s it is given.
//!
//! Data travels one way: [`discover`] → [`profile`] → [`plan`] → [`decide`] → [`load`] → [`batch`].
//! [`maintain`] is what is done with files that were loaded or are held, and [`inspect`] looks without
//! loading.
//!
//! Calls block until they are done. They may be made from any thread, from one that runs asynchronous
//! tasks too, which does nothing else meanwhile: `tokio::task::spawn_blocking` gives one that has nothing
//! else to do.
//!
//! Formats and places of your own are added through [`hypodoke_formats::Format`] and
//! [`hypodoke_places::Backend`]; `examples/own_reader.rs` and `examples/own_place.rs` show one of each.
//!
//! # Loading a folder
//!
//! ```
//! use hypodoke_engine::prelude::*;
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let harbour = tempfile::tempdir()?;
//! std::fs::write(harbour.path().join("berths_0302.csv"), "berth,draught\nN1,7.5\nN2,\n")?;
//!
//! let job = Job::builder("sqlite:quillane.db")
//!     .relative_to(harbour.path())
//!     .place(Place::folder("quay", harbour.path()))
//!     .feed("quay", "berths_*.csv", Feed::new("berths"))
//!     .build()?;
//! let mut tables = open(&job.staging)?;
//! let report = load_new(&job, tables.as_mut(), RunOptions::new(&Silent))?;
//! assert_eq!(report.receipt.totals.rows_loaded, 2);
//! // The same again changes nothing.
//! let report = load_new(&job, tables.as_mut(), RunOptions::new(&Silent))?;
//! assert_eq!(report.receipt.totals.rows_loaded, 0);
//! # Ok(())
//! # }
//! ```

pub mod batch;
pub mod clock;
pub mod decide;
pub mod discover;
pub mod error;
pub mod event;
pub mod file_format;
pub mod inspect;
pub mod isolate;
pub mod job;
pub mod load;
pub mod lost_tables;
pub mod maintain;
pub mod outcome;
pub mod plan;
pub mod prelude;
pub mod profile;
pub mod receipt;
pub mod sources;
pub mod stale_rows;
