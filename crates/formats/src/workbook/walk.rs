//! Walking over the sheets of a workbook, several at a time where they are large: the container library
//! takes longer to give cells out than all that is done with them.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::Receiver;
use std::sync::{Mutex, PoisonError};

use hypodoke_core::isolate::helping;
use hypodoke_core::record::Records;

use super::WorkbookOptions;
use super::account::Account;
use super::book::Book;
use super::rows::{RowMaker, SheetRows};
use super::sheets::ChosenSheet;
use crate::error::ReadError;
use crate::reader::clear;

/// What it takes to walk over the sheets of a workbook.
pub struct SheetWalk<'w> {
    /// The sheets.
    pub chosen: &'w [ChosenSheet],
    /// For each sheet its table, and where its columns go there.
    pub places: &'w [(usize, Vec<usize>)],
    /// How many tables there are.
    pub tables: usize,
    /// What the user says of the workbook.
    pub options: &'w WorkbookOptions,
    /// Its days count from 1904.
    pub is_1904: bool,
    /// Batches that were used, to be filled again.
    pub returned: Mutex<Receiver<Vec<Records>>>,
    /// Hands a batch out; `false` if nobody wants more.
    pub send: &'w (dyn Fn(Vec<Records>) -> bool + Sync),
}

impl SheetWalk<'_> {
    /// Walks over all sheets, so many at a time; each walker but the first opens the workbook anew. The rows of
    /// one sheet come in their order, those of different sheets in any.
    pub fn all(
        &self,
        mut book: Book,
        open: &(dyn Fn() -> Result<Book, ReadError> + Sync),
        at_a_time: usize,
    ) -> Result<Account, ReadError> {
        let next = AtomicUsize::new(0);
        let mut accounts = std::thread::scope(|scope| {
            let helper = || helping(|| self.some(&mut open()?, &next));
            let others: Vec<_> = (1..at_a_time.min(self.chosen.len())).map(|_| scope.spawn(helper)).collect();
            let mut accounts = self.some(&mut book, &next);
            for other in others {
                let found = other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
                accounts = accounts.and_then(|mut all| {
                    all.extend(found?);
                    Ok(all)
                });
            }
            accounts
        })?;
        accounts.sort_by_key(|(sheet, _)| *sheet);
        let mut account = Account::default();
        accounts.into_iter().for_each(|(_, of_sheet)| account.merge(of_sheet));
        Ok(account)
    }

    /// Walks over the sheets that nobody else has begun, one after another.
    fn some(&self, book: &mut Book, next: &AtomicUsize) -> Result<Vec<(usize, Account)>, ReadError> {
        let mut accounts = Vec::new();
        loop {
            let at = next.fetch_add(1, Ordering::Relaxed);
            let (Some(sheet), Some((table, slots))) = (self.chosen.get(at), self.places.get(at)) else {
                return Ok(accounts);
            };
            let walked = self.sheet(book, sheet, *table, slots);
            // What cannot be read, or is not wanted any more, ends the work of all.
            let goes_on = walked.as_ref().is_ok_and(|(_, is_wanted)| *is_wanted);
            if !goes_on {
                next.store(self.chosen.len(), Ordering::Relaxed);
            }
            accounts.push((at, walked?.0));
        }
    }

    fn fresh(&self) -> Vec<Records> {
        let returned = self.returned.lock().unwrap_or_else(PoisonError::into_inner);
        let mut batch = returned.try_recv().unwrap_or_default();
        clear(&mut batch, self.tables);
        batch
    }

    /// Walks over one sheet; what was met, and whether more is wanted.
    fn sheet(
        &self,
        book: &mut Book,
        one: &ChosenSheet,
        table: usize,
        slots: &[usize],
    ) -> Result<(Account, bool), ReadError> {
        let mut maker = RowMaker::new(SheetRows {
            name: &one.name,
            region: &one.region,
            slots: slots.to_vec(),
            is_named: self.options.one_table,
            merged: one.merged.clone(),
            is_1904: self.is_1904,
            errors: self.options.errors,
        });
        let mut batch = self.fresh();
        maker.begin(&mut batch[table]);
        let mut is_wanted = true;
        book.walk(one.sheet, &mut |cell| {
            if !maker.take(cell, &mut batch[table]) {
                return false;
            }
            if maker.is_full(&batch[table]) {
                let mut next = self.fresh();
                maker.begin(&mut next[table]);
                maker.hold_back(&mut batch[table], &mut next[table]);
                is_wanted = (self.send)(std::mem::replace(&mut batch, next));
            }
            is_wanted
        })?;
        let account = maker.finish(&mut batch[table]);
        let is_wanted = is_wanted && (self.send)(batch);
        Ok((account, is_wanted))
    }
}
