//! Statements run on SQLite.

use std::path::Path;

use rusqlite::types::{Null, ToSql, ToSqlOutput, ValueRef};
use rusqlite::{ErrorCode, Statement};

use super::SqliteStore;
use crate::error::StoreError;
use crate::failpoint::failpoint;
use crate::sql::{Misread, SQLITE, Scope, SqlConnection, SqlDialect, SqlRow, SqlValue, moment_text};

impl ToSql for SqlValue {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        match self {
            SqlValue::Null => Null.to_sql().map(|_| ToSqlOutput::Borrowed(ValueRef::Null)),
            SqlValue::Integer(value) => Ok(ToSqlOutput::from(*value)),
            SqlValue::Text(value) => Ok(ToSqlOutput::from(value.as_str())),
            // Text where it is text; bytes that are none are kept as they are.
            SqlValue::Bytes(value) => Ok(match std::str::from_utf8(value) {
                Ok(text) => ToSqlOutput::from(text),
                Err(_) => ToSqlOutput::from(value.as_slice()),
            }),
            SqlValue::Moment(micros) => Ok(ToSqlOutput::from(moment_text(*micros))),
        }
    }
}

fn value_of(value: ValueRef<'_>) -> SqlValue {
    match value {
        ValueRef::Null => SqlValue::Null,
        ValueRef::Integer(value) => SqlValue::Integer(value),
        // The ledger keeps no floats; one that stands there is told by whoever reads it.
        ValueRef::Real(value) => SqlValue::Text(value.to_string()),
        ValueRef::Text(text) => match std::str::from_utf8(text) {
            Ok(text) => SqlValue::Text(text.to_owned()),
            Err(_) => SqlValue::Bytes(text.to_vec()),
        },
        ValueRef::Blob(bytes) => SqlValue::Bytes(bytes.to_vec()),
    }
}

fn bind(statement: &mut Statement<'_>, parameters: &[SqlValue]) -> rusqlite::Result<()> {
    parameters.iter().enumerate().try_for_each(|(at, value)| statement.raw_bind_parameter(at + 1, value))
}

impl SqliteStore {
    pub(super) fn fail(&self, error: rusqlite::Error) -> StoreError {
        fail(&self.path, error)
    }

    fn rows(&self, sql: &str, parameters: &[SqlValue]) -> rusqlite::Result<Vec<SqlRow>> {
        let mut statement = self.connection.prepare_cached(&SQLITE.statement(sql))?;
        bind(&mut statement, parameters)?;
        let columns = statement.column_count();
        let mut rows = statement.raw_query();
        let mut found = Vec::new();
        while let Some(row) = rows.next()? {
            let values = (0..columns).map(|at| row.get_ref(at).map(value_of));
            found.push(SqlRow(values.collect::<rusqlite::Result<_>>()?));
        }
        Ok(found)
    }
}

impl SqlConnection for SqliteStore {
    fn shown(&self) -> String {
        shown(&self.path)
    }

    fn dialect(&self) -> &'static SqlDialect {
        &SQLITE
    }

    fn execute(&mut self, sql: &str, parameters: &[SqlValue]) -> Result<u64, StoreError> {
        let run = || {
            let mut statement = self.connection.prepare_cached(&SQLITE.statement(sql))?;
            bind(&mut statement, parameters)?;
            statement.raw_execute()
        };
        let done = run().map(|count| count as u64).map_err(|error| self.fail(error));
        failpoint!("sql.statement");
        done
    }

    fn query(&mut self, sql: &str, parameters: &[SqlValue]) -> Result<Vec<SqlRow>, StoreError> {
        self.rows(sql, parameters).map_err(|error| self.fail(error))
    }

    fn for_each_row(
        &mut self,
        sql: &str,
        parameters: &[SqlValue],
        take: &mut dyn FnMut(SqlRow) -> Result<(), Misread>,
    ) -> Result<(), StoreError> {
        let failed = |error| fail(&self.path, error);
        let mut statement = self.connection.prepare_cached(&SQLITE.statement(sql)).map_err(failed)?;
        bind(&mut statement, parameters).map_err(failed)?;
        let columns = statement.column_count();
        let mut rows = statement.raw_query();
        while let Some(row) = rows.next().map_err(failed)? {
            let values = (0..columns).map(|at| row.get_ref(at).map(value_of));
            let values = values.collect::<rusqlite::Result<_>>().map_err(failed)?;
            take(SqlRow(values))
                .map_err(|misread| StoreError::Damaged { shown: shown(&self.path), what: misread.0 })?;
        }
        Ok(())
    }

    fn script(&mut self, sql: &str) -> Result<(), StoreError> {
        self.connection.execute_batch(sql).map_err(|error| self.fail(error))
    }

    fn has_column(&mut self, table: &str, column: &str) -> Result<Option<bool>, StoreError> {
        let names = self.rows("SELECT name FROM pragma_table_info(?1)", &[SqlValue::from(table)]);
        let names = names.map_err(|error| self.fail(error))?;
        let is_it = |row: &SqlRow| row.text(0).is_ok_and(|name| name == column);
        Ok((!names.is_empty()).then(|| names.iter().any(is_it)))
    }

    fn begin(&mut self, scope: Scope) -> Result<(), StoreError> {
        self.script(&SQLITE.begin(scope))
    }

    fn commit(&mut self, scope: Scope) -> Result<(), StoreError> {
        self.script(&SQLITE.commit(scope))
    }

    fn rollback(&mut self, scope: Scope) -> Result<(), StoreError> {
        self.script(&SQLITE.rollback(scope))
    }

    fn is_shared(&self) -> bool {
        self.is_shared
    }

    fn share(&mut self, is_shared: bool) {
        self.is_shared = is_shared;
    }

    fn prepare_for_ledger(&mut self) -> Result<(), StoreError> {
        // The transaction has the database to itself.
        Ok(())
    }
}

/// A database in words for people.
pub fn shown(path: &Path) -> String {
    format!("sqlite:{}", path.display())
}

/// What an error of SQLite's means, worded once.
pub fn fail(path: &Path, error: rusqlite::Error) -> StoreError {
    let shown = shown(path);
    let code = error.sqlite_error_code();
    let why = match &error {
        rusqlite::Error::SqliteFailure(_, Some(message)) => message.clone(),
        other => other.to_string(),
    };
    match code {
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => StoreError::Locked { shown },
        Some(ErrorCode::ReadOnly) => StoreError::ReadOnly { shown },
        Some(ErrorCode::DiskFull) => StoreError::Full { shown },
        Some(ErrorCode::NotADatabase) => StoreError::NotADatabase { shown },
        Some(ErrorCode::CannotOpen | ErrorCode::PermissionDenied) => StoreError::Unreachable { shown, why },
        Some(ErrorCode::SystemIoFailure) => StoreError::Failing { shown, why },
        _ => StoreError::Refused { shown, why },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ledger::{schema, write};

    #[test]
    fn a_file_is_looked_up_by_its_path() {
        let mut store =
            SqliteStore::open(Path::new(":memory:"), std::time::Duration::ZERO, 0o600).expect("a database");
        schema::make(&mut store).expect("the ledger's tables");
        let plan: String = store
            .connection
            .query_row(
                &format!("EXPLAIN QUERY PLAN {}", SQLITE.statement(write::LOADED_AND_NEWER)),
                rusqlite::params!["quay", "a.csv", 1, "2026-03-02", "a", 1, "", 0],
                |row| row.get(3),
            )
            .expect("a plan");
        assert!(plan.contains("hd_files_by_path"), "{plan}");
    }
}
