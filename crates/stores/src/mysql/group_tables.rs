//! What is known of tables in a transaction that loads several files.

use std::collections::HashMap;

use super::native::NativeTable;

/// What is known of tables in a transaction that several files share.
#[derive(Default)]
pub struct GroupTables {
    /// Something was written in it.
    pub(super) is_dirty: bool,
    /// Tables as they are from their first file on: others cannot change them until the group ends.
    pub(super) tables: HashMap<String, NativeTable>,
}
