//! Finding files: what is listed at the places of a job, whose feed it is, whether the ledger knows
//! it, and in which order files are loaded.

mod archive;
mod known;
mod named;
mod order;
mod table_name;
mod window;

use std::collections::{HashMap, HashSet};
use std::path::Path;

use hypodoke_places::{Place, PutAway, Scope, Seen, beside};

use crate::clock;
use crate::error::EngineError;
use crate::job::{Candidate, FeedFiles, FeedSource, Job, PlaceSource};

pub use archive::unfold;
pub use known::{KnownFiles, settlement_of};
pub use named::{BY_HAND, NamedAs, NamedFiles, files_of_place, named_files};
pub use order::{LoadUnit, load_units};
pub use table_name::table_name;
pub use window::Window;

/// The files that are there for the feeds of a job.
#[derive(Clone, Default)]
pub struct Discovered {
    /// The feeds that were asked for, with their files.
    pub feeds: Vec<FeedFiles>,
    /// The feeds that were not asked for, with those of their files that a feed takes that was.
    pub others: Vec<FeedFiles>,
    /// Files that no feed takes.
    pub unmatched: Vec<String>,
    /// Files that are still arriving.
    pub waiting: Vec<String>,
    /// Files that were put away before.
    pub archived: Vec<Seen>,
    /// The places whose files are put away once they are done with.
    pub put_away: Vec<(Place, PutAway)>,
    /// What could not be listed or opened.
    pub errors: Vec<EngineError>,
    /// How many requests to servers listing took, where those are counted.
    pub requests: u64,
}

/// A file that no feed takes, with its path as people know it.
type Unmatched = (String, Seen);

/// Lists the places of the feeds of these names, of all feeds where none is named, and gives each
/// file to the first feed that it fits.
///
/// # Errors
///
/// A place could not be reached, and there is no file of any other to go on with. What else could not
/// be listed is among the errors of what was found.
pub fn discover(job: &Job, names: &[String]) -> Result<Discovered, EngineError> {
    let is_wanted = |source: &FeedSource| {
        names.is_empty() || source.feed.name.as_ref().is_some_and(|name| names.contains(name))
    };
    let mut found = Discovered::default();
    let mut feeds: Vec<FeedFiles> = job.feeds.iter().map(without_files).collect();
    let mut unmatched: Vec<Unmatched> = Vec::new();
    for place in &job.places {
        let name = place.place.name();
        if names.is_empty() || job.feeds.iter().any(|source| is_wanted(source) && source.place == name) {
            let files = found.list(job, place);
            unmatched.extend(give_to_feeds(job, files, &mut feeds));
        }
    }
    take_companions(&mut feeds, &mut unmatched);
    found.wait_for_companions(&mut feeds);
    found.unmatched.extend(unmatched.into_iter().map(|(shown, _)| shown));
    let (wanted, others): (Vec<_>, Vec<_>) =
        feeds.into_iter().zip(&job.feeds).partition(|(_, source)| is_wanted(source));
    found.feeds = wanted.into_iter().flat_map(|(files, _)| by_table(files, &mut found.errors)).collect();
    let others = others.into_iter().flat_map(|(files, _)| by_table(files, &mut found.errors));
    found.others = also_taken(&found.feeds, others);
    let has_files = found.feeds.iter().any(|feed| !feed.files.is_empty());
    if !has_files && found.errors.iter().any(EngineError::is_unreachable) {
        return Err(found.errors.remove(0));
    }
    Ok(found)
}

/// Those files of other feeds that feeds take which were asked for.
fn also_taken(wanted: &[FeedFiles], others: impl Iterator<Item = FeedFiles>) -> Vec<FeedFiles> {
    let taken: HashSet<&Path> =
        wanted.iter().flat_map(|feed| &feed.files).map(|file| file.seen.file.as_path()).collect();
    let with_shared = others.map(|mut feed| {
        feed.files.retain(|file| taken.contains(file.seen.file.as_path()));
        feed
    });
    with_shared.filter(|feed| !feed.files.is_empty()).collect()
}

/// The files of a feed whose table is named by parts of their paths, table by table; of any other feed, as
/// they are. Two paths that differ and name one table are not told apart there: the later ones are errors.
fn by_table(files: FeedFiles, errors: &mut Vec<EngineError>) -> Vec<FeedFiles> {
    let Some(template) = files.feed.table_name.clone().filter(|_| !files.files.is_empty()) else {
        return vec![files];
    };
    let mut tables: Vec<(String, FeedFiles)> = Vec::new();
    for file in files.files {
        let (name, feed) = (template.fill(&file.parts), files.feed.for_parts(&file.parts));
        match tables.iter_mut().find(|(_, known)| known.feed.table == feed.table) {
            Some((known, table)) if *known == name => table.files.push(file),
            Some((known, _)) => errors.push(EngineError::OneTable {
                path: file.shown,
                table: feed.table,
                name,
                other: known.clone(),
            }),
            None => tables.push((name, FeedFiles { feed, files: vec![file], again: files.again })),
        }
    }
    tables.into_iter().map(|(_, files)| files).collect()
}

fn without_files(source: &FeedSource) -> FeedFiles {
    FeedFiles { feed: source.feed.clone(), files: Vec::new(), again: false }
}

impl Discovered {
    /// Leaves files for later whose control files are still arriving.
    fn wait_for_companions(&mut self, feeds: &mut [FeedFiles]) {
        let arriving: HashSet<String> = self.waiting.iter().cloned().collect();
        for FeedFiles { feed, files, .. } in feeds {
            let Some(pattern) = &feed.expect.control_file else { continue };
            files.retain(|file| {
                let place = &file.seen.arrival.place;
                let companion = format!("{place}/{}", beside(&file.container().arrival.path, pattern));
                let waits = file.control.is_none() && arriving.contains(&companion);
                if waits {
                    self.waiting.push(format!("{place}/{}", file.seen.arrival.path));
                }
                !waits
            });
        }
    }

    /// The files of a place that are there to be read.
    fn list(&mut self, job: &Job, place: &PlaceSource) -> Vec<Candidate> {
        let name = place.place.name();
        let listing = match place.place.list(job.scope) {
            Ok(listing) => listing,
            Err(error) => {
                self.errors.push(EngineError::listing(name, error));
                return Vec::new();
            }
        };
        self.errors.extend(listing.errors.into_iter().map(EngineError::from));
        self.requests += listing.requests;
        let (ready, waiting) = place.completeness.sort(listing.seen, clock::now());
        self.waiting.extend(waiting.iter().map(|seen| format!("{name}/{}", seen.arrival.path)));
        let is_put_away =
            |seen: &Seen| place.put_away.as_ref().is_some_and(|away| away.holds(&seen.arrival.path));
        if let Some(away) = &place.put_away {
            self.put_away.push((place.place.clone(), away.clone()));
        }
        let (archived, ready): (Vec<Seen>, Vec<Seen>) = ready.into_iter().partition(is_put_away);
        self.archived.extend(archived);
        let mut files = Vec::new();
        for seen in ready.into_iter().filter(|seen| !job.internal.contains(seen)) {
            match unfold(Candidate::of(seen)) {
                Ok(found) => files.extend(found),
                // It was moved since it was listed, or is being sent again.
                Err(error) if error.leaves_for_later().is_some() => {}
                Err(error) => self.errors.push(error),
            }
        }
        files
    }
}

/// Gives each file to the first feed it fits, and to the others that take it too; those that fit none are
/// given back.
fn give_to_feeds(job: &Job, files: Vec<Candidate>, feeds: &mut [FeedFiles]) -> Vec<Unmatched> {
    let mut unmatched = Vec::new();
    let now = clock::now();
    for file in files {
        let takers = job.feeds_for(&file.seen.arrival);
        if takers.is_empty() {
            let arrival = &file.seen.arrival;
            unmatched.push((format!("{}/{}", arrival.place, arrival.path), file.seen));
            continue;
        }
        for (at, parts) in takers {
            // A file that is too old for its feed is nobody else's.
            let is_in_time = job.scope == Scope::AnyTime
                || job.feeds.get(at).is_none_or(|source| source.is_in_time(file.seen.arrival.modified, now));
            if let Some(feed) = feeds.get_mut(at).filter(|_| is_in_time) {
                feed.files.push(Candidate { parts, ..file.clone() });
            }
        }
    }
    unmatched
}

/// Finds the control files that stand beside files of feeds among those that no feed takes: they are
/// no arrivals, and go with their files.
fn take_companions(feeds: &mut [FeedFiles], unmatched: &mut Vec<Unmatched>) {
    for FeedFiles { feed, files, .. } in feeds {
        let Some(pattern) = &feed.expect.control_file else { continue };
        let places: HashMap<(&str, &str), usize> = unmatched
            .iter()
            .enumerate()
            .map(|(at, (_, seen))| ((seen.arrival.place.as_str(), seen.arrival.path.as_str()), at))
            .collect();
        let mut taken = HashSet::new();
        for file in files {
            let path = beside(&file.container().arrival.path, pattern);
            let at = places.get(&(file.seen.arrival.place.as_str(), path.as_str()));
            if let Some((at, (_, seen))) = at.and_then(|at| Some((*at, unmatched.get(*at)?))) {
                taken.insert(at);
                file.control = Some(Box::new(seen.clone()));
            }
        }
        let mut at = 0;
        unmatched.retain(|_| {
            at += 1;
            !taken.contains(&(at - 1))
        });
    }
}
