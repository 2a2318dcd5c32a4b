//! Stores: the databases that hold the staging tables and the ledger.
//!
//! A [`Store`] answers as four things: a [`Ledger`] of what was loaded, an [`Outbox`] of messages to
//! people, a [`Catalog`] of tables, and a [`Sink`] for rows. A [`Writer`] is one file being loaded, in
//! one transaction with its tables' changes, its rejects and its entry in the ledger. A writer dropped
//! before [`Writer::finish`] leaves nothing behind.
//!
//! Ledger and outbox are one implementation for every database that speaks SQL: whoever implements
//! [`sql::SqlDatabase`] has both.

mod carry;
mod catalog;
mod course;
mod error;
mod fold;
mod kept;
mod lease;
mod ledger;
mod load;
mod merge;
mod mode;
mod mysql;
mod order;
mod plan;
mod postgres;
mod rebuild;
mod runtime;
mod sink;
pub mod sql;
mod sqlite;
mod tls;
mod url;

pub use catalog::{
    About, Catalog, ColumnSample, FileFigures, SampleRows, ServerSetting, TableColumn, TableShape, Takes,
};
pub use error::StoreError;
pub use fold::Vanished;
pub use lease::Lease;
pub use ledger::kept::newest_delivery_of as newest_delivery;
pub use ledger::{
    BatchEntry, DecisionEntry, DriftEntry, FileEntry, FileQuery, LEDGER_TABLES, LEDGER_VERSION, LayoutEntry,
    Ledger, NoticeEntry, Outbox, PartEntry, RejectEntry,
};
pub use merge::Counts;
pub use mode::Mode;
pub use order::{FileInForce, FileOrder, sortable_number};
pub use plan::{FileSummary, Finished, LoadPlan, LoadRules, PartSummary, TablePlan, TableRules};
pub use rebuild::{Comparison, RowOfFile};
pub use sink::{Capabilities, Claim, Claimed, Sink, Writer};
pub use url::{StoreUrl, UrlError};

/// A connection to a staging database.
pub trait Store: Ledger + Outbox + Catalog + Sink + Send {}

impl<S: Ledger + Outbox + Catalog + Sink + Send> Store for S {}

/// Opens a store.
pub fn open(url: &StoreUrl) -> Result<Box<dyn Store>, StoreError> {
    match url {
        StoreUrl::Sqlite { path, wait, rights } => {
            Ok(Box::new(sqlite::SqliteStore::open(path, *wait, *rights)?))
        }
        StoreUrl::Postgres { address, schema, wait } => {
            Ok(Box::new(postgres::PostgresStore::open(address, schema.as_deref(), *wait)?))
        }
        StoreUrl::Mysql { address, wait } => Ok(Box::new(mysql::MysqlStore::open(address, *wait)?)),
    }
}
