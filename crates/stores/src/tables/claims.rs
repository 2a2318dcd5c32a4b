//! Claims: of a file that goes into a table, so that no two processes load it.

use super::link::OpenGroup;
use super::{Claim, Claimed};
use crate::error::StoreError;
use crate::ledger::write;
use crate::load_plan::LoadPlan;
use crate::sql::{Misread, SqlConnection, SqlRow, SqlValue};
use crate::tables::load_target::LoadTarget;

/// An entry of the ledger, as far as a claim is concerned.
struct Entry {
    place: String,
    path: String,
    bytes: u64,
    modified: i64,
    token: Option<String>,
    outcome: String,
    is_replaced: bool,
    file: i64,
}

/// What the ledger says of a claimed file.
#[derive(Clone, Copy, Debug, Default)]
struct Known {
    is_loaded: bool,
    /// There is more than was known, or it was taken out once.
    has_more: bool,
}

/// How many files are asked for in one statement.
const TOGETHER: usize = 64;

/// The key of the claim of a file that goes into a table.
pub fn file_key(place: &str, path: &str, table: &str) -> String {
    format!("{place}\u{1f}{path}\u{1f}{table}").replace('\0', "\u{1f}")
}

/// The key of the claim of the file of a plan.
pub fn key_of(plan: &LoadPlan) -> String {
    file_key(&plan.arrival.place, &plan.arrival.path, plan.table())
}

/// Claims files of a table for the group that is open.
pub fn claim<T: LoadTarget>(
    store: &mut T,
    table: &str,
    in_order: bool,
    files: &[Claim<'_>],
) -> Result<Vec<Claimed>, StoreError> {
    if in_order {
        store.lock_order(table)?;
    }
    if store.is_alone()? {
        return Ok(vec![Claimed::Ours; files.len()]);
    }
    let key = |file: &Claim<'_>| file_key(&file.arrival.place, &file.arrival.path, table);
    let keys: Vec<String> = files.iter().map(key).collect();
    let ours = store.try_lock_files(&keys)?;
    // What is committed once the locks are held.
    let known = known_of(store.ledger(), table, files)?;
    let mut all = Vec::with_capacity(files.len());
    for (((key, file), is_ours), known) in keys.into_iter().zip(files).zip(ours).zip(known) {
        let claimed = match (known.is_loaded, is_ours) {
            (true, _) => Claimed::Loaded,
            (false, true) => Claimed::Ours,
            (false, false) => Claimed::Taken,
        };
        if let (Claimed::Ours, false, Some(group)) = (claimed, known.has_more, &mut store.link_mut().group) {
            group.claimed.insert(key, file.known_until);
        }
        all.push(claimed);
    }
    store.claimed(all.iter().filter(|claimed| **claimed == Claimed::Ours).count())?;
    Ok(all)
}

/// Whether nobody else loads the file of a plan, and all that is in the ledger of it is known: it was claimed.
pub fn is_claimed(group: Option<&OpenGroup>, plan: &LoadPlan) -> bool {
    let known = group.and_then(|group| group.claimed.get(&key_of(plan)));
    plan.replaces.is_none() && known.is_some_and(|known| plan.known_until == Some(*known))
}

/// Waits until nobody else loads the file of a plan. Whoever has others in hand does not wait: two would wait
/// for each other.
pub fn lock_file<T: LoadTarget>(store: &mut T, plan: &LoadPlan) -> Result<(), StoreError> {
    let waits = store.link().group.is_none();
    if store.lock_file(&key_of(plan), waits)? {
        return Ok(());
    }
    let why = "another process loads this file".to_owned();
    Err(StoreError::Aborted { shown: store.shown(), why })
}

fn entry_of(row: &SqlRow) -> Result<Entry, Misread> {
    Ok(Entry {
        place: row.text(0)?,
        path: row.text(1)?,
        bytes: row.count(2)?,
        modified: row.moment(3)?,
        token: row.optional_text(4)?,
        outcome: row.text(5)?,
        is_replaced: row.optional_integer(6)?.is_some(),
        file: row.integer(7)?,
    })
}

/// What entries say of a claimed file: see [`write::LOADED_AND_NEWER`].
fn known_by(claim: &Claim<'_>, entries: &[Entry]) -> Known {
    let arrival = claim.arrival;
    let mut known = Known::default();
    for entry in entries.iter().filter(|entry| entry.place == arrival.place && entry.path == arrival.path) {
        let is_version = entry.bytes == arrival.bytes && entry.modified == arrival.modified;
        // Without a token, one with a token is not another.
        let is_token = arrival.token.is_none() || entry.token.is_none() || entry.token == arrival.token;
        let is_in_table = matches!(entry.outcome.as_str(), "loaded" | "superseded");
        known.is_loaded |= is_in_table && !entry.is_replaced && is_version && is_token;
        let is_newer = entry.file > claim.known_until && (is_in_table || entry.outcome == "discarded");
        known.has_more |= is_newer || entry.outcome == "retracted";
    }
    known
}

/// What the ledger says of files that go into a table. Each is looked up by its path: an index on tables
/// would give all files of one.
fn known_of(
    ledger: &mut dyn SqlConnection,
    table: &str,
    files: &[Claim<'_>],
) -> Result<Vec<Known>, StoreError> {
    let one = |at: usize| format!("(place = ?{} AND path = ?{})", 2 * at + 2, 2 * at + 3);
    let any: Vec<String> = (0..TOGETHER).map(one).collect();
    let sql = format!(
        "SELECT place, path, bytes, modified_at, version_token, outcome, replaced_by, file FROM hd_files
         WHERE ({}) AND {} = ?1",
        any.join(" OR "),
        ledger.dialect().without_index("table_name"),
    );
    let mut all = Vec::with_capacity(files.len());
    for some in files.chunks(TOGETHER) {
        // A statement has always as many parameters, so that it is prepared once.
        let filled = some.iter().chain(std::iter::repeat_n(&some[0], TOGETHER - some.len()));
        let named =
            filled.flat_map(|file| [SqlValue::from(&file.arrival.place), SqlValue::from(&file.arrival.path)]);
        let parameters: Vec<SqlValue> = std::iter::once(SqlValue::from(table)).chain(named).collect();
        let entries = ledger.entries(&sql, &parameters, entry_of)?;
        all.extend(some.iter().map(|file| known_by(file, &entries)));
    }
    Ok(all)
}

/// Whether the ledger says by now that the file of a plan is loaded.
pub fn is_loaded<T: LoadTarget>(store: &mut T, plan: &LoadPlan) -> Result<bool, StoreError> {
    write::is_loaded(store.ledger(), plan)
}

#[cfg(test)]
mod tests {
    use hypodoke_core::arrival::Arrival;
    use rstest::rstest;

    use super::*;

    fn arrival(token: Option<&str>) -> Arrival {
        Arrival {
            place: "quay".into(),
            path: "a.csv".into(),
            bytes: 7,
            modified: 5,
            token: token.map(str::to_owned),
        }
    }

    fn entry(outcome: &str, file: i64) -> Entry {
        Entry {
            place: "quay".into(),
            path: "a.csv".into(),
            bytes: 7,
            modified: 5,
            token: None,
            outcome: outcome.into(),
            is_replaced: false,
            file,
        }
    }

    #[rstest]
    #[case::nothing_is_known(vec![], (false, false))]
    #[case::loaded(vec![entry("loaded", 3)], (true, true))]
    #[case::superseded_is_loaded(vec![entry("superseded", 3)], (true, true))]
    #[case::known_before(vec![entry("discarded", 2)], (false, false))]
    #[case::discarded_since(vec![entry("discarded", 3)], (false, true))]
    #[case::was_taken_out_once(vec![entry("retracted", 1)], (false, true))]
    #[case::failed_means_nothing(vec![entry("failed", 9)], (false, false))]
    #[case::replaced(vec![Entry { is_replaced: true, ..entry("loaded", 1) }], (false, false))]
    #[case::another_version(vec![Entry { bytes: 8, ..entry("loaded", 1) }], (false, false))]
    #[case::another_token(vec![Entry { token: Some("v2".into()), ..entry("loaded", 1) }], (false, false))]
    #[case::another_path(vec![Entry { path: "b.csv".into(), ..entry("loaded", 9) }], (false, false))]
    fn a_claim_is_judged_by_the_entries_of_its_file(
        #[case] entries: Vec<Entry>,
        #[case] (is_loaded, has_more): (bool, bool),
    ) {
        let arrival = arrival(Some("v1"));
        let known = known_by(&Claim { arrival: &arrival, known_until: 2 }, &entries);
        assert_eq!((known.is_loaded, known.has_more), (is_loaded, has_more));
    }

    #[test]
    fn without_a_token_a_version_is_known_by_size_and_time() {
        let arrival = arrival(None);
        let entries = [Entry { token: Some("v2".into()), ..entry("loaded", 1) }];
        assert!(known_by(&Claim { arrival: &arrival, known_until: 2 }, &entries).is_loaded);
    }

    #[test]
    fn keys_of_claims_hold_no_character_that_a_database_refuses() {
        assert_ne!(file_key("a", "b", "c"), file_key("a", "bc", ""));
        assert!(!file_key("a\0", "b", "c").contains('\0'));
    }
}
