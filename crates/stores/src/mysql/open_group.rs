//! What a transaction that loads several files holds.

use std::collections::HashMap;

use super::native::NativeTable;
use crate::ledger::joined::JoinedLayout;

/// The transaction of a group of files, as far as it has come.
#[derive(Default)]
pub struct OpenGroup {
    /// Something was written in it.
    pub(super) is_dirty: bool,
    /// The files that were claimed, by the keys of their locks: the newest entry known of each. Of those that
    /// the ledger knows nothing else of that would matter.
    pub(super) claimed: HashMap<String, i64>,
    /// Tables as they are from their first file on: others cannot change them until the group ends.
    pub(super) tables: HashMap<String, NativeTable>,
    /// What its files found in tables that stay as they are.
    pub(super) layouts: Vec<JoinedLayout>,
}
