//! What went the short way in a transaction that several files share.

use std::pin::Pin;

use bytes::{Bytes, BytesMut};
use tokio_postgres::CopyInSink;

use super::copy::CopyForm;
use crate::ledger::loaded_files::LoadedFile;
use crate::tables::target_table::TargetTable;

/// What went the short way in a group.
#[derive(Default)]
pub struct BulkLoads {
    pub(super) tables: Vec<BulkTable>,
    pub(super) copying: Option<BulkCopy>,
    pub(super) files: Vec<LoadedFile>,
    /// Numbers for entries, drawn ahead, and how many may be wanted yet.
    pub(super) numbers: Vec<i64>,
    pub(super) wanted: usize,
    /// Rows of a file were sent that did not come to its end: nothing of the group can be kept.
    pub(super) is_spoiled: bool,
}

impl BulkLoads {
    /// So many more files are about to be loaded.
    pub fn wants_numbers(&mut self, files: usize) {
        self.wanted = files;
    }

    /// A number that was drawn ahead, if one is left.
    pub fn take_number(&mut self) -> Option<i64> {
        self.numbers.pop()
    }
}

/// A table that is filled the short way.
pub(super) struct BulkTable {
    pub(super) name: String,
    pub(super) based_on: Option<i64>,
    pub(super) target: TargetTable<CopyForm>,
    pub(super) waiting: BytesMut,
    pub(super) rows: u64,
}

/// Rows on their way to a table.
pub(super) struct BulkCopy {
    pub(super) at: usize,
    pub(super) sink: Pin<Box<CopyInSink<Bytes>>>,
    pub(super) rows: u64,
}
