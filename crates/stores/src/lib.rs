//! The databases that hold staging tables, and the ledger of what was loaded into them.
//!
//! [`open`] gives [`Tables`], which know the [`Ledger`] that their loads are recorded in: in the same database,
//! where rows and entries are committed in one transaction, or in another. A [`Writer`] is one file being
//! loaded. Dropped before [`Writer::commit`], it leaves nothing behind.
//!
//! Calls block until the database has answered. They may be made from any thread, from one that runs
//! asynchronous tasks too, which does nothing else meanwhile.
//!
//! There is one writer for every SQL database, one ledger, one kind of claim and one way to commit. What is
//! peculiar to a database is in its own folder. SQLite is always there; the features `postgres` and `mysql`
//! add the servers, and both are on unless they are switched off.

// What the servers need of the ledger and the writer is not used without them.
#![cfg_attr(
    not(all(feature = "postgres", feature = "mysql")),
    allow(dead_code, unused_imports, unused_variables, unreachable_patterns)
)]

mod address;
mod error;
pub mod failpoint;
mod lease;
mod ledger;
mod load_plan;
#[cfg(feature = "mysql")]
mod mysql;
#[cfg(feature = "postgres")]
mod postgres;
pub mod sql;
mod sqlite;
mod tables;
#[cfg(test)]
mod testing;
#[cfg(any(feature = "postgres", feature = "mysql"))]
mod tls;

use ledger::LedgerConnection;
use tables::link::LedgerLink;
use tables::load_target::LoadTarget;
use tables::pairing;

pub use address::{Staging, StoreUrl, UrlError};
pub use error::StoreError;
pub use lease::Lease;
pub use ledger::files_in_force::newest_delivery_of as newest_delivery;
pub use ledger::{
    BatchEntry, DecisionEntry, DriftEntry, FileEntry, FileQuery, LEDGER_TABLES, LEDGER_VERSION, LayoutEntry,
    Ledger, NoticeEntry, Outbox, PartEntry, PendingCorrection, RejectEntry, RowsLoaded,
};
pub use load_plan::{
    CorrectedReject, Counts, FileInForce, FileOrder, FileSummary, Finished, LoadPlan, LoadRules, Mode,
    PartSummary, Restore, TablePlan, TableRules, Vanished, sortable_number,
};
pub use tables::catalog::{
    About, Catalog, ColumnSample, FileFigures, SampleRows, ServerSetting, TableColumn, TableShape, Takes,
};
pub use tables::rebuild::{Comparison, RowOfFile};
pub use tables::{Capabilities, Claim, Claimed, Tables, Writer};

/// Opens tables, with the ledger that their loads are recorded in.
///
/// # Errors
///
/// A database cannot be opened or reached, or ledger and tables do not belong together.
///
/// ```
/// use hypodoke_stores::{Staging, StoreUrl};
///
/// let folder = tempfile::tempdir()?;
/// let mut tables = hypodoke_stores::open(&Staging::new(StoreUrl::parse("sqlite:harbour.db", folder.path())?))?;
/// tables.prepare()?;
/// assert!(tables.ledger().has_ledger()?);
/// assert!(tables.ledger().loaded_files()?.is_empty());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn open(staging: &Staging) -> Result<Box<dyn Tables>, StoreError> {
    let link = match &staging.ledger {
        Some(ledger) => LedgerLink::to(connect(ledger)?),
        None => LedgerLink::default(),
    };
    match &staging.tables {
        StoreUrl::Sqlite { path, wait, rights } => {
            paired(sqlite::SqliteStore::open(path, *wait, *rights)?.linked(link))
        }
        #[cfg(feature = "postgres")]
        StoreUrl::Postgres { address, schema, wait } => {
            paired(postgres::PostgresStore::open(address, schema.as_deref(), *wait)?.linked(link))
        }
        #[cfg(feature = "mysql")]
        StoreUrl::Mysql { address, wait } => paired(mysql::MysqlStore::open(address, *wait)?.linked(link)),
    }
}

/// Opens a ledger alone: the tables need not be reached.
///
/// # Errors
///
/// The database cannot be opened or reached.
///
/// ```
/// use hypodoke_stores::{Staging, StoreUrl};
///
/// let folder = tempfile::tempdir()?;
/// let staging = Staging::new(StoreUrl::parse("sqlite:harbour.db", folder.path())?);
/// hypodoke_stores::open(&staging)?.prepare()?;
/// let mut ledger = hypodoke_stores::open_ledger(&staging)?;
/// assert!(ledger.batches(10)?.is_empty());
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn open_ledger(staging: &Staging) -> Result<Box<dyn Ledger>, StoreError> {
    Ok(connect(staging.ledger_url())?)
}

fn connect(url: &StoreUrl) -> Result<Box<dyn LedgerConnection>, StoreError> {
    Ok(match url {
        StoreUrl::Sqlite { path, wait, rights } => Box::new(sqlite::SqliteStore::open(path, *wait, *rights)?),
        #[cfg(feature = "postgres")]
        StoreUrl::Postgres { address, schema, wait } => {
            Box::new(postgres::PostgresStore::open(address, schema.as_deref(), *wait)?)
        }
        #[cfg(feature = "mysql")]
        StoreUrl::Mysql { address, wait } => Box::new(mysql::MysqlStore::open(address, *wait)?),
    })
}

fn paired<T: LoadTarget + Catalog + 'static>(mut tables: T) -> Result<Box<dyn Tables>, StoreError> {
    pairing::check(&mut tables)?;
    Ok(Box::new(tables))
}
