//! Values spelled as in their files: where a column became text, or decimals where it held floats, the
//! files that filled it before are read again, so that its values do not depend on the order in which
//! files came.

use hypodoke_stores::{FileEntry, FileQuery};

use super::retry::with_retry;
use super::state::{Batch, PendingFeed};
use crate::error::EngineError;
use crate::job::{Candidate, Expectations, Feed};
use crate::receipt::Respelled;
use crate::sources::{Finder, FoundFile};

/// Files of one feed that are read again.
struct Again {
    feed: Feed,
    files: Vec<Candidate>,
}

impl Batch<'_> {
    /// Reads files again where the ledger says that it is due, also by a batch that was broken off. Their
    /// lines stand in the receipt behind those of the feeds, which are `feeds` in number.
    ///
    /// # Errors
    ///
    /// The database is unreachable, or a place cannot be listed.
    pub fn respell(&mut self, feeds: usize) -> Result<Vec<Respelled>, EngineError> {
        let Some(sources) = self.context.sources else { return Ok(Vec::new()) };
        let due = with_retry(self.store, |store| Ok(store.ledger().rereads()?))?;
        let mut respelled = Vec::new();
        for (at, (table, newest)) in due.into_iter().enumerate() {
            if self.is_stopped() {
                break;
            }
            let query = FileQuery { table: Some(table.clone()), ..FileQuery::default() };
            let mut before = with_retry(self.store, |store| Ok(store.ledger().files(&query)?))?;
            before
                .retain(|entry| entry.outcome.counts() && entry.replaced_by.is_none() && entry.file < newest);
            before.reverse();
            let (again, gone) = found_again(&mut sources(), before.iter())?;
            before.into_iter().for_each(|entry| self.known.learn(entry));
            let files = again.iter().map(|again| again.files.len() as u64).sum();
            self.load_again(&again, feeds + at)?;
            if self.is_stopped() {
                break;
            }
            with_retry(self.store, |store| Ok(store.ledger().end_reread(&table, newest)?))?;
            if files > 0 || !gone.is_empty() {
                respelled.push(Respelled { table, files, gone });
            }
        }
        Ok(respelled)
    }

    fn load_again(&mut self, again: &[Again], number: usize) -> Result<(), EngineError> {
        let mut pending = Vec::new();
        for Again { feed, files } in again {
            pending.push(PendingFeed { number, feed, new: files.iter().collect(), again: true });
        }
        self.load_feeds(&pending)?;
        pending.iter().flat_map(|pending| &pending.new).for_each(|file| file.seen.release());
        Ok(())
    }
}

/// The files of entries as far as they are what they were, by their feeds; and the paths of the others.
fn found_again<'e>(
    finder: &mut Finder,
    entries: impl Iterator<Item = &'e FileEntry>,
) -> Result<(Vec<Again>, Vec<String>), EngineError> {
    let (mut again, mut gone): (Vec<Again>, Vec<String>) = (Vec::new(), Vec::new());
    for entry in entries {
        let is_as_it_was = |found: &FoundFile| found.file.seen.arrival.looks_like(&entry.arrival);
        let Some(FoundFile { mut feed, file }) = finder.find(entry)?.filter(is_as_it_was) else {
            gone.push(entry.arrival.path.clone());
            continue;
        };
        // What was taken in then is no question now.
        feed.policy = feed.policy.letting_all_through();
        feed.expect = Expectations::none();
        match again.iter_mut().find(|known| known.feed.table == feed.table) {
            Some(known) => known.files.push(file),
            None => again.push(Again { feed, files: vec![file] }),
        }
    }
    Ok((again, gone))
}
