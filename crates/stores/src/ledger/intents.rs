//! Loads whose rows are in another database than the ledger.
//!
//! Such a load is recorded in three steps. Its entry is committed in the ledger together with an intent; its
//! rows are committed in the tables' database together with a mark that bears the load's token; the intent
//! is taken out. Whoever finds an intent, and nobody who is still at it, asks the tables for the mark: where it
//! is there, the load is done and the intent goes; where it is not, the entry is taken back as if the load had
//! never begun.

use serde::{Deserialize, Serialize};

use super::files_in_force;
use crate::error::StoreError;
use crate::sql::{Misread, SqlConnection, SqlRow, SqlValue};

/// A load whose rows are committed apart from its entry.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OpenLoad {
    /// Its number in the ledger.
    pub file: i64,
    /// What its mark among the tables bears: no other attempt has it.
    pub token: String,
    /// What takes its entry back.
    pub undo: Undo,
}

/// What takes the entry of a load back, and what is left to do once its rows are in.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Undo {
    /// The entry is one of its own, and goes with all that belongs to it.
    pub is_new: bool,
    /// Files that are superseded by it, or are not any more, with what they were before.
    pub outcomes: Vec<(i64, String)>,
    /// Rejects that were corrected, where the load resubmits some.
    pub corrected: Vec<i64>,
    /// The counts of the entry before that.
    pub counts: Option<EntryCounts>,
    /// The first of the blocks of rows that the load kept, where the entry had some before.
    pub since: i64,
    /// Files whose kept rows are not needed any more once the load is done.
    pub forgets: Vec<i64>,
}

/// The counts of an entry that change when rejects of it are corrected.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct EntryCounts {
    loaded: u64,
    rejected: u64,
    left_out: u64,
    inserted: u64,
    updated: u64,
    unchanged: u64,
    rows_kept: u64,
}

/// An intent that somebody has left, with what it takes to know whether they are still at it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Intent {
    /// The load.
    pub load: OpenLoad,
    /// The place, the path and the table of its file.
    pub place: String,
    /// See `place`.
    pub path: String,
    /// See `place`.
    pub table: String,
}

/// The counts of an entry as they are.
pub fn counts_of(connection: &mut dyn SqlConnection, file: i64) -> Result<Option<EntryCounts>, StoreError> {
    let sql = "SELECT rows_loaded, rows_rejected, rows_left_out, rows_inserted, rows_updated, rows_unchanged,
         rows_kept FROM hd_files WHERE file = ?1";
    let counts = |row: &SqlRow| {
        Ok(EntryCounts {
            loaded: row.count(0)?,
            rejected: row.count(1)?,
            left_out: row.count(2)?,
            inserted: row.count(3)?,
            updated: row.count(4)?,
            unchanged: row.count(5)?,
            rows_kept: row.count(6)?,
        })
    };
    Ok(connection.entries(sql, &[SqlValue::Integer(file)], counts)?.into_iter().next())
}

/// Writes intents down, in the transaction of their entries.
pub fn add(connection: &mut dyn SqlConnection, loads: &[OpenLoad]) -> Result<(), StoreError> {
    let sql = "INSERT INTO hd_intents (file, load_token, undo_steps) VALUES (?1, ?2, ?3)";
    let mut all = Vec::with_capacity(loads.len());
    for load in loads {
        let undo = serde_json::to_string(&load.undo).map_err(|error| StoreError::Refused {
            shown: connection.shown(),
            why: format!("an intent cannot be written as JSON: {error}"),
        })?;
        all.push(vec![SqlValue::Integer(load.file), SqlValue::from(&load.token), SqlValue::Text(undo)]);
    }
    connection.execute_all(sql, &all)
}

/// The intents that there are, of one table or of all.
pub fn all(connection: &mut dyn SqlConnection, table: Option<&str>) -> Result<Vec<Intent>, StoreError> {
    let sql = "SELECT i.file, i.load_token, i.undo_steps, f.place, f.path, f.table_name
         FROM hd_intents i JOIN hd_files f ON f.file = i.file WHERE ?1 = '' OR f.table_name = ?1 ORDER BY i.file";
    let intent = |row: &SqlRow| {
        let undo = row.text(2)?;
        let undo =
            serde_json::from_str(&undo).map_err(|error| Misread(format!("the intent of a load: {error}")))?;
        Ok(Intent {
            load: OpenLoad { file: row.integer(0)?, token: row.text(1)?, undo },
            place: row.text(3)?,
            path: row.text(4)?,
            table: row.optional_text(5)?.unwrap_or_default(),
        })
    };
    connection.entries(sql, &[SqlValue::from(table.unwrap_or_default())], intent)
}

/// Takes the intent of a load out whose rows are in. Somebody else may have done so by now.
pub fn finish(connection: &mut dyn SqlConnection, load: &OpenLoad) -> Result<(), StoreError> {
    if !remove(connection, load)? {
        return Ok(());
    }
    load.undo.forgets.iter().try_for_each(|file| files_in_force::forget(connection, *file))
}

/// Takes the entry of a load back whose rows are not in, and its intent. Somebody else may have done so by
/// now.
pub fn take_back(connection: &mut dyn SqlConnection, load: &OpenLoad) -> Result<(), StoreError> {
    let Undo { is_new, outcomes, corrected, counts, since, .. } = &load.undo;
    if !remove(connection, load)? {
        return Ok(());
    }
    for (file, outcome) in outcomes {
        let sql = "UPDATE hd_files SET outcome = ?2 WHERE file = ?1";
        connection.execute(sql, &[SqlValue::Integer(*file), SqlValue::from(outcome)])?;
    }
    for reject in corrected {
        let sql = "UPDATE hd_rejects SET mended_at = NULL WHERE reject = ?1";
        connection.execute(sql, &[SqlValue::Integer(*reject)])?;
    }
    if let Some(counts) = counts {
        restore_counts(connection, load.file, counts)?;
    }
    let sql = "DELETE FROM hd_kept_rows WHERE file = ?1 AND block >= ?2";
    connection.execute(sql, &[SqlValue::Integer(load.file), SqlValue::Integer(*since)])?;
    if *is_new { remove_entry(connection, load.file) } else { Ok(()) }
}

/// Takes an intent out; whether it was there.
fn remove(connection: &mut dyn SqlConnection, load: &OpenLoad) -> Result<bool, StoreError> {
    let sql = "DELETE FROM hd_intents WHERE file = ?1 AND load_token = ?2";
    let removed = connection.execute(sql, &[SqlValue::Integer(load.file), SqlValue::from(&load.token)])?;
    Ok(removed > 0)
}

fn restore_counts(
    connection: &mut dyn SqlConnection,
    file: i64,
    counts: &EntryCounts,
) -> Result<(), StoreError> {
    let sql = "UPDATE hd_files SET rows_loaded = ?2, rows_rejected = ?3, rows_left_out = ?4,
         rows_inserted = ?5, rows_updated = ?6, rows_unchanged = ?7, rows_kept = ?8 WHERE file = ?1";
    let EntryCounts { loaded, rejected, left_out, inserted, updated, unchanged, rows_kept } = *counts;
    let all = [loaded, rejected, left_out, inserted, updated, unchanged, rows_kept];
    let parameters: Vec<SqlValue> =
        std::iter::once(SqlValue::Integer(file)).chain(all.map(SqlValue::from)).collect();
    connection.execute(sql, &parameters).map(drop)
}

/// Takes an entry out with all that belongs to it: what it replaced counts again.
fn remove_entry(connection: &mut dyn SqlConnection, file: i64) -> Result<(), StoreError> {
    let statements = [
        "UPDATE hd_files SET replaced_by = NULL WHERE replaced_by = ?1",
        "DELETE FROM hd_corrections WHERE reject IN (SELECT reject FROM hd_rejects WHERE file = ?1)",
        "DELETE FROM hd_rejects WHERE file = ?1",
        "DELETE FROM hd_drift WHERE file = ?1",
        "DELETE FROM hd_parts WHERE file = ?1",
        "DELETE FROM hd_layouts WHERE file = ?1",
        "DELETE FROM hd_files WHERE file = ?1",
    ];
    statements.iter().try_for_each(|sql| connection.execute(sql, &[SqlValue::Integer(file)]).map(drop))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ledger::{FileQuery, Ledger, write};
    use crate::load_plan::Mode;
    use crate::testing::{database, load, plan};

    fn open_load(file: i64, undo: Undo) -> OpenLoad {
        OpenLoad { file, token: format!("token {file}"), undo }
    }

    /// What the ledger says of files: their paths, outcomes and counts of rows.
    fn told(store: &mut dyn Ledger) -> Vec<(String, &'static str, u64, Option<i64>)> {
        let entries = store.files(&FileQuery::default()).expect("entries");
        let of = |entry: crate::ledger::FileEntry| {
            (entry.arrival.path, entry.outcome.word(), entry.loaded, entry.replaced_by)
        };
        entries.into_iter().map(of).collect()
    }

    #[test]
    fn an_intent_is_read_back_as_it_was_written() {
        let mut store = database();
        let (file, _) = load(&mut store, &plan("a.csv", Mode::Append), &[("1", "N1")]);
        let undo = Undo {
            is_new: false,
            outcomes: vec![(file, "loaded".into())],
            corrected: vec![4, 5],
            counts: counts_of(&mut store, file).expect("counts"),
            since: 3,
            forgets: vec![1],
        };
        let one = open_load(file, undo);
        add(&mut store, std::slice::from_ref(&one)).expect("written");
        let found = all(&mut store, Some("moves")).expect("read");
        assert_eq!(found.len(), 1);
        assert_eq!((&found[0].load, found[0].path.as_str()), (&one, "a.csv"));
        assert!(all(&mut store, Some("others")).expect("read").is_empty());
        assert_eq!(all(&mut store, None).expect("read"), found);
    }

    #[test]
    fn an_entry_that_is_taken_back_leaves_the_ledger_as_it_was() {
        let mut store = database();
        let (first, _) = load(&mut store, &plan("a.csv", Mode::Append), &[("1", "N1"), ("x", "N2")]);
        let before = told(&mut store);
        let mut again = plan("a.csv", Mode::Append);
        (again.replaces, again.arrival.bytes) = (Some(first), 8);
        let (second, _) = load(&mut store, &again, &[("1", "N1"), ("y", "N2"), ("3", "N3")]);
        assert_ne!(told(&mut store), before);
        let one = open_load(second, Undo { is_new: true, ..Undo::default() });
        add(&mut store, std::slice::from_ref(&one)).expect("written");
        take_back(&mut store, &one).expect("taken back");
        assert_eq!(told(&mut store), before);
        assert!(store.rejects(second, 9).expect("rejects").is_empty());
        assert_eq!(store.rejects(first, 9).expect("rejects").len(), 1);
        // Whoever comes second finds nothing to take back.
        take_back(&mut store, &one).expect("nothing");
        finish(&mut store, &one).expect("nothing");
        assert_eq!(told(&mut store), before);
    }

    #[test]
    fn counts_and_corrections_of_an_entry_are_put_back() {
        let mut store = database();
        let (file, _) = load(&mut store, &plan("a.csv", Mode::Append), &[("1", "N1"), ("x", "N2")]);
        let counts = counts_of(&mut store, file).expect("counts");
        let reject = store.rejects(file, 9).expect("rejects")[0].reject;
        let statements = [
            "UPDATE hd_rejects SET mended_at = '2026-03-02T12:00:00.000000Z'",
            "UPDATE hd_files SET rows_loaded = 2, rows_rejected = 0, rows_inserted = 2",
        ];
        for sql in statements {
            store.execute(sql, &[]).expect("changed");
        }
        let one = open_load(file, Undo { counts, corrected: vec![reject], ..Undo::default() });
        add(&mut store, std::slice::from_ref(&one)).expect("written");
        take_back(&mut store, &one).expect("taken back");
        assert_eq!(counts_of(&mut store, file).expect("counts"), counts);
        assert!(store.rejects(file, 9).expect("rejects")[0].corrected.is_none());
    }

    #[test]
    fn a_load_that_is_done_forgets_the_rows_it_made_needless() {
        let mut store = database();
        let mut first = plan("a.csv", Mode::Upsert);
        first.rules.keeps_rows = true;
        let (file, _) = load(&mut store, &first, &[("1", "N1")]);
        let kept = |store: &mut dyn Ledger| {
            store.files(&FileQuery::default()).expect("entries").iter().any(|entry| entry.rows_kept)
        };
        assert!(kept(&mut store));
        let (other, _) = load(&mut store, &plan("b.csv", Mode::Append), &[("2", "N2")]);
        let one = open_load(other, Undo { is_new: true, forgets: vec![file], ..Undo::default() });
        add(&mut store, std::slice::from_ref(&one)).expect("written");
        finish(&mut store, &one).expect("done");
        assert!(!kept(&mut store));
        assert!(all(&mut store, None).expect("read").is_empty());
        assert_eq!(write::entry_of(&first).arrival.path, "a.csv");
    }
}
