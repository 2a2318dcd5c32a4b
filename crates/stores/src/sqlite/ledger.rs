//! The ledger's tables in SQLite.

use std::collections::BTreeMap;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::outcome::Outcome;
use rusqlite::{Connection, Result, Row, named_params, params};

use super::notices;
use super::tables::{moment, read_moment};
use crate::ledger::{
    BatchEntry, FileEntry, FileQuery, LEDGER_TABLES, LEDGER_VERSION, PartEntry, RejectEntry,
};
use crate::merge::Counts;

const SCHEMA: &str = "
CREATE TABLE hd_ledger (version INTEGER NOT NULL, program TEXT NOT NULL);
CREATE TABLE hd_batches (
  batch INTEGER PRIMARY KEY, began_at TEXT NOT NULL, ended_at TEXT, program TEXT NOT NULL
);
CREATE TABLE hd_files (
  file INTEGER PRIMARY KEY, batch INTEGER NOT NULL REFERENCES hd_batches,
  place TEXT NOT NULL, path TEXT NOT NULL, bytes INTEGER NOT NULL, modified_at TEXT NOT NULL,
  content_hash TEXT, feed TEXT, table_name TEXT, kind TEXT, outcome TEXT NOT NULL,
  rows_read INTEGER NOT NULL DEFAULT 0, rows_loaded INTEGER NOT NULL DEFAULT 0,
  rows_rejected INTEGER NOT NULL DEFAULT 0, rows_left_out INTEGER NOT NULL DEFAULT 0,
  began_at TEXT NOT NULL, ended_at TEXT, message TEXT, replaced_by INTEGER REFERENCES hd_files,
  rows_inserted INTEGER NOT NULL DEFAULT 0, rows_updated INTEGER NOT NULL DEFAULT 0,
  rows_unchanged INTEGER NOT NULL DEFAULT 0, rows_deleted INTEGER NOT NULL DEFAULT 0, shape TEXT
);
CREATE INDEX hd_files_by_path ON hd_files (place, path);
CREATE INDEX hd_files_by_batch ON hd_files (batch);
CREATE INDEX hd_files_by_size ON hd_files (bytes);
CREATE TABLE hd_layouts (
  table_name TEXT NOT NULL, version INTEGER NOT NULL, file INTEGER NOT NULL REFERENCES hd_files,
  layout TEXT NOT NULL, PRIMARY KEY (table_name, version)
);
CREATE TABLE hd_drift (
  drift INTEGER PRIMARY KEY, file INTEGER NOT NULL REFERENCES hd_files, table_name TEXT NOT NULL,
  column_name TEXT NOT NULL, change TEXT NOT NULL, from_type TEXT, to_type TEXT,
  action TEXT NOT NULL DEFAULT 'noted'
);
CREATE TABLE hd_rejects (
  reject INTEGER PRIMARY KEY, file INTEGER NOT NULL REFERENCES hd_files, line INTEGER NOT NULL,
  column_name TEXT, value TEXT, reason TEXT NOT NULL, raw TEXT NOT NULL, place TEXT,
  mended_at TEXT
);
CREATE INDEX hd_rejects_by_file ON hd_rejects (file, line);
";

const PARTS: &str = "
CREATE TABLE hd_parts (
  file INTEGER NOT NULL REFERENCES hd_files, table_name TEXT NOT NULL, path TEXT NOT NULL,
  rows_read INTEGER NOT NULL, rows_loaded INTEGER NOT NULL, PRIMARY KEY (file, table_name)
);
";

const DECISIONS: &str = "
CREATE TABLE hd_decisions (
  decision INTEGER PRIMARY KEY, place TEXT NOT NULL, path TEXT NOT NULL, bytes INTEGER NOT NULL,
  modified_at TEXT NOT NULL, table_name TEXT NOT NULL, decided TEXT NOT NULL, decided_by TEXT NOT NULL,
  decided_at TEXT NOT NULL, why TEXT
);
";

/// What the third version added to the second.
const TO_THIRD: &str = "
ALTER TABLE hd_files ADD COLUMN shape TEXT;
ALTER TABLE hd_drift ADD COLUMN action TEXT NOT NULL DEFAULT 'noted';
UPDATE hd_drift SET action = CASE change WHEN 'missing' THEN 'nulled' ELSE change END;
ALTER TABLE hd_rejects ADD COLUMN mended_at TEXT;
INSERT INTO hd_ledger SELECT 3, program FROM hd_ledger LIMIT 1;
";

/// What the fourth version added to the third, besides its tables.
const TO_FOURTH: &str = "
CREATE INDEX hd_files_by_size ON hd_files (bytes);
INSERT INTO hd_ledger SELECT 4, program FROM hd_ledger LIMIT 1;
";

/// What the second version added to the first.
const TO_SECOND: &str = "
ALTER TABLE hd_rejects ADD COLUMN place TEXT;
ALTER TABLE hd_files ADD COLUMN rows_inserted INTEGER NOT NULL DEFAULT 0;
ALTER TABLE hd_files ADD COLUMN rows_updated INTEGER NOT NULL DEFAULT 0;
ALTER TABLE hd_files ADD COLUMN rows_unchanged INTEGER NOT NULL DEFAULT 0;
ALTER TABLE hd_files ADD COLUMN rows_deleted INTEGER NOT NULL DEFAULT 0;
UPDATE hd_files SET rows_inserted = rows_loaded;
INSERT INTO hd_ledger SELECT 2, program FROM hd_ledger LIMIT 1;
";

/// The program and its version, as the ledger names it.
const PROGRAM: &str = concat!("hypodoke ", env!("CARGO_PKG_VERSION"));

/// The version of the ledger, if there is one.
pub fn version(connection: &Connection) -> Result<Option<i64>> {
    let there: bool = connection.query_row(
        "SELECT count(*) > 0 FROM pragma_table_info('hd_ledger') WHERE name = 'version'",
        [],
        |row| row.get(0),
    )?;
    if !there {
        return Ok(None);
    }
    connection.query_row("SELECT max(version) FROM hd_ledger", [], |row| row.get(0))
}

/// A table that bears a name of the ledger's without being of one.
fn foreign_table(connection: &Connection) -> Result<Option<String>> {
    let mut statement = connection.prepare("SELECT count(*) FROM sqlite_schema WHERE name = ?1")?;
    for name in LEDGER_TABLES {
        if statement.query_row([name], |row| row.get::<_, i64>(0))? > 0 {
            return Ok(Some(name.to_owned()));
        }
    }
    Ok(None)
}

/// Makes the ledger's tables, or brings them up to this version; gives the name of a table that is
/// in their way. All of it is asked under the lock: another process may make them meanwhile.
pub fn create(connection: &Connection) -> Result<Option<String>> {
    match version(connection)? {
        // Another process made them while this one waited for the lock.
        Some(LEDGER_VERSION..) => return Ok(None),
        Some(found) => {
            if found < 2 {
                connection.execute_batch(TO_SECOND)?;
                connection.execute_batch(PARTS)?;
            }
            if found < 3 {
                connection.execute_batch(TO_THIRD)?;
                connection.execute_batch(DECISIONS)?;
            }
            connection.execute_batch(notices::TABLES)?;
            connection.execute_batch(TO_FOURTH)?;
            return Ok(None);
        }
        None => {}
    }
    if let Some(name) = foreign_table(connection)? {
        return Ok(Some(name));
    }
    connection.execute_batch(SCHEMA)?;
    connection.execute_batch(PARTS)?;
    connection.execute_batch(DECISIONS)?;
    connection.execute_batch(notices::TABLES)?;
    connection.execute("INSERT INTO hd_ledger VALUES (?1, ?2)", params![LEDGER_VERSION, PROGRAM])?;
    Ok(None)
}

/// The newest layout of a table: its version, its text and its file.
pub fn layout(connection: &Connection, table: &str) -> Result<(i64, String, i64)> {
    connection.query_row(
        "SELECT version, layout, file FROM hd_layouts WHERE table_name = ?1 ORDER BY version DESC LIMIT 1",
        [table],
        |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?)),
    )
}

pub fn begin_batch(connection: &Connection, at: i64) -> Result<i64> {
    connection.execute(
        "INSERT INTO hd_batches (began_at, program) VALUES (?1, ?2)",
        params![moment(at), PROGRAM],
    )?;
    Ok(connection.last_insert_rowid())
}

pub fn end_batch(connection: &Connection, batch: i64, at: i64) -> Result<()> {
    connection.execute("UPDATE hd_batches SET ended_at = ?2 WHERE batch = ?1", params![batch, moment(at)])?;
    Ok(())
}

/// Adds an entry, whatever became of the file, and gives its number.
pub fn note_file(connection: &Connection, entry: &FileEntry) -> Result<i64> {
    let mut statement = connection.prepare_cached(
        "INSERT INTO hd_files (batch, place, path, bytes, modified_at, content_hash, feed, table_name, kind, outcome,
           rows_read, rows_loaded, rows_rejected, rows_left_out, began_at, ended_at, message, shape)
         VALUES (:batch, :place, :path, :bytes, :modified, :hash, :feed, :table, :kind, :outcome,
           :read, :loaded, :rejected, :left_out, :began, :ended, :message, :shape)",
    )?;
    statement.execute(named_params! {
        ":batch": entry.batch, ":place": entry.arrival.place, ":path": entry.arrival.path,
        ":bytes": entry.arrival.bytes as i64, ":modified": moment(entry.arrival.modified),
        ":hash": entry.hash, ":feed": entry.feed, ":table": entry.table, ":kind": entry.kind,
        ":outcome": entry.outcome.word(), ":read": entry.read as i64, ":loaded": entry.loaded as i64,
        ":rejected": entry.rejected as i64, ":left_out": entry.left_out as i64,
        ":began": moment(entry.began), ":ended": moment(entry.ended), ":message": entry.message,
        ":shape": entry.shape,
    })?;
    Ok(connection.last_insert_rowid())
}

const FILE_COLUMNS: &str =
    "file, batch, place, path, bytes, modified_at, content_hash, feed, table_name, kind, outcome,
  rows_read, rows_loaded, rows_rejected, rows_left_out, began_at, ended_at, message, replaced_by,
  rows_inserted, rows_updated, rows_unchanged, rows_deleted, shape";

fn file_of(row: &Row<'_>) -> Result<FileEntry> {
    let count = |at: usize| row.get::<_, i64>(at).map(|value| value as u64);
    let when =
        |at: usize| row.get::<_, Option<String>>(at).map(|text| text.map_or(0, |text| read_moment(&text)));
    let outcome: String = row.get(10)?;
    Ok(FileEntry {
        file: row.get(0)?,
        batch: row.get(1)?,
        arrival: Arrival { place: row.get(2)?, path: row.get(3)?, bytes: count(4)?, modified: when(5)? },
        hash: row.get(6)?,
        feed: row.get(7)?,
        table: row.get(8)?,
        kind: row.get(9)?,
        outcome: Outcome::from_word(&outcome).unwrap_or(Outcome::Failed),
        read: count(11)?,
        loaded: count(12)?,
        rejected: count(13)?,
        left_out: count(14)?,
        began: when(15)?,
        ended: when(16)?,
        message: row.get(17)?,
        replaced_by: row.get(18)?,
        counts: Counts {
            inserted: count(19)?,
            updated: count(20)?,
            unchanged: count(21)?,
            deleted: count(22)?,
            left_out: 0,
            // The file's message tells of these.
            by_trigger: 0,
        },
        shape: row.get(23)?,
    })
}

/// The files whose rows are in a table now.
pub fn loaded_files(connection: &Connection) -> Result<Vec<FileEntry>> {
    let sql = format!(
        "SELECT {FILE_COLUMNS} FROM hd_files WHERE outcome IN ('loaded', 'same', 'held', 'discarded', 'retracted') AND replaced_by IS NULL ORDER BY file"
    );
    connection.prepare_cached(&sql)?.query_map([], file_of)?.collect()
}

/// Those of them that may be these files: of the same place and path, or of the same size.
pub fn files_like(connection: &Connection, arrivals: &[&Arrival]) -> Result<Vec<FileEntry>> {
    let sql = format!(
        "SELECT {FILE_COLUMNS} FROM hd_files WHERE (place = ?1 AND path = ?2 OR bytes = ?3)
           AND outcome IN ('loaded', 'same', 'held', 'discarded', 'retracted') AND replaced_by IS NULL"
    );
    let mut statement = connection.prepare_cached(&sql)?;
    let mut found = BTreeMap::new();
    for arrival in arrivals {
        let like = params![arrival.place, arrival.path, arrival.bytes as i64];
        for entry in statement.query_map(like, file_of)? {
            let entry = entry?;
            found.insert(entry.file, entry);
        }
    }
    Ok(found.into_values().collect())
}

/// Whether a file is loaded. Its size is kept from being looked up by: thousands may have the same.
pub const LOADED_BY_NOW: &str =
    "SELECT count(*) > 0 FROM hd_files WHERE place = ?1 AND path = ?2 AND +bytes = ?3 AND modified_at = ?4
       AND table_name = ?6 AND outcome = 'loaded' AND replaced_by IS NULL AND file IS NOT ?5";

/// The entries that a query asks for, the newest first.
pub fn files(connection: &Connection, query: &FileQuery) -> Result<Vec<FileEntry>> {
    let most = query.most.map_or(-1, |most| most as i64);
    let sql = format!(
        "SELECT {FILE_COLUMNS} FROM hd_files WHERE (?1 IS NULL OR batch = ?1) AND (?3 IS NULL OR file = ?3)
           AND (?4 IS NULL OR table_name = ?4) AND (?5 IS NULL OR outcome = ?5)
           AND (?6 IS NULL OR feed = ?6) AND (?7 IS NULL OR ended_at >= ?7) ORDER BY file DESC LIMIT ?2"
    );
    let (outcome, since) = (query.outcome.map(Outcome::word), query.since.map(moment));
    connection
        .prepare_cached(&sql)?
        .query_map(params![query.batch, most, query.file, query.table, outcome, query.feed, since], file_of)?
        .collect()
}

/// The batches, the newest first.
pub fn batches(connection: &Connection, most: usize) -> Result<Vec<BatchEntry>> {
    let mut statement = connection.prepare_cached(
        "SELECT b.batch, b.began_at, b.ended_at,
           count(*) FILTER (WHERE f.outcome = 'loaded'), count(*) FILTER (WHERE f.outcome = 'failed'),
           coalesce(sum(f.rows_loaded), 0), coalesce(sum(f.rows_rejected), 0)
         FROM hd_batches b LEFT JOIN hd_files f USING (batch) GROUP BY b.batch ORDER BY b.batch DESC LIMIT ?1",
    )?;
    let entry = |row: &Row<'_>| {
        let count = |at: usize| row.get::<_, i64>(at).map(|value| value as u64);
        Ok(BatchEntry {
            batch: row.get(0)?,
            began: read_moment(&row.get::<_, String>(1)?),
            ended: row.get::<_, Option<String>>(2)?.map(|text| read_moment(&text)),
            loaded: count(3)?,
            failed: count(4)?,
            rows: count(5)?,
            rejected: count(6)?,
        })
    };
    statement.query_map([most as i64], entry)?.collect()
}

/// The tables besides its main one that a file filled.
pub fn parts(connection: &Connection, file: i64) -> Result<Vec<PartEntry>> {
    let mut statement = connection.prepare_cached(
        "SELECT file, table_name, path, rows_read, rows_loaded FROM hd_parts WHERE file = ?1 ORDER BY rowid",
    )?;
    let entry = |row: &Row<'_>| {
        let count = |at: usize| row.get::<_, i64>(at).map(|value| value as u64);
        Ok(PartEntry {
            file: row.get(0)?,
            table: row.get(1)?,
            path: row.get(2)?,
            read: count(3)?,
            loaded: count(4)?,
        })
    };
    statement.query_map([file], entry)?.collect()
}

/// The rejects of a file, in the order of its lines.
pub fn rejects(connection: &Connection, file: i64, most: usize) -> Result<Vec<RejectEntry>> {
    let mut statement = connection.prepare_cached(
        "SELECT reject, file, line, column_name, value, reason, raw, place, mended_at FROM hd_rejects WHERE file = ?1 ORDER BY line, reject LIMIT ?2",
    )?;
    let entry = |row: &Row<'_>| {
        Ok(RejectEntry {
            reject: row.get(0)?,
            file: row.get(1)?,
            line: row.get::<_, i64>(2)? as u64,
            column: row.get(3)?,
            value: row.get(4)?,
            reason: row.get(5)?,
            raw: row.get_ref(6)?.as_bytes()?.to_vec(),
            place: row.get(7)?,
            mended: row.get::<_, Option<String>>(8)?.map(|text| read_moment(&text)),
        })
    };
    statement.query_map(params![file, most as i64], entry)?.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_is_looked_up_by_its_path() {
        let connection = Connection::open_in_memory().expect("a database");
        connection.execute_batch(SCHEMA).expect("the ledger's tables");
        let plan: String = connection
            .query_row(
                &format!("EXPLAIN QUERY PLAN {LOADED_BY_NOW}"),
                params!["quay", "a.csv", 1, "2026-03-02", 1, "a"],
                |row| row.get(3),
            )
            .expect("a plan");
        assert!(plan.contains("hd_files_by_path"), "{plan}");
    }
}
