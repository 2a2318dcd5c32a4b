//! Connections that run statements.

use super::dialect::SqlDialect;
use super::scope::Scope;
use super::value::{Misread, SqlRow, SqlValue};
use crate::error::StoreError;

/// A connection that runs statements.
///
/// Parameters stand in statements as `?1`, `?2` and so on; [`SqlDialect::statement`] turns them into what
/// the database takes. Every statement of the ledger is prepared once per connection.
pub trait SqlConnection {
    /// The database in words for people, without secrets.
    fn shown(&self) -> String;

    /// What is peculiar to the database.
    fn dialect(&self) -> &'static SqlDialect;

    /// Runs a statement; gives how many rows it changed.
    fn execute(&mut self, sql: &str, parameters: &[SqlValue]) -> Result<u64, StoreError>;

    /// Runs a statement many times, each with its own parameters.
    fn execute_all(&mut self, sql: &str, all: &[Vec<SqlValue>]) -> Result<(), StoreError> {
        all.iter().try_for_each(|parameters| self.execute(sql, parameters).map(drop))
    }

    /// Runs a statement and gives its rows.
    fn query(&mut self, sql: &str, parameters: &[SqlValue]) -> Result<Vec<SqlRow>, StoreError>;

    /// Runs a statement and gives its rows one by one.
    fn for_each_row(
        &mut self,
        sql: &str,
        parameters: &[SqlValue],
        take: &mut dyn FnMut(SqlRow) -> Result<(), Misread>,
    ) -> Result<(), StoreError> {
        let rows = self.query(sql, parameters)?;
        let taken = rows.into_iter().try_for_each(take);
        taken.map_err(|misread| StoreError::Damaged { shown: self.shown(), what: misread.0 })
    }

    /// Runs statements without parameters, parted by semicolons.
    fn script(&mut self, sql: &str) -> Result<(), StoreError>;

    /// Adds a row, and gives the number that the database gave it in `column`.
    fn insert(&mut self, sql: &str, column: &str, parameters: &[SqlValue]) -> Result<i64, StoreError> {
        let row = self.query(&format!("{sql} RETURNING {column}"), parameters)?.into_iter().next();
        let number = row.unwrap_or_default().integer(0);
        number.map_err(|misread| StoreError::Damaged { shown: self.shown(), what: misread.0 })
    }

    /// What the database is told of each table of the ledger that it makes.
    fn table_options(&self) -> String {
        String::new()
    }

    /// Whether there is a table of that name, and whether it has that column.
    fn has_column(&mut self, table: &str, column: &str) -> Result<Option<bool>, StoreError>;

    /// Begins a transaction, or a savepoint in one.
    fn begin(&mut self, scope: Scope) -> Result<(), StoreError>;

    /// Keeps what was done in it.
    fn commit(&mut self, scope: Scope) -> Result<(), StoreError>;

    /// Undoes what was done in it.
    fn rollback(&mut self, scope: Scope) -> Result<(), StoreError>;

    /// Whether a transaction is open that several files share: they are kept all together or none.
    fn is_shared(&self) -> bool;

    /// Says that a transaction is open that several files share, or is not any more.
    fn share(&mut self, is_shared: bool);

    /// A number for an entry of a file that was drawn ahead, if one was.
    fn drawn_number(&mut self) -> Option<i64> {
        None
    }

    /// Keeps others from making the ledger until the transaction is over, and makes room for it.
    fn prepare_for_ledger(&mut self) -> Result<(), StoreError>;
}

/// A database that speaks SQL: it has a ledger and an outbox.
pub trait SqlDatabase: SqlConnection + Sized {
    /// Whether the ledger was seen by now, so that it is looked for once.
    fn ledger_seen(&mut self) -> &mut bool;

    /// Whether the connection may be used again after a while: it still stands, and leads where it led.
    fn is_alive(&mut self) -> bool;

    /// Connects anew after the connection was lost. No transaction is open then.
    fn connect_anew(&mut self) -> Result<(), StoreError>;

    /// The statements that give the user the rights on these tables that are missing, and the right to make
    /// those of them that are not there.
    fn missing_grants(&mut self, on: &[(String, &'static [&'static str])])
    -> Result<Vec<String>, StoreError>;
}

impl dyn SqlConnection + '_ {
    /// Reads rows, each as an entry.
    pub fn entries<T>(
        &mut self,
        sql: &str,
        parameters: &[SqlValue],
        entry: impl Fn(&SqlRow) -> Result<T, Misread>,
    ) -> Result<Vec<T>, StoreError> {
        let mut entries = Vec::new();
        self.for_each_row(sql, parameters, &mut |row| {
            entries.push(entry(&row)?);
            Ok(())
        })?;
        Ok(entries)
    }

    /// The error for an entry of the ledger that does not read as it was written.
    pub fn damaged(&self, misread: Misread) -> StoreError {
        StoreError::Damaged { shown: self.shown(), what: misread.0 }
    }
}
