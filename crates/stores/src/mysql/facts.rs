//! What a server says of itself, asked once per connection. Nothing is concluded from its name.

use mysql_async::prelude::Queryable;
use mysql_async::{Conn, Error, Row};

use crate::tables::catalog::ServerSetting;

/// What a server can do, and how it is set.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Facts {
    /// Its version in its own words.
    pub version: String,
    /// The user it knows us as: `'clerk'@'%'`.
    pub account: String,
    /// Rows may be sent by LOAD DATA LOCAL.
    pub takes_local: bool,
    /// The largest statement that it takes, in bytes.
    pub largest_packet: usize,
    /// A collation of utf8mb4 by which texts are alike only where their bytes are.
    pub collation: String,
    /// It takes no table without a primary key.
    pub wants_primary_key: bool,
    /// A column may be left out of `SELECT *`.
    pub has_invisible: bool,
    /// It is one of several that hold the same, and its named locks are its own only.
    pub is_cluster: bool,
    /// Its catalogue tells of which table a constraint is.
    pub tells_checks: bool,
}

const VARIABLES: &str =
    "SHOW VARIABLES WHERE Variable_name IN ('version', 'local_infile', 'max_allowed_packet',
  'sql_require_primary_key', 'innodb_force_primary_key', 'wsrep_on', 'version_comment')";

/// A server that takes no larger statements than this refuses records that are kept as rejects, in bytes.
const SMALL_PACKET: usize = 4 << 20;

/// From the best: one that also tells blanks at the end apart; and one that does not.
const COLLATIONS: [&str; 3] = ["utf8mb4_nopad_bin", "utf8mb4_0900_bin", "utf8mb4_bin"];

impl Facts {
    /// Asks the server.
    pub async fn ask(conn: &mut Conn) -> Result<Facts, Error> {
        let mut facts = Facts::default();
        let variables: Vec<(String, String)> = conn.query(VARIABLES).await?;
        let is_on = |value: &str| matches!(value.to_ascii_uppercase().as_str(), "ON" | "1");
        for (name, value) in variables {
            match name.as_str() {
                "version" => facts.version = value,
                "local_infile" => facts.takes_local = is_on(&value),
                "max_allowed_packet" => facts.largest_packet = value.parse().unwrap_or(1 << 20),
                "sql_require_primary_key" | "innodb_force_primary_key" => {
                    facts.wants_primary_key |= is_on(&value);
                }
                "wsrep_on" => facts.is_cluster = is_on(&value),
                _ => {}
            }
        }
        // A cluster applies changes of rows by their primary keys.
        facts.wants_primary_key |= facts.is_cluster;
        let known: Vec<String> = conn
            .query("SELECT COLLATION_NAME FROM information_schema.COLLATIONS WHERE COLLATION_NAME IN ('utf8mb4_nopad_bin', 'utf8mb4_0900_bin', 'utf8mb4_bin')")
            .await?;
        let best = COLLATIONS.iter().find(|name| known.iter().any(|known| known == *name));
        facts.collation = (*best.unwrap_or(&"utf8mb4_bin")).to_owned();
        let row: Option<Row> = conn
            .query_first(
                "SELECT CURRENT_USER(), (SELECT count(*) FROM information_schema.COLUMNS
                   WHERE TABLE_SCHEMA = 'information_schema' AND TABLE_NAME = 'CHECK_CONSTRAINTS' AND COLUMN_NAME = 'TABLE_NAME')",
            )
            .await?;
        let (account, checks) = row.and_then(|row| mysql_async::from_row_opt(row).ok()).unwrap_or_default();
        let (account, checks): (String, i64) = (account, checks);
        facts.account = quoted_account(&account);
        facts.tells_checks = checks > 0;
        if facts.wants_primary_key {
            let trial = "CREATE TEMPORARY TABLE hd_trial (a bigint PRIMARY KEY, b bigint INVISIBLE)";
            facts.has_invisible = conn.query_drop(trial).await.is_ok();
            conn.query_drop("DROP TEMPORARY TABLE IF EXISTS hd_trial").await?;
        }
        Ok(facts)
    }

    /// How it is set, where that matters to whoever loads.
    pub fn settings(&self) -> Vec<ServerSetting> {
        let all = [
            (!self.takes_local).then_some(ServerSetting::NoStreaming),
            (self.largest_packet < SMALL_PACKET).then_some(ServerSetting::SmallRecords(self.largest_packet)),
            self.is_cluster.then_some(ServerSetting::Cluster),
        ];
        all.into_iter().flatten().collect()
    }

    /// What keeps a column out of `SELECT *`.
    pub fn invisible(&self) -> &'static str {
        if self.has_invisible { " INVISIBLE" } else { "" }
    }

    /// What is said of every table that is made.
    pub fn table_options(&self) -> String {
        format!(" ENGINE=InnoDB DEFAULT CHARACTER SET utf8mb4 COLLATE {}", self.collation)
    }
}

/// An account as statements have it: `'clerk'@'%'`.
fn quoted_account(account: &str) -> String {
    let (user, host) = account.rsplit_once('@').unwrap_or((account, "%"));
    let quoted = |text: &str| format!("'{}'", text.replace('\'', "''"));
    format!("{}@{}", quoted(user), quoted(host))
}
