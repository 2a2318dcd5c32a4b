//! PostgreSQL: a staging database on a server.

mod connect;
mod copy;
mod drift;
mod ledger;
mod load;
mod notices;
mod rights;
mod tables;

use std::collections::HashSet;
use std::future::Future;
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::drift::Drift;
use hypodoke_core::layout::Layout;
use hypodoke_core::names::quote;
use hypodoke_core::types::Type;
use tokio::runtime::Runtime;
use tokio_postgres::error::SqlState;
use tokio_postgres::{Client, Error};

pub use connect::Address;

use crate::error::StoreError;
use crate::ledger::{
    BatchEntry, DecisionEntry, DriftEntry, FileEntry, FileQuery, LEDGER_VERSION, LayoutEntry, NoticeEntry,
    PartEntry, RejectEntry,
};
use crate::merge::Mode;
use crate::{
    About, ColumnSample, FileFigures, LoadPlan, Loader, MOST_SAMPLED, SampleRows, Store, TableShape,
};

/// The threads that all connections share: one is enough to keep the wire full.
static RUNTIME: OnceLock<Arc<Runtime>> = OnceLock::new();

fn runtime() -> Result<Arc<Runtime>, String> {
    if let Some(runtime) = RUNTIME.get() {
        return Ok(runtime.clone());
    }
    let made = tokio::runtime::Builder::new_multi_thread()
        .worker_threads(1)
        .enable_all()
        .build()
        .map_err(|error| error.to_string())?;
    Ok(RUNTIME.get_or_init(|| Arc::new(made)).clone())
}

/// A connection to a server.
pub struct PostgresStore {
    runtime: Arc<Runtime>,
    client: Client,
    shown: String,
    user: String,
    /// The schema of the staging tables and the ledger.
    schema: String,
    schema_is_there: bool,
    ledger_seen: bool,
    /// Files are being loaded that are kept all together or none.
    in_delivery: bool,
    /// Where it is, for when the connection is lost.
    address: Address,
    wanted_schema: Option<String>,
    wait: Duration,
}

impl PostgresStore {
    /// Connects.
    pub fn open(
        address: &Address,
        schema: Option<&str>,
        wait: Duration,
    ) -> Result<PostgresStore, StoreError> {
        let shown = address.shown.clone();
        let unreachable = |why: String| StoreError::Unreachable { shown: shown.clone(), why };
        let runtime = runtime().map_err(unreachable)?;
        let client = runtime.block_on(address.connect()).map_err(unreachable)?;
        let mut store = PostgresStore {
            runtime,
            client,
            user: address.user().to_owned(),
            schema: String::new(),
            schema_is_there: true,
            ledger_seen: false,
            in_delivery: false,
            shown,
            address: address.clone(),
            wanted_schema: schema.map(str::to_owned),
            wait,
        };
        store.prepare(schema, wait)?;
        Ok(store)
    }

    fn prepare(&mut self, schema: Option<&str>, wait: Duration) -> Result<(), StoreError> {
        let path = schema
            .map(|schema| format!("SET search_path TO {}, public; ", quote(schema)))
            .unwrap_or_default();
        // What others committed while this one waited for a lock has to be seen, whatever the
        // database's own custom.
        let settings = format!(
            "{path}SET default_transaction_isolation TO 'read committed'; SET TimeZone TO 'UTC'; SET client_min_messages TO warning; SET extra_float_digits TO 1; SET lock_timeout TO {}",
            wait.as_millis().min(i32::MAX as u128)
        );
        self.run(self.client.batch_execute(&settings))?;
        let row = self.run(self.client.query_one(
            "SELECT current_schema()::text, current_user::text, $1::text IS NULL OR to_regnamespace($1) IS NOT NULL",
            &[&schema.map(quote)],
        ))?;
        let found: Option<String> = row.get(0);
        self.user = row.get(1);
        self.schema_is_there = schema.is_none() || row.get::<_, Option<bool>>(2).unwrap_or(false);
        self.schema = schema.map(str::to_owned).or(found).unwrap_or_else(|| "public".to_owned());
        Ok(())
    }

    /// Takes what only one session may have; whether it was free. A machine that is gone is found
    /// out by the server within minutes.
    pub fn lease(&mut self, name: &str) -> Result<bool, StoreError> {
        let alive =
            "SET tcp_keepalives_idle TO 60; SET tcp_keepalives_interval TO 20; SET tcp_keepalives_count TO 3";
        self.run(self.client.batch_execute(alive))?;
        let what = format!("hypodoke watch {} {name}", self.schema);
        let sql = "SELECT pg_try_advisory_lock(hashtextextended($1, 0))";
        Ok(self.run(self.client.query_one(sql, &[&what]))?.get(0))
    }

    /// Whether the connection still stands.
    pub fn is_alive(&self) -> bool {
        self.run(self.client.batch_execute("")).is_ok()
    }

    /// A ledger that an earlier version made becomes one of this version's, once.
    fn bring_up_to_date(&mut self) -> Result<(), StoreError> {
        let done = self.run(async {
            self.client
                .batch_execute("BEGIN; SELECT pg_advisory_xact_lock(hashtext('hypodoke ledger'))")
                .await?;
            let found = ledger::version(&self.client, &self.schema).await?;
            if found < Some(3) {
                self.client.batch_execute(ledger::TO_THIRD).await?;
                self.client.batch_execute(ledger::DECISIONS).await?;
            }
            if found < Some(LEDGER_VERSION) {
                self.client.batch_execute(notices::TABLES).await?;
                self.client.batch_execute(ledger::TO_FOURTH).await?;
            }
            self.client.batch_execute("COMMIT").await
        });
        if done.is_err() {
            let _ = self.run(self.client.batch_execute("ROLLBACK"));
        }
        done
    }

    /// Waits for an answer of the server's.
    fn run<T>(&self, answer: impl Future<Output = Result<T, Error>>) -> Result<T, StoreError> {
        self.runtime.block_on(answer).map_err(|error| self.fail(&error))
    }

    fn understood(&self, table: &str, version: i64, text: &str) -> Result<Layout, StoreError> {
        serde_json::from_str(text).map_err(|error| {
            let what = format!("layout {version} of `{table}`: {error}");
            StoreError::Damaged { shown: self.shown.clone(), what }
        })
    }

    /// A table's quoted name with its schema.
    fn qualified(&self, table: &str) -> String {
        format!("{}.{}", quote(&self.schema), quote(table))
    }

    /// An error of the driver in our words.
    fn fail(&self, error: &Error) -> StoreError {
        let shown = self.shown.clone();
        let why = connect::words(error);
        let Some(state) = error.code() else {
            return StoreError::Lost { shown, why };
        };
        let detail = error.as_db_error().and_then(|error| error.detail()).map(|detail| format!("; {detail}"));
        let why = format!("{why}{}", detail.unwrap_or_default());
        match *state {
            SqlState::INSUFFICIENT_PRIVILEGE => StoreError::Denied { shown, user: self.user.clone(), why },
            // A schema that may not be used counts as one that is not there.
            SqlState::INVALID_SCHEMA_NAME => {
                let why = format!("permission denied for schema {}: {why}", self.schema);
                StoreError::Denied { shown, user: self.user.clone(), why }
            }
            SqlState::DISK_FULL => StoreError::Full { shown },
            SqlState::READ_ONLY_SQL_TRANSACTION => StoreError::ReadOnly { shown },
            SqlState::LOCK_NOT_AVAILABLE
            | SqlState::T_R_DEADLOCK_DETECTED
            | SqlState::T_R_SERIALIZATION_FAILURE
            | SqlState::QUERY_CANCELED => StoreError::GaveUp { shown, why },
            _ => match &state.code()[..2] {
                "57" | "08" => StoreError::Lost { shown, why },
                "53" => StoreError::GaveUp { shown, why },
                "22" | "23" => StoreError::RowRefused { shown, why },
                _ => StoreError::Refused { shown, why },
            },
        }
    }
}

impl Store for PostgresStore {
    fn shown(&self) -> String {
        self.shown.clone()
    }

    fn most_columns(&self) -> usize {
        1600
    }

    fn open_ledger(&mut self) -> Result<(), StoreError> {
        if self.ledger_seen || self.has_ledger()? {
            self.ledger_seen = true;
            return Ok(());
        }
        // Two processes may come at once: the second waits, and finds the ledger made.
        let made = self.run(async {
            self.client
                .batch_execute("BEGIN; SELECT pg_advisory_xact_lock(hashtext('hypodoke ledger'))")
                .await?;
            if !self.schema_is_there {
                let make = format!("CREATE SCHEMA IF NOT EXISTS {}", quote(&self.schema));
                self.client.batch_execute(&make).await?;
            }
            if ledger::version(&self.client, &self.schema).await?.is_none() {
                self.client.batch_execute(ledger::SCHEMA).await?;
                self.client.batch_execute(ledger::DECISIONS).await?;
                self.client.batch_execute(notices::TABLES).await?;
                ledger::sign(&self.client).await?;
            }
            self.client.batch_execute("COMMIT").await
        });
        if let Err(error) = made {
            // The connection may be gone; then the server undoes it by itself.
            let _ = self.run(self.client.batch_execute("ROLLBACK"));
            return Err(error);
        }
        self.schema_is_there = true;
        self.ledger_seen = true;
        Ok(())
    }

    fn has_ledger(&mut self) -> Result<bool, StoreError> {
        let found = self.run(ledger::version(&self.client, &self.schema))?;
        match found {
            None => Ok(false),
            Some(found) if found > LEDGER_VERSION => {
                Err(StoreError::NewerLedger { shown: self.shown(), found, known: LEDGER_VERSION })
            }
            Some(found) if found < LEDGER_VERSION => self.bring_up_to_date().map(|()| true),
            Some(_) => Ok(true),
        }
    }

    fn table(&mut self, name: &str) -> Result<Option<TableShape>, StoreError> {
        let found = self.run(tables::read(&self.client, &self.schema, name))?;
        Ok(found.map(|table| table.shape()))
    }

    fn layout(&mut self, table: &str) -> Result<Option<LayoutEntry>, StoreError> {
        if !self.ledger_seen && !self.has_ledger()? {
            return Ok(None);
        }
        let Some((version, text, file)) = self.run(ledger::layout(&self.client, table))? else {
            return Ok(None);
        };
        Ok(Some(LayoutEntry { version, layout: self.understood(table, version, &text)?, file }))
    }

    fn loaded_files(&mut self) -> Result<Vec<FileEntry>, StoreError> {
        self.run(ledger::loaded_files(&self.client))
    }

    fn files_like(&mut self, arrivals: &[&Arrival]) -> Result<Vec<FileEntry>, StoreError> {
        self.run(ledger::files_like(&self.client, arrivals))
    }

    fn begin_batch(&mut self, at: i64) -> Result<i64, StoreError> {
        self.run(ledger::begin_batch(&self.client, at))
    }

    fn end_batch(&mut self, batch: i64, at: i64) -> Result<(), StoreError> {
        self.run(ledger::end_batch(&self.client, batch, at))
    }

    fn begin_load<'a>(&'a mut self, plan: &'a LoadPlan) -> Result<Option<Box<dyn Loader + 'a>>, StoreError> {
        let loader = load::PostgresLoader::begin(self, plan)?;
        Ok(loader.map(|loader| Box::new(loader) as Box<dyn Loader + 'a>))
    }

    fn reconnect(&mut self) -> Result<(), StoreError> {
        let (address, schema) = (self.address.clone(), self.wanted_schema.clone());
        let ledger_seen = self.ledger_seen;
        *self = PostgresStore::open(&address, schema.as_deref(), self.wait)?;
        self.ledger_seen = ledger_seen;
        Ok(())
    }

    fn begin_delivery(&mut self) -> Result<(), StoreError> {
        self.run(self.client.batch_execute("BEGIN"))?;
        self.in_delivery = true;
        Ok(())
    }

    fn end_delivery(&mut self, keep: bool) -> Result<(), StoreError> {
        self.in_delivery = false;
        self.run(self.client.batch_execute(if keep { "COMMIT" } else { "ROLLBACK" }))
    }

    fn ddl(&mut self, plan: &LoadPlan) -> Result<Vec<String>, StoreError> {
        let mut statements = Vec::new();
        for table in plan.tables.iter().filter(|table| !table.is_virtual) {
            let qualified = self.qualified(&table.table);
            let found = self.run(tables::read(&self.client, &self.schema, &table.table))?;
            match found {
                None => {
                    statements.push(tables::create_sql(&qualified, &table.layout, table.lineage, table.mode));
                    statements.extend(load::key_index(&qualified, table));
                }
                Some(_) => statements.extend(tables::alter_sql(&qualified, table)),
            }
        }
        Ok(statements)
    }

    fn about(&mut self) -> Result<About, StoreError> {
        let row = self.run(self.client.query_one("SELECT current_setting('server_version')", &[]))?;
        let version: String = row.get(0);
        Ok(About {
            version: format!("PostgreSQL {}", version.split_whitespace().next().unwrap_or_default()),
            user: Some(self.user.clone()),
            schema: Some(self.schema.clone()),
        })
    }

    fn missing_rights(&mut self, tables: &[(String, Mode)]) -> Result<Vec<String>, StoreError> {
        self.run(rights::missing(&self.client, &self.schema, &self.user, tables))
    }

    fn note_file(&mut self, entry: &FileEntry, drift: &[(String, Drift)]) -> Result<(), StoreError> {
        let transaction = |sql: &'static str| if self.in_delivery { "SELECT 1" } else { sql };
        let noted = self.run(async {
            self.client.batch_execute(transaction("BEGIN")).await?;
            let file = ledger::note_file(&self.client, entry).await?;
            for (table, one) in drift {
                drift::note(&self.client, file, table, std::slice::from_ref(one)).await?;
            }
            self.client.batch_execute(transaction("COMMIT")).await
        });
        if noted.is_err() {
            // If the connection is gone, the server undoes it by itself.
            let _ = self.run(self.client.batch_execute(transaction("ROLLBACK")));
        }
        noted
    }

    fn layouts(&mut self, table: &str) -> Result<Vec<LayoutEntry>, StoreError> {
        let found = self.run(drift::layouts(&self.client, table))?;
        let entry = |(version, text, file): (i64, String, i64)| {
            Ok(LayoutEntry { version, layout: self.understood(table, version, &text)?, file })
        };
        found.into_iter().map(entry).collect()
    }

    fn drift(&mut self) -> Result<Vec<DriftEntry>, StoreError> {
        self.run(drift::all(&self.client))
    }

    fn decisions(&mut self) -> Result<Vec<DecisionEntry>, StoreError> {
        self.run(drift::decisions(&self.client))
    }

    fn note_decision(&mut self, entry: &DecisionEntry) -> Result<(), StoreError> {
        self.run(drift::note_decision(&self.client, entry))
    }

    fn untold(&mut self, to: &str, events: &[String]) -> Result<HashSet<String>, StoreError> {
        self.run(notices::untold(&self.client, to, events))
    }

    fn note_notice(&mut self, entry: &NoticeEntry, events: &[String]) -> Result<(), StoreError> {
        self.run(notices::note(&self.client, entry, events))
    }

    fn take_notices(
        &mut self,
        at: i64,
        tried_before: i64,
        from: i64,
    ) -> Result<Vec<NoticeEntry>, StoreError> {
        self.run(notices::take(&self.client, at, tried_before, from))
    }

    fn settle_notice(&mut self, notice: i64, at: i64, trouble: Option<&str>) -> Result<(), StoreError> {
        self.run(notices::settle(&self.client, notice, at, trouble))
    }

    fn column_sample(&mut self, table: &str, column: &str) -> Result<ColumnSample, StoreError> {
        self.run(drift::sample(&self.client, &self.qualified(table), column, MOST_SAMPLED))
    }

    fn file_figures(&mut self, table: &str, sums: &[(String, Type)]) -> Result<Vec<FileFigures>, StoreError> {
        self.run(drift::figures(&self.client, &self.qualified(table), sums))
    }

    fn batches(&mut self, most: usize) -> Result<Vec<BatchEntry>, StoreError> {
        self.run(ledger::batches(&self.client, most))
    }

    fn files(&mut self, query: &FileQuery) -> Result<Vec<FileEntry>, StoreError> {
        self.run(ledger::files(&self.client, query))
    }

    fn parts(&mut self, file: i64) -> Result<Vec<PartEntry>, StoreError> {
        self.run(ledger::parts(&self.client, file))
    }

    fn rejects(&mut self, file: i64, most: usize) -> Result<Vec<RejectEntry>, StoreError> {
        self.run(ledger::rejects(&self.client, file, most))
    }

    fn count_rows(&mut self, table: &str) -> Result<u64, StoreError> {
        let sql = format!("SELECT count(*) FROM {}", self.qualified(table));
        let row = self.run(self.client.query_one(&sql, &[]))?;
        Ok(row.get::<_, i64>(0) as u64)
    }

    fn first_rows(&mut self, table: &str, most: usize) -> Result<SampleRows, StoreError> {
        let qualified = self.qualified(table);
        let names = self.run(self.client.query(
            "SELECT attname::text FROM pg_attribute WHERE attrelid = to_regclass($1) AND attnum > 0 AND NOT attisdropped ORDER BY attnum",
            &[&qualified],
        ))?;
        let columns: Vec<String> = names.iter().map(|row| row.get(0)).collect();
        let list: Vec<String> = columns.iter().map(|name| format!("{}::text", quote(name))).collect();
        let sql = format!("SELECT {} FROM {qualified} LIMIT {most}", list.join(", "));
        let found = self.run(self.client.query(&sql, &[]))?;
        let rows = found.iter().map(|row| (0..columns.len()).map(|at| row.get(at)).collect()).collect();
        Ok(SampleRows { columns, rows })
    }
}
