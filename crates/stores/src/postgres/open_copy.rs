//! A COPY that is open.

use std::pin::Pin;

use bytes::{Bytes, BytesMut};
use tokio_postgres::CopyInSink;

/// Rows on their way to one table.
pub struct Copying {
    /// The table's place in the plan.
    pub(super) table: usize,
    pub(super) sink: Pin<Box<CopyInSink<Bytes>>>,
    pub(super) buffer: BytesMut,
    /// How many rows it was given.
    pub(super) rows: u64,
}
