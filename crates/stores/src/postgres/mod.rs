//! PostgreSQL: a staging database on a server.

mod connect;
mod copy;
mod figures;
mod load;
mod rights;
mod session;
mod tables;

use std::collections::HashMap;
use std::future::Future;
use std::sync::{Arc, OnceLock};
use std::time::Duration;

use hypodoke_core::types::Type;
use tokio::runtime::Runtime;
use tokio_postgres::error::SqlState;
use tokio_postgres::types::ToSql;
use tokio_postgres::{Client, Error, Statement};

pub use connect::Address;

use crate::catalog::{About, Catalog, ColumnSample, FileFigures, MOST_SAMPLED, SampleRows, TableShape};
use crate::error::StoreError;
use crate::merge::Mode;
use crate::plan::LoadPlan;
use crate::sink::{Capabilities, Sink, Writer};
use crate::sql::{Dialect, Misread, POSTGRES, Scope, SqlConnection, SqlDatabase, SqlRow, SqlValue, quote};

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
    /// Statements of the ledger, as the server prepared them.
    statements: HashMap<String, Statement>,
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
            statements: HashMap::new(),
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

    /// A statement of the ledger, prepared once.
    fn prepared(&mut self, sql: &str) -> Result<Statement, StoreError> {
        if let Some(statement) = self.statements.get(sql) {
            return Ok(statement.clone());
        }
        let statement = self.run(self.client.prepare(sql))?;
        self.statements.insert(sql.to_owned(), statement.clone());
        Ok(statement)
    }

    /// Waits for an answer of the server's.
    fn run<T>(&self, answer: impl Future<Output = Result<T, Error>>) -> Result<T, StoreError> {
        self.runtime.block_on(answer).map_err(|error| self.fail(&error))
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
            | SqlState::QUERY_CANCELED => StoreError::Aborted { shown, why },
            _ => match &state.code()[..2] {
                "57" | "08" => StoreError::Lost { shown, why },
                "53" => StoreError::Aborted { shown, why },
                "22" | "23" => StoreError::RowRefused { shown, why },
                _ => StoreError::Refused { shown, why },
            },
        }
    }
}

impl SqlConnection for PostgresStore {
    fn shown(&self) -> String {
        self.shown.clone()
    }

    fn dialect(&self) -> &'static Dialect {
        &POSTGRES
    }

    fn execute(&mut self, sql: &str, parameters: &[SqlValue]) -> Result<u64, StoreError> {
        let statement = self.prepared(&POSTGRES.statement(sql))?;
        self.run(self.client.execute(&statement, &as_parameters(parameters)))
    }

    fn query(&mut self, sql: &str, parameters: &[SqlValue]) -> Result<Vec<SqlRow>, StoreError> {
        let statement = self.prepared(&POSTGRES.statement(sql))?;
        let rows = self.run(self.client.query(&statement, &as_parameters(parameters)))?;
        let rows: Result<Vec<SqlRow>, Misread> = rows.iter().map(session::row_of).collect();
        rows.map_err(|misread| StoreError::Damaged { shown: self.shown.clone(), what: misread.0 })
    }

    fn script(&mut self, sql: &str) -> Result<(), StoreError> {
        self.run(self.client.batch_execute(sql))
    }

    /// It is looked for in the catalogue itself, which shows what others have committed by now, where
    /// a name that is looked up may be remembered.
    fn has_column(&mut self, table: &str, column: &str) -> Result<Option<bool>, StoreError> {
        let sql = "SELECT a.attname::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
             LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
             WHERE n.nspname = $1 AND c.relname = $2";
        let rows = self.run(self.client.query(sql, &[&self.schema, &table]))?;
        let is_it = |row: &tokio_postgres::Row| row.get::<_, Option<&str>>(0) == Some(column);
        Ok((!rows.is_empty()).then(|| rows.iter().any(is_it)))
    }

    fn begin(&mut self, scope: Scope) -> Result<(), StoreError> {
        self.script(&POSTGRES.begin(scope))
    }

    fn commit(&mut self, scope: Scope) -> Result<(), StoreError> {
        self.script(&POSTGRES.commit(scope))
    }

    fn rollback(&mut self, scope: Scope) -> Result<(), StoreError> {
        self.script(&POSTGRES.rollback(scope))
    }

    fn is_in_transaction(&self) -> bool {
        self.in_delivery
    }

    /// Two processes may come at once: the second waits, and finds the ledger made.
    fn prepare_for_ledger(&mut self) -> Result<(), StoreError> {
        self.script("SELECT pg_advisory_xact_lock(hashtext('hypodoke ledger'))")?;
        if !self.schema_is_there {
            self.script(&format!("CREATE SCHEMA IF NOT EXISTS {}", quote(&self.schema)))?;
        }
        Ok(())
    }
}

impl SqlDatabase for PostgresStore {
    fn ledger_seen(&mut self) -> &mut bool {
        &mut self.ledger_seen
    }
}

/// Parameters as the driver takes them.
fn as_parameters(parameters: &[SqlValue]) -> Vec<&(dyn ToSql + Sync)> {
    parameters.iter().map(|value| value as &(dyn ToSql + Sync)).collect()
}

impl Sink for PostgresStore {
    fn capabilities(&self) -> Capabilities {
        Capabilities {
            ledger_with_rows: true,
            table_changes_with_rows: true,
            deliveries: true,
            many_writers: true,
            modes: Mode::ALL,
            most_columns: 1600,
        }
    }

    fn begin_load<'a>(&'a mut self, plan: &'a LoadPlan) -> Result<Option<Box<dyn Writer + 'a>>, StoreError> {
        let writer = load::PostgresWriter::begin(self, plan)?;
        Ok(writer.map(|writer| Box::new(writer) as Box<dyn Writer + 'a>))
    }

    fn begin_delivery(&mut self) -> Result<(), StoreError> {
        self.begin(Scope::Whole)?;
        self.in_delivery = true;
        Ok(())
    }

    fn end_delivery(&mut self, keep: bool) -> Result<(), StoreError> {
        self.in_delivery = false;
        if keep { self.commit(Scope::Whole) } else { self.rollback(Scope::Whole) }
    }

    fn reconnect(&mut self) -> Result<(), StoreError> {
        let (address, schema) = (self.address.clone(), self.wanted_schema.clone());
        let ledger_seen = self.ledger_seen;
        *self = PostgresStore::open(&address, schema.as_deref(), self.wait)?;
        self.ledger_seen = ledger_seen;
        Ok(())
    }
}

impl Catalog for PostgresStore {
    fn shown(&self) -> String {
        self.shown.clone()
    }

    fn table(&mut self, name: &str) -> Result<Option<TableShape>, StoreError> {
        let found = self.run(tables::read(&self.client, &self.schema, name))?;
        Ok(found.map(|table| table.shape()))
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

    fn column_sample(&mut self, table: &str, column: &str) -> Result<ColumnSample, StoreError> {
        self.run(figures::sample(&self.client, &self.qualified(table), column, MOST_SAMPLED))
    }

    fn file_figures(&mut self, table: &str, sums: &[(String, Type)]) -> Result<Vec<FileFigures>, StoreError> {
        self.run(figures::figures(&self.client, &self.qualified(table), sums))
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
