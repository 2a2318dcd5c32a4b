//! A file of the ledger found again: where it is now, and by which feed it is read.

use std::path::PathBuf;

use hypodoke_stores::FileEntry;

use super::by_hand::{self, Known};
use super::own::Own;
use super::task::Task;
use super::{Candidate, Feed};
use crate::cli::ReadingArguments;
use crate::failure::Failure;
use crate::settings::Settings;

/// Finds files that the ledger knows, listing each place once.
pub struct Finder {
    settings: Option<Settings>,
    listed: Option<Vec<(Feed, Vec<Candidate>)>>,
}

impl Finder {
    /// By a configuration, where there is one.
    pub fn new(settings: Option<Settings>) -> Finder {
        Finder { settings, listed: None }
    }

    /// The file of an entry as it is now, and its feed; `None` if it is not there any more.
    pub fn find(&mut self, entry: &FileEntry) -> Result<Option<(Feed, Candidate)>, Failure> {
        let table = entry.table.clone().unwrap_or_default();
        if entry.arrival.place == by_hand::PLACE {
            return by_its_path(entry, table);
        }
        if self.listed.is_none() {
            let mut all = Vec::new();
            if let Some(settings) = &self.settings {
                let task = Task::of(settings, &[], &ReadingArguments::default())?;
                all = task.deliveries.into_iter().map(|delivery| (delivery.feed, delivery.files)).collect();
            }
            self.listed = Some(all);
        }
        let is_it = |file: &&Candidate| {
            file.seen.arrival.place == entry.arrival.place && file.seen.arrival.path == entry.arrival.path
        };
        let feeds = self.listed.iter().flatten().filter(|(feed, _)| feed.table == table);
        Ok(feeds
            .flat_map(|(feed, files)| files.iter().find(is_it).map(|file| (feed.clone(), file.clone())))
            .next())
    }
}

fn by_its_path(entry: &FileEntry, table: String) -> Result<Option<(Feed, Candidate)>, Failure> {
    let path = PathBuf::from(&entry.arrival.path);
    // A member of an archive is found in the archive.
    let there = path.ancestors().find(|path| path.is_file()).map(PathBuf::from);
    let Some(there) = there else { return Ok(None) };
    let mut troubles = Vec::new();
    let found = by_hand::candidates(&[there], Known::ByWholePath, &Own::of(None), &mut troubles)?;
    let feed = Feed::plain(table, ReadingArguments::default().over(Default::default())?, Vec::new());
    Ok(found.into_iter().find(|file| file.seen.arrival.path == entry.arrival.path).map(|file| (feed, file)))
}
