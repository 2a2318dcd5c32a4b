//! Rows sent in lots that are undone by themselves, so that one the server refuses costs no other.

use hypodoke_core::cast::Rows;

use super::FileWriter;
use crate::error::StoreError;
use crate::sql::Scope;
use crate::tables::load_target::{LoadTarget, RowsOfFile};

impl<T: LoadTarget> FileWriter<'_, T> {
    /// Sends rows in lots, each undone by itself: one that the server refuses is halved until the
    /// row is found that it will not have.
    pub(super) fn send_carefully(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        let mut lots = Vec::from([(0, rows.len())]);
        let mut refused = Vec::new();
        let mut sent = 0;
        while let Some((from, to)) = lots.pop() {
            let lot = from..to;
            if lot.is_empty() {
                continue;
            }
            self.end_sending()?;
            self.store.begin(Scope::Lot)?;
            let count = lot.len() as u64;
            match self.send_lot(table, rows, lot.clone()) {
                Ok(()) => {
                    self.store.commit(Scope::Lot)?;
                    sent += count;
                }
                Err(StoreError::RowRefused { why, .. }) => {
                    self.store.give_up_sending();
                    self.store.rollback(Scope::Lot)?;
                    if lot.len() == 1 {
                        refused.push((from, why));
                    } else {
                        let middle = from + lot.len() / 2;
                        lots.push((middle, to));
                        lots.push((from, middle));
                    }
                }
                Err(error) => return Err(error),
            }
        }
        for (index, why) in refused {
            let reject = rows.refuse(index, None, format!("the table refused it: {why}"));
            rows.rejects.push(reject);
        }
        Ok(sent)
    }

    fn send_lot(&mut self, table: usize, rows: &Rows, lot: std::ops::Range<usize>) -> Result<(), StoreError> {
        let lineage = self.plan.tables[table].lineage;
        let Some(target) = &mut self.targets[table] else { return Ok(()) };
        let before = (target.sent, target.missing);
        let of_file = RowsOfFile { file: self.file, lineage, rows };
        let done = self.store.send_checked(table, target, of_file, lot).and_then(|_| self.end_sending());
        if let (Err(_), Some(target)) = (&done, &mut self.targets[table]) {
            (target.sent, target.missing) = before;
        }
        done
    }
}
