//! Rows on their way into a table: all at once, or in lots that are undone by themselves, so that a row
//! the server refuses costs no other.

use hypodoke_core::cast::Rows;

use super::FileWriter;
use crate::error::StoreError;
use crate::failpoint::failpoint;
use crate::ledger::write;
use crate::load_plan::Mode;
use crate::sql::Scope;
use crate::tables::load_target::{LoadTarget, RowsOfFile};

impl<T: LoadTarget> FileWriter<'_, T> {
    pub(super) fn insert_rows(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        let rejects = rows.rejects.len();
        let mode = self.plan.tables.get(table).map_or(Mode::Append, |table| table.mode);
        let sent = if !self.is_direct() && mode != Mode::Append {
            rows.len() as u64
        } else if self.targets.get(table).is_none_or(Option::is_none) {
            0
        } else if self.plan.careful && !T::REFUSES_ROWS_ONE_BY_ONE {
            self.send_carefully(table, rows)?
        } else {
            self.send(table, rows)?
        };
        if !rows.rejects.is_empty() {
            self.end_sending()?;
            write::add_rejects(self.store.ledger(), self.plan, self.file, &rows.rejects)?;
            failpoint!("load.rejects");
        }
        self.keep_rejected_keys(table, rows, rejects)?;
        if let (Some(packer), Some(plan)) = (&mut self.packer, self.plan.tables.get(table)) {
            packer.add(table, plan, rows)?;
            if packer.is_full() {
                self.write_kept()?;
            }
        }
        Ok(sent)
    }

    fn send(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError> {
        if self.sending_to.is_some_and(|at| at != table) {
            self.end_sending()?;
        }
        let (Some(plan), Some(Some(target))) = (self.plan.tables.get(table), self.targets.get_mut(table))
        else {
            return Ok(0);
        };
        self.sending_to = Some(table);
        let of_file = RowsOfFile { file: self.file, lineage: plan.lineage, rows };
        let sent = self.store.send(table, target, of_file, 0..rows.len())?;
        failpoint!("load.sent");
        for (index, why) in sent.refused {
            let reject = rows.refuse(index, None, format!("the table refused it: {why}"));
            rows.rejects.push(reject);
        }
        Ok(sent.taken)
    }

    /// Sends rows in lots, each undone by itself: one that the server refuses is halved until the
    /// row is found that it will not have.
    fn send_carefully(&mut self, table: usize, rows: &mut Rows) -> Result<u64, StoreError> {
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
