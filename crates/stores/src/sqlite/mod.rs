//! SQLite: a staging database in a file.

mod bulk;
mod drift;
mod ledger;
mod load;
mod notices;
mod tables;

pub(crate) use tables::moment;

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::time::Duration;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::drift::Drift;
use hypodoke_core::layout::Layout;
use hypodoke_core::names::quote;
use hypodoke_core::types::Type;
use rusqlite::{Connection, ErrorCode, OpenFlags, OptionalExtension, TransactionBehavior};

use crate::error::StoreError;
use crate::ledger::{
    BatchEntry, DecisionEntry, DriftEntry, FileEntry, FileQuery, LayoutEntry, NoticeEntry, PartEntry,
    RejectEntry,
};
use crate::merge::Mode;
use crate::{
    About, ColumnSample, FileFigures, LoadPlan, Loader, MOST_SAMPLED, SampleRows, Store, TableShape,
};

/// A connection to a database file.
pub struct SqliteStore {
    connection: Connection,
    path: PathBuf,
    /// The hashes of files already loaded change hands in the same transaction as rows; this
    /// says whether the ledger's tables were seen, so that they are looked for once.
    ledger_seen: bool,
    /// Files are being loaded that are kept all together or none.
    in_delivery: bool,
}

/// Memory that SQLite may use for pages, in KiB: enough that a bulk load rarely waits.
const CACHE_KIB: i64 = 24 * 1024;

impl SqliteStore {
    /// Opens the database, and makes the file if it is not there.
    pub fn open(path: &Path, wait: Duration) -> Result<SqliteStore, StoreError> {
        let unreachable = |why: String| StoreError::Unreachable { shown: shown(path), why };
        if path.is_dir() {
            return Err(unreachable("it is a folder".to_owned()));
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
        let store =
            SqliteStore { connection, path: path.to_path_buf(), ledger_seen: false, in_delivery: false };
        store.prepare(wait).map_err(|error| store.fail(error))?;
        Ok(store)
    }

    fn prepare(&self, wait: Duration) -> rusqlite::Result<()> {
        self.connection.busy_timeout(wait)?;
        self.connection.pragma_update(None, "cache_size", -CACHE_KIB)?;
        // A table written anew takes its old name without a look at the views that use it.
        self.connection.pragma_update(None, "legacy_alter_table", true)?;
        self.connection.query_row("SELECT count(*) FROM sqlite_schema", [], |_| Ok(()))
    }

    fn fail(&self, error: rusqlite::Error) -> StoreError {
        fail(&self.path, error)
    }

    fn understood(&self, table: &str, version: i64, text: &str) -> Result<Layout, StoreError> {
        serde_json::from_str(text).map_err(|error| {
            let what = format!("layout {version} of `{table}`: {error}");
            StoreError::Damaged { shown: shown(&self.path), what }
        })
    }

    fn read<T>(&self, work: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T, StoreError> {
        work(&self.connection).map_err(|error| self.fail(error))
    }

    fn write<T>(&mut self, work: impl FnOnce(&Connection) -> rusqlite::Result<T>) -> Result<T, StoreError> {
        let path = &self.path;
        if self.in_delivery {
            return work(&self.connection).map_err(|error| fail(path, error));
        }
        let run = || {
            let transaction = self.connection.transaction_with_behavior(TransactionBehavior::Immediate)?;
            let value = work(&transaction)?;
            transaction.commit()?;
            Ok(value)
        };
        run().map_err(|error| fail(path, error))
    }
}

fn shown(path: &Path) -> String {
    format!("sqlite:{}", path.display())
}

/// What an error of SQLite's means, worded once.
fn fail(path: &Path, error: rusqlite::Error) -> StoreError {
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

impl Store for SqliteStore {
    fn shown(&self) -> String {
        shown(&self.path)
    }

    fn most_columns(&self) -> usize {
        // SQLITE_MAX_COLUMN as SQLite is built here.
        2000
    }

    fn open_ledger(&mut self) -> Result<(), StoreError> {
        if self.ledger_seen {
            return Ok(());
        }
        if self.has_ledger()? {
            self.ledger_seen = true;
            return Ok(());
        }
        if let Some(name) = self.write(ledger::create)? {
            let why = format!("a table called `{name}` is there already, and is not of a ledger");
            return Err(StoreError::Refused { shown: self.shown(), why });
        }
        self.ledger_seen = true;
        Ok(())
    }

    fn has_ledger(&mut self) -> Result<bool, StoreError> {
        let known = crate::ledger::LEDGER_VERSION;
        match self.read(ledger::version)? {
            None => Ok(false),
            Some(found) if found > known => {
                Err(StoreError::NewerLedger { shown: self.shown(), found, known })
            }
            Some(found) if found < known => {
                // Made by an earlier version: brought up to this one.
                self.write(ledger::create)?;
                Ok(true)
            }
            Some(_) => Ok(true),
        }
    }

    fn table(&mut self, name: &str) -> Result<Option<TableShape>, StoreError> {
        self.read(|connection| tables::shape(connection, name))
    }

    fn layout(&mut self, table: &str) -> Result<Option<LayoutEntry>, StoreError> {
        if !self.has_ledger()? {
            return Ok(None);
        }
        let found = self.read(|connection| ledger::layout(connection, table).optional())?;
        let Some((version, text, file)) = found else { return Ok(None) };
        Ok(Some(LayoutEntry { version, layout: self.understood(table, version, &text)?, file }))
    }

    fn loaded_files(&mut self) -> Result<Vec<FileEntry>, StoreError> {
        self.read(ledger::loaded_files)
    }

    fn files_like(&mut self, arrivals: &[&Arrival]) -> Result<Vec<FileEntry>, StoreError> {
        self.read(|connection| ledger::files_like(connection, arrivals))
    }

    fn begin_batch(&mut self, at: i64) -> Result<i64, StoreError> {
        self.write(|connection| ledger::begin_batch(connection, at))
    }

    fn end_batch(&mut self, batch: i64, at: i64) -> Result<(), StoreError> {
        self.write(|connection| ledger::end_batch(connection, batch, at))
    }

    fn begin_load<'a>(&'a mut self, plan: &'a LoadPlan) -> Result<Option<Box<dyn Loader + 'a>>, StoreError> {
        let path = &self.path;
        let loader = load::SqliteLoader::begin(&mut self.connection, plan, path, self.in_delivery)?;
        Ok(loader.map(|loader| Box::new(loader) as Box<dyn Loader + 'a>))
    }

    fn begin_delivery(&mut self) -> Result<(), StoreError> {
        self.connection.execute_batch("BEGIN IMMEDIATE").map_err(|error| self.fail(error))?;
        self.in_delivery = true;
        Ok(())
    }

    fn end_delivery(&mut self, keep: bool) -> Result<(), StoreError> {
        self.in_delivery = false;
        let end = if keep { "COMMIT" } else { "ROLLBACK" };
        self.connection.execute_batch(end).map_err(|error| self.fail(error))
    }

    fn ddl(&mut self, plan: &LoadPlan) -> Result<Vec<String>, StoreError> {
        let mut statements = Vec::new();
        for table in plan.tables.iter().filter(|table| !table.is_virtual) {
            match self.read(|connection| tables::shape(connection, &table.table))? {
                None => {
                    statements.push(tables::create_sql(
                        &table.table,
                        &table.layout,
                        table.lineage,
                        table.mode,
                    ));
                    statements.extend(load::key_index(table));
                }
                Some(_) => statements.extend(tables::alter_sql(table)),
            }
        }
        Ok(statements)
    }

    fn about(&mut self) -> Result<About, StoreError> {
        Ok(About { version: format!("SQLite {}", rusqlite::version()), user: None, schema: None })
    }

    fn missing_rights(&mut self, _: &[(String, Mode)]) -> Result<Vec<String>, StoreError> {
        // Rights are those on the file: opening it has shown that it may be read.
        if self.connection.is_readonly("main").map_err(|error| self.fail(error))? {
            return Err(StoreError::ReadOnly { shown: self.shown() });
        }
        Ok(Vec::new())
    }

    fn note_file(&mut self, entry: &FileEntry, drift: &[(String, Drift)]) -> Result<(), StoreError> {
        self.write(|connection| {
            let file = ledger::note_file(connection, entry)?;
            drift
                .iter()
                .try_for_each(|(table, one)| drift::note(connection, file, table, std::slice::from_ref(one)))
        })
    }

    fn layouts(&mut self, table: &str) -> Result<Vec<LayoutEntry>, StoreError> {
        let found = self.read(|connection| drift::layouts(connection, table))?;
        let entry = |(version, text, file): (i64, String, i64)| {
            Ok(LayoutEntry { version, layout: self.understood(table, version, &text)?, file })
        };
        found.into_iter().map(entry).collect()
    }

    fn drift(&mut self) -> Result<Vec<DriftEntry>, StoreError> {
        self.read(drift::all)
    }

    fn decisions(&mut self) -> Result<Vec<DecisionEntry>, StoreError> {
        self.read(drift::decisions)
    }

    fn note_decision(&mut self, entry: &DecisionEntry) -> Result<(), StoreError> {
        self.write(|connection| drift::note_decision(connection, entry))
    }

    fn untold(&mut self, to: &str, events: &[String]) -> Result<HashSet<String>, StoreError> {
        self.read(|connection| notices::untold(connection, to, events))
    }

    fn note_notice(&mut self, entry: &NoticeEntry, events: &[String]) -> Result<(), StoreError> {
        self.write(|connection| notices::note(connection, entry, events))
    }

    fn take_notices(
        &mut self,
        at: i64,
        tried_before: i64,
        from: i64,
    ) -> Result<Vec<NoticeEntry>, StoreError> {
        self.write(|connection| notices::take(connection, at, tried_before, from))
    }

    fn settle_notice(&mut self, notice: i64, at: i64, trouble: Option<&str>) -> Result<(), StoreError> {
        self.write(|connection| notices::settle(connection, notice, at, trouble))
    }

    fn column_sample(&mut self, table: &str, column: &str) -> Result<ColumnSample, StoreError> {
        self.read(|connection| drift::sample(connection, table, column, MOST_SAMPLED))
    }

    fn file_figures(&mut self, table: &str, sums: &[(String, Type)]) -> Result<Vec<FileFigures>, StoreError> {
        self.read(|connection| drift::figures(connection, table, sums))
    }

    fn batches(&mut self, most: usize) -> Result<Vec<BatchEntry>, StoreError> {
        self.read(|connection| ledger::batches(connection, most))
    }

    fn files(&mut self, query: &FileQuery) -> Result<Vec<FileEntry>, StoreError> {
        self.read(|connection| ledger::files(connection, query))
    }

    fn parts(&mut self, file: i64) -> Result<Vec<PartEntry>, StoreError> {
        self.read(|connection| ledger::parts(connection, file))
    }

    fn rejects(&mut self, file: i64, most: usize) -> Result<Vec<RejectEntry>, StoreError> {
        self.read(|connection| ledger::rejects(connection, file, most))
    }

    fn count_rows(&mut self, table: &str) -> Result<u64, StoreError> {
        let sql = format!("SELECT count(*) FROM {}", quote(table));
        self.read(|connection| connection.query_row(&sql, [], |row| row.get::<_, i64>(0)))
            .map(|count| count as u64)
    }

    fn first_rows(&mut self, table: &str, most: usize) -> Result<SampleRows, StoreError> {
        self.read(|connection| tables::first_rows(connection, table, most))
    }
}
