//! The engine of Hypodoke as a library: it finds files, profiles them, decides, loads every row it can
//! and keeps every row it cannot, and records what it did. It knows no command line, no terminal, no
//! exit codes and no configuration file: a program resolves what it is told into a [`job::Job`], and
//! renders the [`event::Event`]s it is given.
//!
//! Data travels one way: [`discover`] → [`profile`] → [`plan`] → [`decide`] → [`load`] → [`batch`].
//! [`maintain`] is what is done with files that were loaded or are held, and [`inspect`] looks without
//! loading.
//!
//! Calls block until they are done. Asynchronous code makes them on a thread for blocking work, as
//! `tokio::task::spawn_blocking` gives one.
//!
//! Formats and places of your own are added through [`hypodoke_formats::Format`] and
//! [`hypodoke_places::Backend`]; `examples/own_reader.rs` and `examples/own_place.rs` show one of each.
//!
//! # Loading a folder
//!
//! ```
//! use hypodoke_core::pattern::Pattern;
//! use hypodoke_engine::batch::{RunOptions, run_job};
//! use hypodoke_engine::discover::discover;
//! use hypodoke_engine::event::Silent;
//! use hypodoke_engine::job::{Feed, FeedSource, Job, PlaceSource};
//! use hypodoke_places::{Completeness, Place};
//! use hypodoke_stores::StoreUrl;
//!
//! # fn main() -> Result<(), Box<dyn std::error::Error>> {
//! let harbour = tempfile::tempdir()?;
//! let folder = harbour.path().join("quay");
//! std::fs::create_dir(&folder)?;
//! std::fs::write(folder.join("berths_0302.csv"), "berth,draught\nN1,7.5\nN2,\n")?;
//!
//! let mut job = Job::new(StoreUrl::parse("sqlite:quillane.db", harbour.path())?);
//! job.places.push(PlaceSource {
//!     place: Place::folder("quay", folder),
//!     completeness: Completeness::default(),
//!     put_away: None,
//! });
//! job.feeds.push(FeedSource {
//!     place: "quay".into(),
//!     files: Pattern::parse("berths_*.csv")?,
//!     modified_within: None,
//!     feed: Feed { name: Some("berths".into()), table: "berths".into(), ..Feed::default() },
//! });
//!
//! let load = || -> Result<u64, Box<dyn std::error::Error>> {
//!     let found = discover(&job, &[])?;
//!     let mut store = hypodoke_stores::open(&job.staging)?;
//!     let report = run_job(&job, &found, store.as_mut(), RunOptions::new(&Silent))?;
//!     Ok(report.receipt.totals.rows_loaded)
//! };
//! assert_eq!(load()?, 2);
//! // The same again changes nothing.
//! assert_eq!(load()?, 0);
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
pub mod plan;
pub mod profile;
pub mod receipt;
pub mod sources;
