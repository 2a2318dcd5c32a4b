//! A connection to a database file, and statements run on it.

use std::fs::OpenOptions;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::types::{Null, ToSql, ToSqlOutput, ValueRef};
use rusqlite::{Connection, ErrorCode, OpenFlags, Statement};

use super::decimals;
use super::known_tables::KnownTables;
use crate::error::StoreError;
use crate::failpoint::failpoint;
use crate::sql::{
    Misread, SQLITE, Scope, SqlConnection, SqlDatabase, SqlDialect, SqlRow, SqlValue, moment_text,
};
use crate::tables::link::LedgerLink;

/// A connection to a database file.
pub struct SqliteStore {
    pub(super) connection: Connection,
    pub(super) path: PathBuf,
    ledger_seen: bool,
    /// A transaction is open that several files share.
    pub(super) is_shared: bool,
    /// What ties it to the ledger.
    pub(super) link: LedgerLink,
    /// The version of the database when it was opened: it tells whether others have written since.
    pub(super) version_before: i64,
    /// Tables that were found to be as planned in the group that is open: nobody else changes them.
    pub(super) known_tables: KnownTables,
    /// What settings were before statements of the user's own were run.
    pragmas: Vec<(&'static str, i64)>,
}

/// Settings of a connection that statements of the user's own may change, and that change what loads do.
const PRAGMAS: [&str; 9] = [
    "query_only",
    "writable_schema",
    "ignore_check_constraints",
    "foreign_keys",
    "recursive_triggers",
    "reverse_unordered_selects",
    "legacy_alter_table",
    "synchronous",
    "busy_timeout",
];

/// Memory that SQLite may use for pages, in KiB: enough that a bulk load rarely waits.
const CACHE_KIB: i64 = 24 * 1024;

/// How many statements stay prepared: more than the ledger has.
const STATEMENTS: usize = 64;

impl SqliteStore {
    /// Opens the database, and makes the file with these rights if it is not there.
    pub fn open(path: &Path, wait: Duration, rights: u32) -> Result<SqliteStore, StoreError> {
        let unreachable = |why: String| StoreError::Unreachable { shown: shown(path), why };
        if path.is_dir() {
            return Err(unreachable("it is a folder".to_owned()));
        }
        if !path.exists() {
            // For its owner alone, and its journals likewise; what is in the way is told by the next line.
            let _ = OpenOptions::new().write(true).create_new(true).mode(rights).open(path);
        }
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
            | OpenFlags::SQLITE_OPEN_CREATE
            | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        // SQLite takes this name alone for a database in memory, whose rows and ledger would be lost.
        let is_special = path == Path::new(":memory:");
        let file = if is_special { Path::new(".").join(path) } else { path.to_path_buf() };
        let connection = Connection::open_with_flags(file, flags).map_err(|error| {
            let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
            match folder {
                Some(folder) if !folder.exists() => {
                    unreachable(format!("there is no folder `{}`", folder.display()))
                }
                _ => unreachable(error.to_string()),
            }
        })?;
        let mut store = SqliteStore {
            connection,
            path: path.to_path_buf(),
            ledger_seen: false,
            is_shared: false,
            link: LedgerLink::default(),
            version_before: 0,
            known_tables: KnownTables::default(),
            pragmas: Vec::new(),
        };
        store.prepare(wait).map_err(|error| fail(path, error))?;
        store.version_before = store.read(data_version)?;
        Ok(store)
    }

    fn prepare(&self, wait: Duration) -> rusqlite::Result<()> {
        self.connection.busy_timeout(wait)?;
        decimals::register(&self.connection)?;
        self.connection.set_prepared_statement_cache_capacity(STATEMENTS);
        self.connection.pragma_update(None, "cache_size", -CACHE_KIB)?;
        // A table written anew takes its old name without a look at the views that use it.
        self.connection.pragma_update(None, "legacy_alter_table", true)?;
        self.connection.query_row("SELECT count(*) FROM sqlite_schema", [], |_| Ok(()))
    }

    /// The same, its loads recorded in a ledger elsewhere.
    pub fn linked(mut self, link: LedgerLink) -> SqliteStore {
        self.link = link;
        self
    }

    /// Keeps the settings that statements of the user's own may change.
    pub(super) fn keep_pragmas(&mut self) -> Result<(), StoreError> {
        if self.pragmas.is_empty() {
            let value = |connection: &Connection, name: &'static str| {
                Ok((name, connection.pragma_query_value(None, name, |row| row.get(0))?))
            };
            let read = |connection: &Connection| PRAGMAS.iter().map(|name| value(connection, name)).collect();
            self.pragmas = self.read(read)?;
        }
        Ok(())
    }

    /// Puts them back.
    pub(super) fn restore_pragmas(&mut self) -> Result<(), StoreError> {
        for (name, value) in &self.pragmas {
            self.read(|connection| {
                let now: i64 = connection.pragma_query_value(None, name, |row| row.get(0))?;
                if now == *value { Ok(()) } else { connection.pragma_update(None, name, value) }
            })?;
        }
        Ok(())
    }

    pub(super) fn read<T>(
        &self,
        work: impl FnOnce(&Connection) -> rusqlite::Result<T>,
    ) -> Result<T, StoreError> {
        work(&self.connection).map_err(|error| fail(&self.path, error))
    }
}

/// A number that is another once somebody else has written.
pub fn data_version(connection: &Connection) -> rusqlite::Result<i64> {
    connection.prepare_cached("SELECT data_version FROM pragma_data_version")?.query_row([], |row| row.get(0))
}

impl SqlDatabase for SqliteStore {
    fn ledger_seen(&mut self) -> &mut bool {
        &mut self.ledger_seen
    }

    /// The file may be another by now: to open it costs next to nothing.
    fn is_alive(&mut self) -> bool {
        false
    }

    fn connect_anew(&mut self) -> Result<(), StoreError> {
        // A file does not go away as a connection does.
        Ok(())
    }

    fn missing_grants(&mut self, _: &[(String, &'static [&'static str])]) -> Result<Vec<String>, StoreError> {
        // Rights are those on the file: opening it has shown that it may be read.
        if self.connection.is_readonly("main").map_err(|error| self.fail(error))? {
            return Err(StoreError::ReadOnly { shown: shown(&self.path) });
        }
        Ok(Vec::new())
    }
}

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
            SqliteStore::open(Path::new(""), std::time::Duration::ZERO, 0o600).expect("a database");
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
