//! Files loaded in one transaction, and claimed together: no two connections load one, nor does one wait for
//! what another has in hand.

use super::connection::MysqlStore;
use super::open_group::OpenGroup;
use crate::error::StoreError;
use crate::ledger::bulk::keep_layouts;
use crate::plan::LoadPlan;
use crate::sink::{Claim, Claimed};
use crate::sql::{Misread, Scope, SqlConnection, SqlRow, SqlValue};

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

/// What entries say of a claimed file: see [`crate::ledger::write::LOADED_AND_NEWER`].
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

/// The key of the lock of a file that goes into a table.
fn file_key(place: &str, path: &str, table: &str) -> String {
    format!("{place}\u{1f}{path}\u{1f}{table}")
}

impl MysqlStore {
    /// See [`crate::sink::Sink::begin_group`].
    pub(super) fn open_group(&mut self) -> Result<(), StoreError> {
        self.make_due_changes()?;
        self.begin(Scope::Whole)?;
        self.group = Some(OpenGroup::default());
        Ok(())
    }

    /// See [`crate::sink::Sink::end_group`].
    pub(super) fn close_group(&mut self, keep: bool) -> Result<(), StoreError> {
        let Some(group) = &mut self.group else {
            return Err(self.lost("the transaction of several files is not open any more"));
        };
        let layouts = std::mem::take(&mut group.layouts);
        let ended = match keep {
            true => keep_layouts(self, layouts).and_then(|()| self.commit(Scope::Whole)),
            false => self.rollback(Scope::Whole),
        };
        self.group = None;
        if keep && ended.is_err() {
            let _ = self.rollback(Scope::Whole);
        }
        self.drop_unused();
        ended
    }

    /// See [`crate::sink::Sink::claim`].
    pub(super) fn claim_files(
        &mut self,
        table: &str,
        in_order: bool,
        files: &[Claim<'_>],
    ) -> Result<Vec<Claimed>, StoreError> {
        if in_order {
            self.wait_for_lock("order of the table", table)?;
        }
        let keys: Vec<String> =
            files.iter().map(|file| file_key(&file.arrival.place, &file.arrival.path, table)).collect();
        let ours = self.try_locks("file", &keys)?;
        // What is committed once the locks are held.
        let known = self.known_of(table, files)?;
        let mut all = Vec::with_capacity(files.len());
        for (((key, file), is_ours), known) in keys.into_iter().zip(files).zip(ours).zip(known) {
            let claimed = match (known.is_loaded, is_ours) {
                (true, _) => Claimed::Loaded,
                (false, true) => Claimed::Ours,
                (false, false) => Claimed::Taken,
            };
            if let (Claimed::Ours, false, Some(group)) = (claimed, known.has_more, &mut self.group) {
                group.claimed.insert(key, file.known_until);
            }
            all.push(claimed);
        }
        Ok(all)
    }

    /// What the ledger says of files that go into a table.
    fn known_of(&mut self, table: &str, files: &[Claim<'_>]) -> Result<Vec<Known>, StoreError> {
        let one = |at: usize| format!("(place = ?{} AND path = ?{})", 2 * at + 2, 2 * at + 3);
        let any: Vec<String> = (0..TOGETHER).map(one).collect();
        let sql = format!(
            "SELECT place, path, bytes, modified_at, version_token, outcome, replaced_by, file FROM hd_files
             WHERE ({}) AND table_name = ?1",
            any.join(" OR ")
        );
        let mut all = Vec::with_capacity(files.len());
        for some in files.chunks(TOGETHER) {
            // A statement has always as many parameters, so that it is prepared once.
            let filled = some.iter().chain(std::iter::repeat_n(&some[0], TOGETHER - some.len()));
            let named = filled
                .flat_map(|file| [SqlValue::from(&file.arrival.place), SqlValue::from(&file.arrival.path)]);
            let parameters: Vec<SqlValue> = std::iter::once(SqlValue::from(table)).chain(named).collect();
            let connection: &mut dyn SqlConnection = self;
            let entries = connection.entries(&sql, &parameters, entry_of)?;
            all.extend(some.iter().map(|file| known_by(file, &entries)));
        }
        Ok(all)
    }

    /// Whether nobody else loads the file of a plan, and all that is in the ledger of it is known: it was
    /// claimed.
    pub(super) fn has_claimed(&self, plan: &LoadPlan) -> bool {
        let key = file_key(&plan.arrival.place, &plan.arrival.path, plan.table());
        let known = self.group.as_ref().and_then(|group| group.claimed.get(&key));
        // Where several servers hold the same, the claim is marked once more in the transaction.
        let is_enough = plan.replaces.is_none() && !self.facts.is_cluster;
        is_enough && known.is_some_and(|known| plan.known_until == Some(*known))
    }

    /// Waits until nobody else loads the file of a plan. The lock goes with the transaction, and so with its
    /// owner.
    pub(super) fn lock_one_file(&mut self, plan: &LoadPlan) -> Result<(), StoreError> {
        let key = file_key(&plan.arrival.place, &plan.arrival.path, plan.table());
        if self.group.is_none() {
            return self.wait_for_lock("file", &key);
        }
        // Whoever has others in hand does not wait: two would wait for each other.
        if !self.try_lock("file", &key)? {
            let why = "another process loads this file".to_owned();
            return Err(StoreError::Aborted { shown: self.shown.clone(), why });
        }
        self.mark_claim("file", &key)
    }
}
