//! What SQLite's ledger holds of what people were told.

use std::collections::HashSet;

use rusqlite::{Connection, Result, params};

use super::tables::{moment, read_moment};
use crate::ledger::NoticeEntry;

pub const TABLES: &str = "
CREATE TABLE hd_notices (
  notice INTEGER PRIMARY KEY, notify TEXT NOT NULL, content TEXT NOT NULL, made_at TEXT NOT NULL,
  tried_at TEXT, sent_at TEXT, trouble TEXT
);
CREATE TABLE hd_noticed (
  notify TEXT NOT NULL, event TEXT NOT NULL, notice INTEGER NOT NULL REFERENCES hd_notices,
  PRIMARY KEY (notify, event)
);
";

/// Those of some events that somebody was not told of yet.
pub fn untold(connection: &Connection, to: &str, events: &[String]) -> Result<HashSet<String>> {
    let mut statement =
        connection.prepare_cached("SELECT count(*) FROM hd_noticed WHERE notify = ?1 AND event = ?2")?;
    let mut untold = HashSet::new();
    for event in events {
        if statement.query_row(params![to, event], |row| row.get::<_, i64>(0))? == 0 {
            untold.insert(event.clone());
        }
    }
    Ok(untold)
}

/// Writes a message down with the events it tells of.
pub fn note(connection: &Connection, entry: &NoticeEntry, events: &[String]) -> Result<()> {
    connection.execute(
        "INSERT INTO hd_notices (notify, content, made_at) VALUES (?1, ?2, ?3)",
        params![entry.to, entry.content, moment(entry.at)],
    )?;
    let notice = connection.last_insert_rowid();
    for event in events {
        connection.execute(
            "INSERT OR IGNORE INTO hd_noticed VALUES (?1, ?2, ?3)",
            params![entry.to, event, notice],
        )?;
    }
    Ok(())
}

/// Takes the messages in hand that are still to be sent, were not tried since one moment and are
/// not older than another.
pub fn take(connection: &Connection, at: i64, tried_before: i64, from: i64) -> Result<Vec<NoticeEntry>> {
    let sql = "UPDATE hd_notices SET tried_at = ?1
       WHERE sent_at IS NULL AND (tried_at IS NULL OR tried_at < ?2) AND made_at >= ?3
       RETURNING notice, notify, content, made_at";
    let entry = |row: &rusqlite::Row<'_>| {
        let at = read_moment(&row.get::<_, String>(3)?);
        Ok(NoticeEntry { notice: row.get(0)?, to: row.get(1)?, content: row.get(2)?, at })
    };
    connection
        .prepare_cached(sql)?
        .query_map(params![moment(at), moment(tried_before), moment(from)], entry)?
        .collect()
}

/// Writes down that a message was sent, or why it was not.
pub fn settle(connection: &Connection, notice: i64, at: i64, trouble: Option<&str>) -> Result<()> {
    let sent = trouble.is_none().then(|| moment(at));
    connection.execute(
        "UPDATE hd_notices SET sent_at = ?2, trouble = ?3 WHERE notice = ?1",
        params![notice, sent, trouble],
    )?;
    Ok(())
}
