//! Transactions.

use super::connection::SqlConnection;
use super::scope::Scope;
use crate::error::StoreError;

/// Does the work in a transaction of its own, or in the one that is open already. What fails is undone.
pub fn in_transaction<T>(
    connection: &mut dyn SqlConnection,
    work: impl FnOnce(&mut dyn SqlConnection) -> Result<T, StoreError>,
) -> Result<T, StoreError> {
    if connection.is_shared() {
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
