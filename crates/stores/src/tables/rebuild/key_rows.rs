//! The rows of some keys, and the difference between what their files said before a change and say after it.

use std::collections::HashMap;

use super::arena::Arena;
use super::change::{Change, Rebuilt};
use super::children::Children;
use super::rejected_keys::KeysInRejects;
use crate::tables::versions::{TableRow, Version};

/// The rows of some keys, from all files that hold them.
#[derive(Default)]
pub struct KeyRows {
    /// The rows of the main table.
    pub main: Arena,
    /// What hangs on them.
    pub children: Children,
    /// What the files before and after say of each key.
    pub keys: HashMap<Box<[u8]>, KeyVersions>,
    /// Those of these keys that rejected rows have.
    pub in_rejects: KeysInRejects,
}

impl KeyRows {
    /// The places of the files that have a key in rejected rows: before the change, and after it.
    pub fn files_of_rejects(&self, key: &[u8]) -> (&[usize], &[usize]) {
        self.in_rejects.get(key).map_or((&[], &[]), |(before, after)| (before, after))
    }
}

/// What the files before a change said of a key, and what those after it say.
pub type KeyVersions = (Vec<Version>, Vec<Version>);

/// What is to go and what is to come.
#[derive(Default)]
pub struct Differences {
    /// What is to go.
    pub taken: Vec<TableRow>,
    /// What is to come.
    pub added: Vec<TableRow>,
    /// Every row that a file holds, or held before the change, for the keys to restore.
    pub known: Vec<TableRow>,
}

impl Differences {
    /// Adds one key to restore: every row that a file holds or held for it, and the rows that are to be there.
    pub fn restore(&mut self, (before, after): &KeyVersions, is: &[TableRow]) {
        let first = self.known.len();
        for version in before.iter().chain(after) {
            let is_new = self.known.get(first..).unwrap_or_default().iter().all(|row| row.row != version.row);
            if is_new {
                self.known.push(TableRow { row: version.row, from: None, to: None });
            }
        }
        self.added.extend_from_slice(is);
    }

    /// Adds those of one key, that was one thing and is another by a change, and counts them.
    pub fn add(
        &mut self,
        rows: &Arena,
        (was, is): (&[TableRow], &[TableRow]),
        change: &Change<'_>,
        counted: &mut Rebuilt,
    ) {
        let identity = |row: &TableRow| (rows.files.get(row.row), rows.rows.line(row.row), row.from, row.to);
        let origin = |row: &TableRow| (rows.files.get(row.row), rows.rows.line(row.row));
        let is_among =
            |row: &TableRow, all: &[TableRow]| all.iter().any(|one| identity(one) == identity(row));
        self.taken.extend(was.iter().filter(|row| !is_among(row, is)));
        let is_gone = |row: &&TableRow| {
            let is_replaced = rows.files.get(row.row).copied() == change.replaced();
            (is_replaced || is.is_empty()) && !is.iter().any(|one| origin(one) == origin(row))
        };
        counted.deleted += was.iter().filter(is_gone).count() as u64;
        for row in is.iter().filter(|row| !is_among(row, was)) {
            self.added.push(*row);
            if was.iter().any(|one| origin(one) == origin(row)) {
                // It only holds from or until another moment.
            } else if rows.files.get(row.row) != Some(&change.by) {
                counted.restored += 1;
            } else if was.is_empty() {
                counted.inserted += 1;
            } else {
                counted.updated += 1;
            }
        }
    }
}
