//! A connection to a server, and statements run on it.

use std::collections::{HashMap, HashSet};
use std::future::Future;
use std::time::Duration;

use hypodoke_runtime::{BlockingRuntime, runtime};
use tokio_postgres::error::SqlState;
use tokio_postgres::types::ToSql;
use tokio_postgres::{Client, Error, Statement};

use super::bulk_loads::BulkLoads;
use super::connect::{self, Address};
use super::open_copy::Copying;
use super::{rights, session};
use crate::error::{NotConnected, StoreError};
use crate::failpoint::failpoint;
use crate::sql::{Misread, POSTGRES, Scope, SqlConnection, SqlDatabase, SqlDialect, SqlRow, SqlValue, quote};
use crate::tables::link::LedgerLink;

/// A connection to a server.
pub struct PostgresStore {
    pub(super) runtime: &'static BlockingRuntime,
    pub(super) client: Client,
    /// Statements of the ledger, as the server prepared them.
    pub(super) statements: HashMap<String, Statement>,
    pub(super) shown: String,
    pub(super) user: String,
    /// The schema of the staging tables and the ledger.
    pub(super) schema: String,
    pub(super) schema_is_there: bool,
    pub(super) ledger_seen: bool,
    /// A transaction is open that several files share.
    is_shared: bool,
    /// What ties it to the ledger.
    pub(super) link: LedgerLink,
    /// What went the short way in the transaction that several files share.
    pub(super) bulk: Option<BulkLoads>,
    /// Rows of a file on their way.
    pub(super) copying: Option<Copying>,
    /// Whether numbers for entries may be drawn ahead, once that is known.
    pub(super) may_draw: Option<bool>,
    /// The connection is of no use any more: the server has refused to begin a COPY, say.
    pub(super) is_unusable: bool,
    /// Tables whose rows do not go the short way: the server has refused some of them.
    pub(super) refusing: HashSet<String>,
    /// Where it is, for when the connection is lost.
    pub(super) address: Address,
    pub(super) wanted_schema: Option<String>,
    pub(super) wait: Duration,
}

/// How many statements are sent before the first is answered.
const TOGETHER: usize = 256;

/// How long a server may take to answer a question that asks nothing.
const ANSWER_WITHIN: std::time::Duration = std::time::Duration::from_secs(10);

impl PostgresStore {
    /// Connects.
    pub fn open(
        address: &Address,
        schema: Option<&str>,
        wait: Duration,
    ) -> Result<PostgresStore, StoreError> {
        let shown = address.shown.clone();
        let runtime = runtime().map_err(|why| NotConnected::from(why.to_string()).of(&shown))?;
        let client = runtime.block_on(address.connect()).map_err(|error| error.of(&shown))?;
        let mut store = PostgresStore {
            runtime,
            client,
            statements: HashMap::new(),
            user: address.user().to_owned(),
            schema: String::new(),
            schema_is_there: true,
            ledger_seen: false,
            is_shared: false,
            link: LedgerLink::default(),
            bulk: None,
            copying: None,
            may_draw: None,
            is_unusable: false,
            refusing: HashSet::new(),
            shown,
            address: address.clone(),
            wanted_schema: schema.map(str::to_owned),
            wait,
        };
        store.prepare(schema, wait)?;
        Ok(store)
    }

    /// The same, its loads recorded in a ledger elsewhere.
    pub fn linked(mut self, link: LedgerLink) -> PostgresStore {
        self.link = link;
        self
    }

    pub(super) fn prepare(&mut self, schema: Option<&str>, wait: Duration) -> Result<(), StoreError> {
        let settings = settings(schema, wait);
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

    /// Makes the session what it was when it began, also within a transaction.
    pub(super) fn reset_session(&mut self) -> Result<(), StoreError> {
        let settings = settings(self.wanted_schema.as_deref(), self.wait);
        let all = format!("RESET SESSION AUTHORIZATION; RESET ROLE; RESET ALL; {settings}");
        self.run(self.client.batch_execute(&all))
    }

    /// An error where the connection is of no use any more.
    pub(super) fn check_usable(&self) -> Result<(), StoreError> {
        let why = || "the connection cannot be used any more".to_owned();
        if self.is_unusable {
            Err(StoreError::Lost { shown: self.shown.clone(), why: why() })
        } else {
            Ok(())
        }
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

    /// A statement of the ledger, prepared once.
    pub(super) fn prepared(&mut self, sql: &str) -> Result<Statement, StoreError> {
        if let Some(statement) = self.statements.get(sql) {
            return Ok(statement.clone());
        }
        let statement = self.run(self.client.prepare(sql))?;
        self.statements.insert(sql.to_owned(), statement.clone());
        Ok(statement)
    }

    /// Waits for an answer of the server's.
    pub(super) fn run<T>(&self, answer: impl Future<Output = Result<T, Error>>) -> Result<T, StoreError> {
        self.runtime.block_on(answer).map_err(|error| self.fail(&error))
    }

    /// A table's quoted name with its schema.
    pub(super) fn qualified(&self, table: &str) -> String {
        format!("{}.{}", quote(&self.schema), quote(table))
    }

    /// An error of the driver in our words.
    pub(super) fn fail(&self, error: &Error) -> StoreError {
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
            SqlState::LOCK_NOT_AVAILABLE => StoreError::InUse { shown, why },
            SqlState::T_R_DEADLOCK_DETECTED
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

    fn dialect(&self) -> &'static SqlDialect {
        &POSTGRES
    }

    fn execute(&mut self, sql: &str, parameters: &[SqlValue]) -> Result<u64, StoreError> {
        self.settle_copy()?;
        let statement = self.prepared(&POSTGRES.statement(sql))?;
        let done = self.run(self.client.execute(&statement, &as_parameters(parameters)));
        failpoint!("sql.statement");
        done
    }

    /// All are sent before the first is answered.
    fn execute_all(&mut self, sql: &str, all: &[Vec<SqlValue>]) -> Result<(), StoreError> {
        if all.is_empty() {
            return Ok(());
        }
        self.settle_copy()?;
        let statement = self.prepared(&POSTGRES.statement(sql))?;
        for some in all.chunks(TOGETHER) {
            let parameters: Vec<_> = some.iter().map(|one| as_parameters(one)).collect();
            let sent = parameters.iter().map(|parameters| self.client.execute(&statement, parameters));
            self.run(futures_util::future::try_join_all(sent))?;
        }
        Ok(())
    }

    fn query(&mut self, sql: &str, parameters: &[SqlValue]) -> Result<Vec<SqlRow>, StoreError> {
        self.settle_copy()?;
        let statement = self.prepared(&POSTGRES.statement(sql))?;
        let rows = self.run(self.client.query(&statement, &as_parameters(parameters)))?;
        let rows: Result<Vec<SqlRow>, Misread> = rows.iter().map(session::row_of).collect();
        rows.map_err(|misread| StoreError::Damaged { shown: self.shown.clone(), what: misread.0 })
    }

    fn script(&mut self, sql: &str) -> Result<(), StoreError> {
        self.settle_copy()?;
        self.run(self.client.batch_execute(sql))
    }

    /// It is looked for in the catalogue itself, which shows what others have committed by now, where
    /// a name that is looked up may be remembered.
    fn has_column(&mut self, table: &str, column: &str) -> Result<Option<bool>, StoreError> {
        let sql = "SELECT a.attname::text FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
             LEFT JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
             WHERE n.nspname = $1 AND c.relname = $2";
        self.settle_copy()?;
        let rows = self.run(self.client.query(sql, &[&self.schema, &table]))?;
        let is_it = |row: &tokio_postgres::Row| row.get::<_, Option<&str>>(0) == Some(column);
        Ok((!rows.is_empty()).then(|| rows.iter().any(is_it)))
    }

    fn begin(&mut self, scope: Scope) -> Result<(), StoreError> {
        self.check_usable()?;
        self.script(&POSTGRES.begin(scope))
    }

    fn commit(&mut self, scope: Scope) -> Result<(), StoreError> {
        self.script(&POSTGRES.commit(scope))
    }

    fn rollback(&mut self, scope: Scope) -> Result<(), StoreError> {
        self.check_usable()?;
        self.script(&POSTGRES.rollback(scope))
    }

    fn is_shared(&self) -> bool {
        self.is_shared
    }

    fn share(&mut self, is_shared: bool) {
        self.is_shared = is_shared;
    }

    fn drawn_number(&mut self) -> Option<i64> {
        self.bulk.as_mut()?.take_number()
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

    /// Whether the connection still stands: the server answers within a few seconds.
    fn is_alive(&mut self) -> bool {
        let answer = async { tokio::time::timeout(ANSWER_WITHIN, self.client.batch_execute("")).await };
        matches!(self.runtime.block_on(answer), Ok(Ok(())))
    }

    fn connect_anew(&mut self) -> Result<(), StoreError> {
        let (address, schema) = (self.address.clone(), self.wanted_schema.clone());
        let fresh = PostgresStore::open(&address, schema.as_deref(), self.wait)?;
        let (ledger_seen, link) = (self.ledger_seen, std::mem::take(&mut self.link));
        *self = PostgresStore { ledger_seen, link, ..fresh };
        Ok(())
    }

    fn missing_grants(
        &mut self,
        on: &[(String, &'static [&'static str])],
    ) -> Result<Vec<String>, StoreError> {
        self.run(rights::missing(&self.client, &self.schema, &self.user, on))
    }
}

/// What makes a session what loads rely upon.
fn settings(schema: Option<&str>, wait: Duration) -> String {
    let path = schema.map(|schema| format!("SET search_path TO {}, public; ", quote(schema)));
    let path = path.unwrap_or_default();
    // The tables of the ledger grow while a connection is open: a plan made when they were empty, and
    // kept, would walk all of them.
    let plans =
        "SELECT set_config(name, 'force_custom_plan', false) FROM pg_settings WHERE name = 'plan_cache_mode'";
    // What others committed while this one waited for a lock has to be seen, whatever the
    // database's own custom.
    format!(
        "{path}SET default_transaction_isolation TO 'read committed'; SET TimeZone TO 'UTC'; SET client_min_messages TO warning; SET extra_float_digits TO 1; SET lock_timeout TO {}; {plans}",
        wait.as_millis().min(i32::MAX as u128)
    )
}

/// Parameters as the driver takes them.
fn as_parameters(parameters: &[SqlValue]) -> Vec<&(dyn ToSql + Sync)> {
    parameters.iter().map(|value| value as &(dyn ToSql + Sync)).collect()
}
