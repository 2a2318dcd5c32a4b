//! A connection to a server, and statements run on it.

use std::time::Duration;

use hypodoke_runtime::{BlockingRuntime, runtime};
use mysql_async::prelude::Queryable;
use mysql_async::{Conn, Error, Params, Row};

use super::address::Address;
use super::errors;
use super::facts::Facts;
use super::group_tables::GroupTables;
use super::session;
use super::stream::Sending;
use crate::error::{NotConnected, StoreError};
use crate::failpoint::failpoint;
use crate::load_plan::TablePlan;
use crate::sql::{MYSQL, Misread, Scope, SqlConnection, SqlDatabase, SqlDialect, SqlRow, SqlValue, quote};
use crate::tables::link::LedgerLink;

/// A connection to a server.
pub struct MysqlStore {
    pub(super) runtime: &'static BlockingRuntime,
    /// The connection; `None` while it is busy with rows on their way, or lost with them.
    pub(super) conn: Option<Conn>,
    pub(super) facts: Facts,
    pub(super) shown: String,
    pub(super) ledger_seen: bool,
    /// A transaction is open.
    in_transaction: bool,
    /// The server has undone the transaction that is open for us.
    is_undone: bool,
    /// The named locks that go with the transaction.
    pub(super) locks: Vec<String>,
    /// A transaction is open that several files share.
    is_shared: bool,
    /// What ties it to the ledger.
    pub(super) link: LedgerLink,
    /// What is known of tables in the transaction that several files share.
    pub(super) group: Option<GroupTables>,
    /// Rows of a file on their way.
    pub(super) sending: Option<Sending>,
    /// Tables that were made for files which may not be loaded after all.
    pub(super) made: Vec<String>,
    /// Tables that have to be changed before the next transaction.
    pub(super) due: Vec<TablePlan>,
    /// Plans of later files of a group whose changes were made before it began.
    pub(super) ahead: Vec<TablePlan>,
    pub(super) address: Address,
    pub(super) wait: Duration,
}

/// How long a server may take to answer a question that asks nothing.
const ANSWER_WITHIN: Duration = Duration::from_secs(10);

/// How many rows are sent in one request.
const TOGETHER: usize = 1000;

/// What every session asks for: names quoted and texts joined as the standard has it, and an error for every
/// value that does not fit.
pub(super) const SQL_MODE: &str = "ANSI_QUOTES,PIPES_AS_CONCAT,STRICT_ALL_TABLES,STRICT_TRANS_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION";

/// How long a session may be idle while a file is read or fetched, and a row be on its way, in seconds.
const IDLE: u32 = 28_800;
const ON_ITS_WAY: u32 = 600;

impl MysqlStore {
    /// Connects.
    pub fn open(address: &Address, wait: Duration) -> Result<MysqlStore, StoreError> {
        let shown = address.shown.clone();
        let runtime = runtime().map_err(|why| NotConnected::from(why.to_string()).of(&shown))?;
        let conn = runtime.block_on(address.connect()).map_err(|error| error.of(&shown))?;
        let mut store = MysqlStore {
            runtime,
            conn: Some(conn),
            facts: Facts::default(),
            shown,
            ledger_seen: false,
            in_transaction: false,
            is_undone: false,
            locks: Vec::new(),
            is_shared: false,
            link: LedgerLink::default(),
            group: None,
            sending: None,
            made: Vec::new(),
            due: Vec::new(),
            ahead: Vec::new(),
            address: address.clone(),
            wait,
        };
        store.prepare()?;
        Ok(store)
    }

    /// The same, its loads recorded in a ledger elsewhere.
    pub fn linked(mut self, link: LedgerLink) -> MysqlStore {
        self.link = link;
        self
    }

    fn prepare(&mut self) -> Result<(), StoreError> {
        self.run_script("SET SESSION autocommit = 1")?;
        self.set_session()?;
        self.facts = self.with(async |conn| Facts::ask(conn).await)?;
        Ok(())
    }

    /// Makes the session what loads rely upon, also within a transaction.
    pub(super) fn set_session(&mut self) -> Result<(), StoreError> {
        let seconds = self.wait_seconds();
        // What others committed while this one waited for a lock has to be seen, whatever the database's
        // own custom.
        self.run_script(&format!(
            "SET NAMES utf8mb4; SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED;
             SET SESSION sql_mode = '{SQL_MODE}', time_zone = '+00:00', innodb_lock_wait_timeout = {seconds},
               lock_wait_timeout = {seconds}, wait_timeout = {IDLE}, net_read_timeout = {ON_ITS_WAY},
               net_write_timeout = {ON_ITS_WAY}, sql_safe_updates = 0, foreign_key_checks = 1, unique_checks = 1"
        ))
    }

    /// How long a lock is waited for, in whole seconds.
    pub(super) fn wait_seconds(&self) -> u64 {
        self.wait.as_millis().div_ceil(1000).clamp(1, 1_000_000) as u64
    }

    /// Does work on the connection, and waits for it.
    pub(super) fn with<T>(
        &mut self,
        work: impl AsyncFnOnce(&mut Conn) -> Result<T, Error>,
    ) -> Result<T, StoreError> {
        if self.is_undone {
            let why = "the transaction was undone by the server".to_owned();
            return Err(StoreError::Aborted { shown: self.shown.clone(), why });
        }
        let Some(conn) = &mut self.conn else { return Err(self.lost("it is closed")) };
        match self.runtime.block_on(work(conn)) {
            Ok(value) => Ok(value),
            Err(error) => Err(self.failed(&error)),
        }
    }

    /// An error of the driver in our words.
    pub(super) fn failed(&mut self, error: &Error) -> StoreError {
        self.is_undone |= self.in_transaction && errors::ends_transaction(error);
        errors::fail(error, &self.shown, &self.facts.account)
    }

    pub(super) fn lost(&self, why: &str) -> StoreError {
        StoreError::Lost { shown: self.shown.clone(), why: why.to_owned() }
    }

    /// Runs statements that give no rows.
    pub(super) fn run_script(&mut self, sql: &str) -> Result<(), StoreError> {
        self.with(async |conn| conn.query_drop(sql).await)
    }

    /// The values of the rows that a query gives, as texts.
    pub(super) fn texts(&mut self, sql: &str) -> Result<Vec<Vec<Option<String>>>, StoreError> {
        let rows: Vec<Row> = self.with(async |conn| conn.query(sql).await)?;
        let value =
            |row: &Row, at: usize| row.get_opt::<Option<Vec<u8>>, _>(at).and_then(Result::ok).flatten();
        let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
        Ok(rows.iter().map(|row| (0..row.len()).map(|at| value(row, at).map(text)).collect()).collect())
    }

    /// How many rows a table has; no more than `most` are counted.
    pub(super) fn count_of(&mut self, table: &str, most: usize) -> Result<u64, StoreError> {
        let sql = match most {
            usize::MAX => format!("SELECT count(*) FROM {}", quote(table)),
            most => format!("SELECT count(*) FROM (SELECT 1 FROM {} LIMIT {most}) few", quote(table)),
        };
        let count = self.texts(&sql)?.into_iter().next().and_then(|row| row.into_iter().next().flatten());
        Ok(count.and_then(|count| count.parse().ok()).unwrap_or_default())
    }

    /// Runs a statement of the moment; gives how many rows it changed.
    pub(super) fn run(&mut self, sql: &str) -> Result<u64, StoreError> {
        self.with(async |conn| {
            conn.query_drop(sql).await?;
            Ok(conn.affected_rows())
        })
    }

    /// The rows of a statement with parameters.
    pub(super) fn rows(
        &mut self,
        sql: &str,
        parameters: Vec<mysql_async::Value>,
    ) -> Result<Vec<Row>, StoreError> {
        let parameters = if parameters.is_empty() { Params::Empty } else { Params::Positional(parameters) };
        self.with(async |conn| conn.exec(sql, parameters).await)
    }

    /// Takes note that something is about to be written.
    pub(super) fn note_write(&mut self) {
        if let Some(group) = &mut self.group {
            group.is_dirty = true;
        }
    }

    /// Parameters in the order that a statement has them in.
    fn in_order(&self, sql: &str, parameters: &[SqlValue]) -> Result<Vec<mysql_async::Value>, StoreError> {
        let size: usize = parameters.iter().map(size_of_value).sum();
        if size + 1024 > self.facts.largest_packet {
            let why = format!(
                "a record of {size} bytes is more than the server takes at once; raise its max_allowed_packet, now {}",
                self.facts.largest_packet
            );
            return Err(StoreError::Refused { shown: self.shown.clone(), why });
        }
        let order = MYSQL.order_of_parameters(sql).unwrap_or_default();
        Ok(order
            .iter()
            .map(|at| parameters.get(*at).map_or(mysql_async::Value::NULL, session::parameter))
            .collect())
    }
}

fn size_of_value(value: &SqlValue) -> usize {
    match value {
        SqlValue::Text(text) => text.len(),
        SqlValue::Bytes(bytes) => bytes.len(),
        _ => 12,
    }
}

impl SqlConnection for MysqlStore {
    fn shown(&self) -> String {
        self.shown.clone()
    }

    fn dialect(&self) -> &'static SqlDialect {
        &MYSQL
    }

    fn execute(&mut self, sql: &str, parameters: &[SqlValue]) -> Result<u64, StoreError> {
        let parameters = self.in_order(sql, parameters)?;
        let statement = MYSQL.statement(sql);
        self.note_write();
        let done = self.with(async |conn| {
            conn.exec_drop(statement.as_ref(), as_parameters(parameters)).await?;
            Ok(conn.affected_rows())
        });
        failpoint!("sql.statement");
        done
    }

    /// All in one request, where the server takes that.
    fn execute_all(&mut self, sql: &str, all: &[Vec<SqlValue>]) -> Result<(), StoreError> {
        let statement = MYSQL.statement(sql);
        let mut rest = all;
        while !rest.is_empty() {
            let mut size = 0;
            let most = self.facts.largest_packet / 2;
            let fits = |one: &&Vec<SqlValue>| {
                size += one.iter().map(size_of_value).sum::<usize>() + 16 * one.len();
                size <= most
            };
            let many = rest.iter().take(TOGETHER).take_while(fits).count().max(1);
            let (some, others) = rest.split_at(many);
            let parameters: Result<Vec<Params>, StoreError> =
                some.iter().map(|one| self.in_order(sql, one).map(as_parameters)).collect();
            let parameters = parameters?;
            self.note_write();
            self.with(async |conn| conn.exec_batch(statement.as_ref(), parameters).await)?;
            rest = others;
        }
        Ok(())
    }

    fn insert(&mut self, sql: &str, _: &str, parameters: &[SqlValue]) -> Result<i64, StoreError> {
        let parameters = self.in_order(sql, parameters)?;
        let statement = MYSQL.statement(sql);
        self.note_write();
        let number = self.with(async |conn| {
            conn.exec_drop(statement.as_ref(), as_parameters(parameters)).await?;
            Ok(conn.last_insert_id())
        })?;
        let number = number.and_then(|number| i64::try_from(number).ok());
        number.ok_or_else(|| StoreError::Damaged {
            shown: self.shown.clone(),
            what: "a new entry got no number".to_owned(),
        })
    }

    fn query(&mut self, sql: &str, parameters: &[SqlValue]) -> Result<Vec<SqlRow>, StoreError> {
        let parameters = self.in_order(sql, parameters)?;
        let rows = self.rows(&MYSQL.statement(sql), parameters)?;
        let rows: Result<Vec<SqlRow>, Misread> = rows.into_iter().map(session::row_of).collect();
        rows.map_err(|misread| StoreError::Damaged { shown: self.shown.clone(), what: misread.0 })
    }

    fn script(&mut self, sql: &str) -> Result<(), StoreError> {
        self.run_script(sql)
    }

    fn table_options(&self) -> String {
        self.facts.table_options()
    }

    fn has_column(&mut self, table: &str, column: &str) -> Result<Option<bool>, StoreError> {
        let sql = "SELECT CONVERT(COLUMN_NAME USING utf8mb4) FROM information_schema.COLUMNS
             WHERE TABLE_SCHEMA = DATABASE() AND TABLE_NAME = ?";
        let rows = self.rows(sql, vec![table.into()])?;
        let is_it = |row: &Row| row.get::<String, _>(0).is_some_and(|name| name == column);
        Ok((!rows.is_empty()).then(|| rows.iter().any(is_it)))
    }

    fn begin(&mut self, scope: Scope) -> Result<(), StoreError> {
        if scope == Scope::Whole {
            self.is_undone = false;
        }
        self.run_script(&MYSQL.begin(scope))?;
        self.in_transaction = true;
        Ok(())
    }

    fn commit(&mut self, scope: Scope) -> Result<(), StoreError> {
        self.run_script(&MYSQL.commit(scope))?;
        if scope == Scope::Whole {
            self.in_transaction = false;
            self.let_go()?;
        }
        Ok(())
    }

    fn rollback(&mut self, scope: Scope) -> Result<(), StoreError> {
        if scope != Scope::Whole {
            // What keeps others from changing tables is let go of with it.
            if let Some(group) = &mut self.group {
                group.tables.clear();
            }
            return self.run_script(&MYSQL.rollback(scope));
        }
        (self.is_undone, self.in_transaction) = (false, false);
        let undone = self.run_script(&MYSQL.rollback(scope));
        undone.and(self.let_go())
    }

    fn is_shared(&self) -> bool {
        self.is_shared
    }

    fn share(&mut self, is_shared: bool) {
        self.is_shared = is_shared;
    }

    /// Two processes may come at once: the second waits, and finds the ledger made.
    fn prepare_for_ledger(&mut self) -> Result<(), StoreError> {
        self.wait_for_lock("ledger", "")
    }
}

impl SqlDatabase for MysqlStore {
    fn ledger_seen(&mut self) -> &mut bool {
        &mut self.ledger_seen
    }

    /// Whether the connection still stands: the server answers within a few seconds.
    fn is_alive(&mut self) -> bool {
        let Some(conn) = &mut self.conn else { return false };
        let answer = async { tokio::time::timeout(ANSWER_WITHIN, conn.ping()).await };
        matches!(self.runtime.block_on(answer), Ok(Ok(())))
    }

    fn connect_anew(&mut self) -> Result<(), StoreError> {
        let address = self.address.clone();
        // The locks of the old one go with it.
        self.conn = None;
        let fresh = MysqlStore::open(&address, self.wait)?;
        let (ledger_seen, link) = (self.ledger_seen, std::mem::take(&mut self.link));
        let (due, ahead) = (std::mem::take(&mut self.due), std::mem::take(&mut self.ahead));
        *self = MysqlStore { ledger_seen, link, due, ahead, ..fresh };
        Ok(())
    }

    fn missing_grants(
        &mut self,
        on: &[(String, &'static [&'static str])],
    ) -> Result<Vec<String>, StoreError> {
        self.grants_missing_on(on)
    }
}

fn as_parameters(parameters: Vec<mysql_async::Value>) -> Params {
    if parameters.is_empty() { Params::Empty } else { Params::Positional(parameters) }
}
