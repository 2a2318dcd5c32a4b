//! What people were told of, and what they are still to be told.

use std::collections::{BTreeSet, HashSet};

use super::NoticeEntry;
use crate::error::StoreError;
use crate::sql::{SqlConnection, SqlRow, SqlValue, in_transaction};

/// Those of some events that somebody was not told of yet.
pub fn new_events(
    connection: &mut dyn SqlConnection,
    to: &str,
    events: &[String],
) -> Result<HashSet<String>, StoreError> {
    let sql = "SELECT event FROM hd_noticed WHERE notify = ?1 AND event = ?2";
    let mut fresh = HashSet::new();
    for event in events {
        if connection.query(sql, &[SqlValue::from(to), key_of(event)])?.is_empty() {
            fresh.insert(event.clone());
        }
    }
    Ok(fresh)
}

/// An event as the ledger keeps it: a long one by its beginning and its hash.
fn key_of(event: &str) -> SqlValue {
    const KEPT: usize = 500;
    if event.len() <= KEPT {
        return SqlValue::from(event);
    }
    let hash = blake3::hash(event.as_bytes()).to_hex();
    SqlValue::Text(format!("{} {hash}", hypodoke_core::names::cut(event.to_owned(), KEPT)))
}

/// For so long a message is in the hands of whoever took it, in microseconds: more than it takes to send it.
const IN_HAND: i64 = 120_000_000;

/// Adds a message, with the events it tells of; `false` if another process has told of one of them since
/// they were asked for: then nothing is added.
pub fn add(
    connection: &mut dyn SqlConnection,
    entry: &NoticeEntry,
    events: &[String],
) -> Result<bool, StoreError> {
    let to = SqlValue::from(&entry.to);
    let added = in_transaction(connection, |connection| {
        let sql = "INSERT INTO hd_notices (notify, content, made_at) VALUES (?1, ?2, ?3)";
        let parameters = [to.clone(), SqlValue::from(&entry.content), SqlValue::Moment(entry.at)];
        let notice = SqlValue::Integer(connection.insert(sql, "notice", &parameters)?);
        let sql = connection.dialect().insert_unless_there("INTO hd_noticed VALUES (?1, ?2, ?3)");
        // In one order for all, so that no two wait for each other.
        let events: BTreeSet<&String> = events.iter().collect();
        for event in events {
            if connection.execute(&sql, &[to.clone(), key_of(event), notice.clone()])? == 0 {
                return Err(StoreError::ToldMeanwhile);
            }
        }
        Ok(())
    });
    match added {
        Ok(()) => Ok(true),
        Err(StoreError::ToldMeanwhile) => Ok(false),
        Err(error) => Err(error),
    }
}

/// Takes the messages in hand, at a moment, that are still to be sent and in nobody else's hands: those not
/// tried since `tried_before` and not written before `from`.
pub fn take_pending(
    connection: &mut dyn SqlConnection,
    at: i64,
    tried_before: i64,
    from: i64,
) -> Result<Vec<NoticeEntry>, StoreError> {
    // Where it was tried and nothing is said of what was in the way, somebody is at it.
    let sql = "SELECT notice, notify, content, made_at FROM hd_notices
       WHERE sent_at IS NULL AND made_at >= ?2
         AND (tried_at IS NULL OR trouble IS NOT NULL AND tried_at < ?1 OR tried_at < ?3) ORDER BY notice";
    let entry = |row: &SqlRow| {
        Ok(NoticeEntry {
            notice: row.integer(0)?,
            to: row.text(1)?,
            content: row.text(2)?,
            at: row.moment(3)?,
        })
    };
    let left_by_others = SqlValue::Moment(tried_before.min(at - IN_HAND));
    let parameters = [SqlValue::Moment(tried_before), SqlValue::Moment(from), left_by_others];
    let take = "UPDATE hd_notices SET tried_at = ?2, trouble = NULL WHERE notice = ?1";
    in_transaction(connection, |connection| {
        let sql = format!("{sql}{}", connection.dialect().for_update);
        let taken = connection.entries(&sql, &parameters, entry)?;
        let taking: Vec<Vec<SqlValue>> =
            taken.iter().map(|entry| vec![SqlValue::Integer(entry.notice), SqlValue::Moment(at)]).collect();
        connection.execute_all(take, &taking)?;
        Ok(taken)
    })
}

/// Records that a message was sent, or what was in its way.
pub fn finish(
    connection: &mut dyn SqlConnection,
    notice: i64,
    at: i64,
    trouble: Option<&str>,
) -> Result<(), StoreError> {
    let sent = if trouble.is_none() { SqlValue::Moment(at) } else { SqlValue::Null };
    let trouble = trouble.map_or(SqlValue::Null, SqlValue::from);
    let sql = "UPDATE hd_notices SET sent_at = ?2, trouble = ?3 WHERE notice = ?1";
    in_transaction(connection, |connection| {
        connection.execute(sql, &[SqlValue::Integer(notice), sent, trouble]).map(drop)
    })
}
