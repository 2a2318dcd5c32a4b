//! SQLite: a staging database in a file.

mod bulk;
mod decimals;
mod figures;
mod known_tables;
mod load;
mod rebuild_target;
mod session;
mod tables;

use std::fs::OpenOptions;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use hypodoke_core::types::Type;
use rusqlite::{Connection, OpenFlags};

use crate::catalog::{About, Catalog, ColumnSample, FileFigures, MOST_SAMPLED, SampleRows, TableShape};
use crate::error::StoreError;
use crate::ledger::write;
use crate::mode::Mode;
use crate::plan::{LoadPlan, LoadRules, TablePlan};
use crate::rebuild::{self, Comparison};
use crate::sink::{Capabilities, Claim, Claimed, Sink, Writer};
use crate::sql::{Misread, Scope, SqlConnection, SqlDatabase, SqlDialect, SqlRow, SqlValue, quote};
use known_tables::KnownTables;
use session::{SqliteSession, fail, shown};

/// A connection to a database file.
pub struct SqliteStore {
    connection: Connection,
    path: PathBuf,
    ledger_seen: bool,
    /// Files are being loaded that are kept all together or none.
    in_group: bool,
    /// The version of the database when it was opened: it tells whether others have written since.
    version_before: i64,
    /// Tables that were found to be as planned in the group that is open: nobody else changes them.
    known_tables: KnownTables,
}

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
        let connection = Connection::open_with_flags(path, flags).map_err(|error| {
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
            in_group: false,
            version_before: 0,
            known_tables: KnownTables::default(),
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

    fn session(&self) -> SqliteSession<'_> {
        SqliteSession { connection: &self.connection, path: &self.path, in_transaction: self.in_group }
    }

    fn read<T>(&self, work: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T, StoreError> {
        work(&self.connection).map_err(|error| fail(&self.path, error))
    }
}

/// A number that is another once somebody else has written.
fn data_version(connection: &Connection) -> rusqlite::Result<i64> {
    connection.prepare_cached("SELECT data_version FROM pragma_data_version")?.query_row([], |row| row.get(0))
}

impl SqlConnection for SqliteStore {
    fn shown(&self) -> String {
        shown(&self.path)
    }

    fn dialect(&self) -> &'static SqlDialect {
        self.session().dialect()
    }

    fn execute(&mut self, sql: &str, parameters: &[SqlValue]) -> Result<u64, StoreError> {
        self.session().execute(sql, parameters)
    }

    fn query(&mut self, sql: &str, parameters: &[SqlValue]) -> Result<Vec<SqlRow>, StoreError> {
        self.session().query(sql, parameters)
    }

    fn for_each_row(
        &mut self,
        sql: &str,
        parameters: &[SqlValue],
        take: &mut dyn FnMut(SqlRow) -> Result<(), Misread>,
    ) -> Result<(), StoreError> {
        self.session().for_each_row(sql, parameters, take)
    }

    fn script(&mut self, sql: &str) -> Result<(), StoreError> {
        self.session().script(sql)
    }

    fn has_column(&mut self, table: &str, column: &str) -> Result<Option<bool>, StoreError> {
        self.session().has_column(table, column)
    }

    fn begin(&mut self, scope: Scope) -> Result<(), StoreError> {
        self.session().begin(scope)
    }

    fn commit(&mut self, scope: Scope) -> Result<(), StoreError> {
        self.session().commit(scope)
    }

    fn rollback(&mut self, scope: Scope) -> Result<(), StoreError> {
        self.session().rollback(scope)
    }

    fn is_in_transaction(&self) -> bool {
        self.in_group
    }

    fn prepare_for_ledger(&mut self) -> Result<(), StoreError> {
        self.session().prepare_for_ledger()
    }
}

impl SqlDatabase for SqliteStore {
    fn ledger_seen(&mut self) -> &mut bool {
        &mut self.ledger_seen
    }
}

impl Sink for SqliteStore {
    fn capabilities(&self) -> Capabilities {
        Capabilities {
            ledger_with_rows: true,
            table_changes_with_rows: true,
            groups: true,
            many_writers: false,
            modes: Mode::ALL,
            // SQLITE_MAX_COLUMN as SQLite is built here.
            takes_nul: true,
            most_columns: 2000,
        }
    }

    fn begin_load<'a>(&'a mut self, plan: &'a LoadPlan) -> Result<Option<Box<dyn Writer + 'a>>, StoreError> {
        let SqliteStore { connection, path, in_group, known_tables, .. } = self;
        let known_tables = in_group.then_some(known_tables);
        let writer = load::SqliteWriter::begin(connection, path, plan, known_tables)?;
        Ok(writer.map(|writer| Box::new(writer) as Box<dyn Writer + 'a>))
    }

    fn begin_group(&mut self) -> Result<(), StoreError> {
        self.begin(Scope::Whole)?;
        self.in_group = true;
        self.known_tables = KnownTables::default();
        Ok(())
    }

    fn end_group(&mut self, keep: bool) -> Result<(), StoreError> {
        if !std::mem::take(&mut self.in_group) {
            let why = "the transaction of several files is not open any more".to_owned();
            return Err(StoreError::Lost { shown: SqlConnection::shown(self), why });
        }
        if !keep {
            return self.rollback(Scope::Whole);
        }
        let kept = self.commit(Scope::Whole);
        if kept.is_err() {
            let _ = self.rollback(Scope::Whole);
        }
        kept
    }

    /// The transaction has the database to itself: what is loaded by now was loaded before it began.
    fn claim(&mut self, table: &str, _: bool, files: &[Claim<'_>]) -> Result<Vec<Claimed>, StoreError> {
        if self.read(data_version)? == self.version_before {
            return Ok(vec![Claimed::Ours; files.len()]);
        }
        let mut session = self.session();
        let claimed = |file: &Claim<'_>| {
            let is_loaded = write::is_in_table(&mut session, file.arrival, table)?;
            Ok(if is_loaded { Claimed::Loaded } else { Claimed::Ours })
        };
        files.iter().map(claimed).collect()
    }

    fn compare(
        &mut self,
        tables: &[TablePlan],
        rules: &LoadRules,
        most: Option<u64>,
    ) -> Result<Option<Comparison>, StoreError> {
        // Tables are only read: nobody who writes is waited for.
        self.session().script("BEGIN")?;
        let compared = rebuild::compare(&mut self.session(), tables, rules, most);
        // What was staged goes with it.
        self.rollback(Scope::Whole)?;
        compared
    }

    fn reconnect(&mut self) -> Result<(), StoreError> {
        // A file does not go away as a connection does.
        Ok(())
    }
}

impl Catalog for SqliteStore {
    fn shown(&self) -> String {
        shown(&self.path)
    }

    fn table(&mut self, name: &str) -> Result<Option<TableShape>, StoreError> {
        self.read(|connection| tables::shape(connection, name))
    }

    fn ddl(&mut self, plan: &LoadPlan) -> Result<Vec<String>, StoreError> {
        let mut statements = Vec::new();
        for table in plan.tables.iter().filter(|table| !table.is_virtual) {
            match self.read(|connection| tables::shape(connection, &table.table))? {
                None => {
                    statements.push(tables::create_sql(&table.table, table));
                    let indexes = table.indexes(&quote(&table.table));
                    statements.extend(indexes.into_iter().map(|index| index.sql));
                }
                Some(_) => statements.extend(tables::alter_sql(table)),
            }
        }
        Ok(statements)
    }

    fn about(&mut self) -> Result<About, StoreError> {
        Ok(About {
            version: format!("SQLite {}", rusqlite::version()),
            user: None,
            schema: None,
            clock: None,
            settings: Vec::new(),
        })
    }

    fn missing_rights(&mut self, _: &[(String, Mode)]) -> Result<Vec<String>, StoreError> {
        // Rights are those on the file: opening it has shown that it may be read.
        if self.connection.is_readonly("main").map_err(|error| fail(&self.path, error))? {
            return Err(StoreError::ReadOnly { shown: shown(&self.path) });
        }
        Ok(Vec::new())
    }

    fn column_sample(&mut self, table: &str, column: &str) -> Result<ColumnSample, StoreError> {
        self.read(|connection| figures::sample(connection, table, column, MOST_SAMPLED))
    }

    fn file_figures(&mut self, table: &str, sums: &[(String, Type)]) -> Result<Vec<FileFigures>, StoreError> {
        self.read(|connection| figures::figures(connection, table, sums))
    }

    fn count_rows(&mut self, table: &str) -> Result<u64, StoreError> {
        let sql = format!("SELECT count(*) FROM {}", quote(table));
        self.read(|connection| connection.query_row(&sql, [], |row| row.get::<_, i64>(0)))
            .map(|count| count as u64)
    }

    fn texts_among_numbers(&mut self, table: &str) -> Result<Vec<String>, StoreError> {
        self.read(|connection| tables::texts_among_numbers(connection, table))
    }

    fn first_rows(&mut self, table: &str, most: usize) -> Result<SampleRows, StoreError> {
        self.read(|connection| tables::first_rows(connection, table, most))
    }
}
