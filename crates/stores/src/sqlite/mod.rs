//! SQLite: a staging database in a file.

mod bulk;
mod connection;
mod decimals;
mod figures;
mod known_tables;
mod load;
mod rebuild_target;

mod tables;

use std::fs::OpenOptions;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

use hypodoke_core::types::Type;
use rusqlite::{Connection, OpenFlags};

use crate::error::StoreError;
use crate::load_plan::{LoadPlan, Mode};
use crate::sql::{SqlDatabase, quote};
use crate::tables::catalog::{
    About, Catalog, ColumnSample, FileFigures, MOST_SAMPLED, SampleRows, TableShape,
};
use crate::tables::link::LedgerLink;
use crate::tables::pairing;
use connection::{fail, shown};
use known_tables::KnownTables;

/// A connection to a database file.
pub struct SqliteStore {
    connection: Connection,
    path: PathBuf,
    ledger_seen: bool,
    /// A transaction is open that several files share.
    is_shared: bool,
    /// What ties it to the ledger.
    link: LedgerLink,
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
            is_shared: false,
            link: LedgerLink::default(),
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

    /// The same, its loads recorded in a ledger elsewhere.
    pub fn linked(mut self, link: LedgerLink) -> SqliteStore {
        self.link = link;
        self
    }

    fn read<T>(&self, work: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T, StoreError> {
        work(&self.connection).map_err(|error| fail(&self.path, error))
    }
}

/// A number that is another once somebody else has written.
fn data_version(connection: &Connection) -> rusqlite::Result<i64> {
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

    fn missing_rights(&mut self, tables: &[(String, Mode)]) -> Result<Vec<String>, StoreError> {
        pairing::missing_rights(self, tables)
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
