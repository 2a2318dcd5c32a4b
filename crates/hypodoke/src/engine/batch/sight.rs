//! The first sight of a feed: its files are looked at before there is a table.

use hypodoke_stores::StoreError;

use super::{Batch, Look};
use crate::engine::file::{LARGE, as_sent};
use crate::engine::ground::Ground;
use crate::engine::look::{Looked, MOST_KEPT, Way, look, look_at_all};
use crate::engine::prior::Prior;
use crate::engine::{Candidate, Feed, conflicts};
use crate::failure::Failure;

impl Batch<'_> {
    /// A table that is not there yet: all its files are looked at, and their layouts joined
    /// before the first is loaded, so that their order does not matter.
    pub(super) fn first_sight(
        &mut self,
        feed: &Feed,
        files: &[&Candidate],
        ground: &mut Ground,
    ) -> Result<Vec<Look>, StoreError> {
        if files.len() == 1 && may_venture(files[0]) {
            return Ok(vec![None]);
        }
        let wanted: Vec<(&Candidate, &Feed)> = files.iter().map(|file| (*file, feed)).collect();
        let is_slow = |at: usize| named_as_workbook(&files[at].seen.arrival.path);
        // The evidence has served its purpose once the layout is decided.
        let without_evidence = |mut looked: Looked| {
            looked.tables.iter_mut().for_each(|table| table.evidence = Default::default());
            looked
        };
        // What is not what its sender says it is has no say in the layout.
        let finish = |at: usize, looked: Result<Looked, Failure>| {
            as_sent(files[at], feed).is_ok().then(|| looked.map(without_evidence))
        };
        let mut looks: Vec<Look> = look_at_all(&wanted, is_slow, MOST_KEPT, self.listener, finish);
        let lists: Vec<String> =
            looks.iter().flatten().flatten().flat_map(|looked| looked.lists()).map(str::to_owned).collect();
        let prior = Prior::among(looks.iter().flatten().flatten()).with_lists(lists.clone());
        for (looked, file) in looks.iter_mut().zip(files) {
            // An object where other files have a list; `1.234` where others have `1.234,50`.
            let is_told_more = |looked: &Looked| {
                looked.would_join(&lists) || looked.tables.iter().any(|table| prior.is_broken_by(table))
            };
            if matches!(looked, Some(Ok(looked)) if is_told_more(looked)) {
                let again = look(file, feed, Way::alone(), &prior, self.listener);
                *looked = Some(again.map(without_evidence));
            }
        }
        let good = || {
            let both = files.iter().zip(&looks);
            both.filter_map(|(file, looked)| Some((*file, looked.as_ref()?.as_ref().ok()?)))
        };
        self.conflicts.extend(conflicts::of(feed, good()));
        ground.expect(self.store, feed, good().map(|(_, looked)| looked))?;
        Ok(looks)
    }
}

/// Whether a file may be loaded while it is looked at: what is read only once is looked at first.
fn may_venture(file: &Candidate) -> bool {
    file.seen.arrival.bytes >= LARGE && !named_as_workbook(&file.seen.arrival.path)
}

/// Whether a file is called a workbook: its records may be kept, and it is hashed as it is read.
fn named_as_workbook(path: &str) -> bool {
    let path = path.to_lowercase();
    [".xlsx", ".xlsm", ".xlsb", ".xls", ".ods"].iter().any(|ending| path.ends_with(ending))
}
