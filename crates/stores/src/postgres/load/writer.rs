//! A file on its way into PostgreSQL, as far as it has come.

use std::pin::Pin;

use bytes::{Bytes, BytesMut};
use tokio_postgres::CopyInSink;

use crate::plan::LoadPlan;
use crate::postgres::connection::PostgresStore;
use crate::postgres::copy::Wire;
use crate::sql::Scope;

/// A table of the plan, ready to take rows.
pub struct TargetTable {
    pub(in crate::postgres) sql: String,
    pub(in crate::postgres) wires: Vec<Wire>,
    /// Rows go to the stage first, and are numbered there.
    pub(in crate::postgres) staged: bool,
    pub(in crate::postgres) sent: u64,
    /// How many of these the server did not put in: a trigger of the table left them out, or put
    /// them elsewhere.
    pub(in crate::postgres) missing: u64,
}

/// A file being loaded. Dropped, it rolls everything back.
pub struct PostgresWriter<'a> {
    pub(in crate::postgres) store: &'a mut PostgresStore,
    pub(in crate::postgres) plan: &'a LoadPlan,
    pub(in crate::postgres) file: i64,
    pub(in crate::postgres) targets: Vec<Option<TargetTable>>,
    pub(in crate::postgres) copying: Option<Copying>,
    pub(in crate::postgres) deleted: u64,
    pub(in crate::postgres) scope: Scope,
    pub(in crate::postgres) done: bool,
}

/// Rows on their way to one table.
pub struct Copying {
    pub(in crate::postgres) table: usize,
    pub(in crate::postgres) sink: Pin<Box<CopyInSink<Bytes>>>,
    pub(in crate::postgres) buffer: BytesMut,
    /// How many rows it was given.
    pub(in crate::postgres) rows: u64,
}
