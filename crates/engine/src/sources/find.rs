//! A file of the ledger found again: where it is now, and by which feed it is read.

use std::path::PathBuf;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::pattern::{Part, PartValue};
use hypodoke_core::spelling::temporal;
use hypodoke_places::{Scope, Seen};
use hypodoke_stores::FileEntry;

use crate::discover::{BY_HAND, Discovered, NamedAs, discover, named_files, unfold};
use crate::error::{EngineError, ResubmitProblem};
use crate::job::{Candidate, Feed, InternalFiles, Job};
use crate::profile::content_hash;

/// A file of the ledger, as it is found now.
#[derive(Clone, Debug)]
pub struct FoundFile {
    /// The feed that takes it.
    pub feed: Feed,
    /// The file.
    pub file: Candidate,
}

/// Finds files that the ledger knows, listing each place once.
pub struct Finder {
    job: Option<Job>,
    listed: Option<Discovered>,
}

impl Finder {
    /// Finds files of a job, where there is one; without it, files that were named one by one.
    pub fn new(job: Option<Job>) -> Finder {
        // Whatever is asked for may be of any time.
        let job = job.map(|job| Job { scope: Scope::AnyTime, ..job });
        Finder { job, listed: None }
    }

    /// The feed that a file of the ledger came by, and the file as the feed names it, whether it is still there or
    /// not.
    ///
    /// # Errors
    ///
    /// The configuration has no such feed.
    pub fn feed_of(&self, entry: &FileEntry) -> Result<FoundFile, EngineError> {
        let (file, job) = (candidate_of(entry), self.job.as_ref());
        let Some(name) = &entry.feed else {
            return Ok(FoundFile { feed: Feed::recorded(entry), file });
        };
        if job.is_none() && entry.rules.is_some() {
            return Ok(FoundFile { feed: Feed::recorded(entry), file });
        }
        let Some(source) = job.and_then(|job| job.feed_named(name)) else {
            let (feed, path) = (name.clone(), entry.arrival.path.clone());
            return Err(ResubmitProblem::NoFeed { feed, path }.into());
        };
        let parts = source.parts_of(&entry.arrival.path);
        let parts = parts.unwrap_or_else(|| source.feed.with_constants(Vec::new()));
        let feed = source.feed.clone().into_table(entry.table.as_deref().unwrap_or_default());
        Ok(FoundFile { feed, file: Candidate { parts, ..file } })
    }

    /// The file of an entry, and its feed: as it was, where it still is or was put away; else what is
    /// there now under its path; `None` if there is nothing.
    ///
    /// # Errors
    ///
    /// A place cannot be listed.
    pub fn find(&mut self, entry: &FileEntry) -> Result<Option<FoundFile>, EngineError> {
        let table = entry.table.clone().unwrap_or_default();
        if entry.arrival.place == BY_HAND {
            return by_its_path(entry);
        }
        let Some(job) = &self.job else { return Ok(None) };
        let listed = match &mut self.listed {
            Some(listed) => listed,
            None => self.listed.insert(discover(job, &[])?),
        };
        let is_it = |file: &&Candidate| {
            file.seen.arrival.place == entry.arrival.place && file.seen.arrival.path == entry.arrival.path
        };
        let of_table = listed.feeds.iter().filter(|files| files.feed.table == table);
        let found = of_table
            .filter_map(|files| files.files.iter().find(is_it).map(|file| (&files.feed, file)))
            .next()
            .map(|(feed, file)| FoundFile { feed: feed.clone(), file: file.clone() });
        match found {
            Some(found) if found.file.seen.arrival.looks_like(&entry.arrival) => Ok(Some(found)),
            other => Ok(in_archive(job, &listed.archived, entry, &table)?.or(other)),
        }
    }
}

/// A file of the ledger as the engine names files, with the parts of its path as they were recorded.
pub fn candidate_of(entry: &FileEntry) -> Candidate {
    let file = PathBuf::from(&entry.arrival.path);
    let parts = entry.rules.iter().flat_map(|rules| &rules.parts);
    let parts = parts.map(|(name, text)| (Part::plain(name), PartValue::Text(text.clone()))).collect();
    Candidate { parts, ..Candidate::of(Seen::local(entry.arrival.clone(), file)) }
}

/// The file of an entry where it was put away. Moving it left its time as it was, by which it is
/// told from others that came under its name.
fn in_archive(
    job: &Job,
    archived: &[Seen],
    entry: &FileEntry,
    table: &str,
) -> Result<Option<FoundFile>, EngineError> {
    let wanted = &entry.arrival;
    let place = job.places.iter().find(|source| source.place.name() == wanted.place);
    let Some(away) = place.and_then(|source| source.put_away.as_ref()) else { return Ok(None) };
    let is_like = |arrival: &Arrival| arrival.place == wanted.place && arrival.modified == wanted.modified;
    for seen in archived.iter().filter(|seen| is_like(&seen.arrival)) {
        let is_of_it = |own: &String| {
            let rest = wanted.path.strip_prefix(own.as_str());
            rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
        };
        let Some(own) = away.origins(&seen.arrival.path).into_iter().find(is_of_it) else { continue };
        let mut seen = seen.clone();
        seen.arrival.path = own;
        // Moving it was a change, though not of what is in it.
        seen.arrival.token.clone_from(&wanted.token);
        let members = unfold(Candidate::of(seen))?;
        let is_wanted =
            |file: &Candidate| file.seen.arrival.path == wanted.path && file.seen.arrival.looks_like(wanted);
        let Some(file) = members.into_iter().find(is_wanted) else { continue };
        // Two versions may have one size and one whole second: the content tells which this is.
        let is_other = |hash: &String| content_hash(&file).is_ok_and(|found| found != *hash);
        if wanted.modified % temporal::SECOND == 0 && entry.hash.as_ref().is_some_and(is_other) {
            continue;
        }
        let takers = job.feeds_for(wanted).into_iter();
        let mut takers = takers
            .filter_map(|(at, parts)| job.feeds.get(at).map(|source| (source.feed.for_parts(&parts), parts)));
        if let Some((feed, parts)) = takers.find(|(feed, _)| feed.table == table) {
            return Ok(Some(FoundFile { feed, file: Candidate { parts, ..file } }));
        }
    }
    Ok(None)
}

fn by_its_path(entry: &FileEntry) -> Result<Option<FoundFile>, EngineError> {
    let path = PathBuf::from(&entry.arrival.path);
    // A member of an archive is found in the archive.
    let Some(there) = path.ancestors().find(|path| path.is_file()).map(PathBuf::from) else {
        return Ok(None);
    };
    let found = named_files(&[there], NamedAs::WholePath, &InternalFiles::default())?;
    let feed = Feed::recorded(entry);
    let file = found.files.into_iter().find(|file| file.seen.arrival.path == entry.arrival.path);
    Ok(file.map(|file| FoundFile { feed, file }))
}
