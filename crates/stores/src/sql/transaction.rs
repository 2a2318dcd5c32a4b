//! Transactions.

use super::SqlConnection;
use crate::error::StoreError;

/// How far a transaction reaches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scope {
    /// A whole transaction.
    Whole,
    /// One file of a delivery, which can be undone by itself.
    File,
    /// Some rows of a file.
    Lot,
    /// Staged rows brought into their table.
    Merge,
}

impl Scope {
    /// The name of its savepoint; `None` for a whole transaction.
    pub(super) fn savepoint(self) -> Option<&'static str> {
        match self {
            Scope::Whole => None,
            Scope::File => Some("hd_file"),
            Scope::Lot => Some("hd_lot"),
            Scope::Merge => Some("hd_merge"),
        }
    }

    /// The scope of one file: a part of the transaction that is open, or one of its own.
    pub fn of_file(in_transaction: bool) -> Scope {
        if in_transaction { Scope::File } else { Scope::Whole }
    }
}

/// Does the work in a transaction of its own, or in the one that is open already. What fails is undone.
pub fn in_transaction<T>(
    connection: &mut dyn SqlConnection,
    work: impl FnOnce(&mut dyn SqlConnection) -> Result<T, StoreError>,
) -> Result<T, StoreError> {
    if connection.is_in_transaction() {
        return work(connection);
    }
    connection.begin(Scope::Whole)?;
    let done = work(connection).and_then(|value| {
        connection.commit(Scope::Whole)?;
        Ok(value)
    });
    if done.is_err() {
        // If the connection is gone, the database undoes it by itself.
        let _ = connection.rollback(Scope::Whole);
    }
    done
}
