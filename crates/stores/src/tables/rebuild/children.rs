//! What hangs on records: the rows of their nested lists.

use std::collections::{HashMap, HashSet};

use super::arena::{Arena, Wanted};
use super::change::FileRows;
use super::table::TableRows;
use crate::error::StoreError;
use crate::sql::SqlConnection;

/// A record of a file: the file's number in the ledger, and the record's line.
pub type Record = (i64, u64);

/// The rows of nested lists in memory.
#[derive(Default)]
pub struct Children {
    /// For each list's table, its rows and where those of each record stand.
    pub tables: Vec<(Arena, HashMap<Record, Vec<usize>>)>,
    /// The records that were taken up.
    taken: HashSet<Record>,
}

impl Children {
    /// How many bytes of memory they take, or so.
    pub fn held(&self) -> usize {
        self.tables.iter().map(|(arena, _)| arena.held()).sum()
    }

    /// Takes up what hangs on the records of a file at these lines.
    pub fn take(
        &mut self,
        connection: &mut dyn SqlConnection,
        parts: &[TableRows<'_>],
        rows: &FileRows,
        lines: &HashSet<u64>,
    ) -> Result<(), StoreError> {
        self.tables.resize_with(parts.len(), Default::default);
        let file = rows.file.file;
        let fresh: HashSet<u64> =
            lines.iter().filter(|line| !self.taken.contains(&(file, **line))).copied().collect();
        for ((arena, by_record), part) in self.tables.iter_mut().zip(parts) {
            let first = arena.len();
            let mut takes = |_: &[u8], line: u64| fresh.contains(&line);
            arena.take(
                connection,
                part,
                Wanted { file, blocks: rows.blocks(), takes: &mut takes, most: usize::MAX },
            )?;
            for row in first..arena.len() {
                by_record.entry((file, arena.rows.line(row))).or_default().push(row);
            }
        }
        self.taken.extend(fresh.into_iter().map(|line| (file, line)));
        Ok(())
    }

    /// Whether the same hangs on two records, in the same order and on the same parents.
    pub fn is_same(&self, parts: &[TableRows<'_>], a: Record, b: Record) -> bool {
        a == b
            || self.tables.iter().zip(parts).all(|((arena, by_record), part)| {
                let of = |record: Record| by_record.get(&record).map(Vec::as_slice).unwrap_or_default();
                let (left, right) = (of(a), of(b));
                let parent = |row: usize, record: Record| {
                    let number = arena.rows.link(row).parent;
                    number.wrapping_sub(self.first_parent(parts, part, record))
                };
                left.len() == right.len()
                    && left.iter().zip(right).all(|(x, y)| {
                        parent(*x, a) == parent(*y, b)
                            && arena.rows.link(*x).position == arena.rows.link(*y).position
                            && arena.is_same(part, *x, *y)
                    })
            })
    }

    /// The number of the first row of a record that rows of a list may hang on: itself, or the first row
    /// of the list around it.
    fn first_parent(&self, parts: &[TableRows<'_>], part: &TableRows<'_>, record: Record) -> u64 {
        let path = part.plan.path.as_str();
        let is_around = |other: &str| {
            path.strip_prefix(other).is_some_and(|rest| rest.starts_with('.') || rest.starts_with('['))
        };
        let around = parts.iter().enumerate().filter(|(_, other)| is_around(&other.plan.path));
        let Some((at, _)) = around.max_by_key(|(_, other)| other.plan.path.len()) else { return record.1 };
        let first = self.tables.get(at).and_then(|(arena, by_record)| {
            let rows = by_record.get(&record)?;
            rows.iter().map(|row| arena.rows.link(*row).row).min()
        });
        first.unwrap_or_default()
    }
}
