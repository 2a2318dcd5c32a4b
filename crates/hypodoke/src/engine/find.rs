//! A file of the ledger found again: where it is now, and by which feed it is read.

use std::path::PathBuf;

use hypodoke_core::arrival::Arrival;
use hypodoke_stores::FileEntry;

use super::archive::unfold;
use super::by_hand::{self, Known};
use super::own::Own;
use super::task::{Task, taker};
use super::{Candidate, Feed};
use crate::cli::ReadingArguments;
use crate::failure::Failure;
use crate::settings::Settings;

/// Finds files that the ledger knows, listing each place once.
pub struct Finder {
    settings: Option<Settings>,
    listed: Option<Task>,
}

impl Finder {
    /// By a configuration, where there is one.
    pub fn new(settings: Option<Settings>) -> Finder {
        Finder { settings, listed: None }
    }

    /// The file of an entry, and its feed: as it was, where it still is or was put away; else what is
    /// there now under its path; `None` if there is nothing.
    pub fn find(&mut self, entry: &FileEntry) -> Result<Option<(Feed, Candidate)>, Failure> {
        let table = entry.table.clone().unwrap_or_default();
        if entry.arrival.place == by_hand::PLACE {
            return by_its_path(entry, table);
        }
        let Some(settings) = &self.settings else { return Ok(None) };
        let task = match &mut self.listed {
            Some(task) => task,
            None => self.listed.insert(Task::of(settings, &[], &ReadingArguments::default())?),
        };
        let is_it = |file: &&Candidate| {
            file.seen.arrival.place == entry.arrival.place && file.seen.arrival.path == entry.arrival.path
        };
        let of_table = task.deliveries.iter().filter(|delivery| delivery.feed.table == table);
        let found = of_table
            .flat_map(|delivery| delivery.files.iter().find(is_it).map(|file| (&delivery.feed, file)))
            .next()
            .map(|(feed, file)| (feed.clone(), file.clone()));
        match found {
            Some((feed, file)) if file.seen.arrival == entry.arrival => Ok(Some((feed, file))),
            other => Ok(in_archive(settings, task, entry, &table)?.or(other)),
        }
    }
}

/// The file of an entry where it was put away. Moving it left its time as it was, by which it is
/// told from others that came under its name.
fn in_archive(
    settings: &Settings,
    task: &Task,
    entry: &FileEntry,
    table: &str,
) -> Result<Option<(Feed, Candidate)>, Failure> {
    let wanted = &entry.arrival;
    let place = settings.places.iter().find(|place| place.name == wanted.place);
    let Some(away) = place.and_then(|place| place.put_away.as_ref()) else { return Ok(None) };
    let is_like = |arrival: &Arrival| arrival.place == wanted.place && arrival.modified == wanted.modified;
    for seen in task.archived.iter().filter(|seen| is_like(&seen.arrival)) {
        let is_of_it = |own: &String| {
            wanted
                .path
                .strip_prefix(own.as_str())
                .is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        };
        let Some(own) = away.origins(&seen.arrival.path).into_iter().find(is_of_it) else { continue };
        let mut seen = seen.clone();
        seen.arrival.path = own;
        let members = unfold(Candidate::of(seen))?;
        let Some(file) = members.into_iter().find(|file| file.seen.arrival == *wanted) else { continue };
        if let Some((at, parts)) = taker(settings, wanted) {
            let feed = settings.feeds[at].to_feed(&ReadingArguments::default())?;
            return Ok((feed.table == table).then_some((feed, Candidate { parts, ..file })));
        }
    }
    Ok(None)
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
