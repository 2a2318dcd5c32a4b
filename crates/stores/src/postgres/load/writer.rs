//! A file on its way into PostgreSQL, as far as it has come.

use std::pin::Pin;

use bytes::{Bytes, BytesMut};
use tokio_postgres::CopyInSink;

use crate::carry::Carried;
use crate::course::Placed;
use crate::kept::Packer;
use crate::plan::LoadPlan;
use crate::postgres::connection::PostgresStore;
use crate::postgres::target_table::TargetTable;
use crate::sql::Scope;

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
    /// Where the file stands, and the course that its rows take.
    pub(in crate::postgres) placed: Placed,
    /// What keeps the rows, where they are.
    pub(in crate::postgres) packer: Option<Packer>,
    /// The first of the blocks that are kept of it now.
    pub(in crate::postgres) since: i64,
    /// What became of the corrected rows of the version before.
    pub(in crate::postgres) carried: Carried,
    /// How many keys there were in the table in hand, and in all, before a full delivery.
    pub(in crate::postgres) there_before: u64,
    pub(in crate::postgres) there: u64,
    /// Too many of them are gone.
    pub(in crate::postgres) too_many: bool,
}

/// Rows on their way to one table.
pub struct Copying {
    pub(in crate::postgres) table: usize,
    pub(in crate::postgres) sink: Pin<Box<CopyInSink<Bytes>>>,
    pub(in crate::postgres) buffer: BytesMut,
    /// How many rows it was given.
    pub(in crate::postgres) rows: u64,
}
