//! A task: the files that are there for some feeds, loaded into one database, and put away.

use std::collections::{HashMap, HashSet};
use std::path::Path;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::event::{Listener, Outcome};
use hypodoke_core::pattern::{Part, PartValue};
use hypodoke_places::{Place, PutAway, Seen, beside};
use hypodoke_stores::{Store, StoreUrl};

use super::archive::unfold;
use super::batch;
use super::means::{Connections, Means, Stop};
use super::own::Own;
use super::receipt::{Receipt, ReceiptLine};
use super::{Candidate, Delivery, clock, look};
use crate::cli::ReadingArguments;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::settings::{FeedSettings, PlaceSettings, Settings};

/// What is to be loaded, and into what.
#[derive(Clone)]
pub struct Task {
    /// The database.
    pub store: StoreUrl,
    /// The feeds with their files.
    pub deliveries: Vec<Delivery>,
    /// Files that no feed wants.
    pub unmatched: Vec<String>,
    /// Files that are still arriving.
    pub waiting: Vec<String>,
    /// Files that were put away before.
    pub archived: Vec<Seen>,
    /// The places whose files are put away once they are done with.
    put_away: Vec<(Place, PutAway)>,
    /// How many connections load side by side.
    pub connections: usize,
    /// What could not be looked at.
    pub troubles: Vec<Failure>,
}

/// What came of a task.
pub struct Done {
    /// The account of what was done.
    pub receipt: Receipt,
    /// The database went away, or would not have more.
    pub broken_off: Option<Failure>,
    /// What could not be looked at, or not be put away.
    pub troubles: Vec<Failure>,
}

impl Task {
    /// Nothing yet.
    pub fn new(store: StoreUrl, connections: Option<usize>) -> Task {
        Task {
            store,
            connections: connections.unwrap_or_else(usual_connections),
            deliveries: Vec::new(),
            unmatched: Vec::new(),
            waiting: Vec::new(),
            archived: Vec::new(),
            put_away: Vec::new(),
            troubles: Vec::new(),
        }
    }

    /// What a configuration wants loaded, of the feeds of these names; of all where none is named.
    /// Only their places are looked at.
    pub fn of(settings: &Settings, names: &[String], reading: &ReadingArguments) -> Result<Task, Failure> {
        let wanted = settings.feeds_named(names)?;
        let mut task = Task::new(settings.store.clone(), settings.connections);
        let empty = |feed: &FeedSettings| {
            Ok(Delivery { feed: feed.to_feed(reading)?, files: Vec::new(), again: false })
        };
        let mut deliveries: Vec<Delivery> =
            settings.feeds.iter().map(empty).collect::<Result<_, Failure>>()?;
        let mut strangers: Vec<(String, Seen)> = Vec::new();
        for place in &settings.places {
            if names.is_empty() || wanted.iter().any(|feed| feed.place == place.name) {
                let files = task.look_at(settings, place);
                strangers.extend(sort(settings, place, files, &mut deliveries));
            }
        }
        bring_companions(&mut deliveries, &mut strangers);
        task.unmatched.extend(strangers.into_iter().map(|(shown, _)| shown));
        let is_wanted =
            |delivery: &Delivery| wanted.iter().any(|feed| delivery.feed.name.as_deref() == Some(&feed.name));
        task.deliveries = deliveries.into_iter().filter(is_wanted).collect();
        let is_out_of_reach = task.troubles.iter().any(|trouble| trouble.exit == Exit::Unreachable);
        if is_out_of_reach && task.deliveries.iter().all(|delivery| delivery.files.is_empty()) {
            return Err(task.troubles.remove(0));
        }
        Ok(task)
    }

    /// The files of a place that are there to be read.
    fn look_at(&mut self, settings: &Settings, place: &PlaceSettings) -> Vec<Candidate> {
        let listing = match place.place.list() {
            Ok(listing) => listing,
            Err(error) => {
                self.troubles.push(Failure::of_place(&place.name, error));
                return Vec::new();
            }
        };
        self.troubles.extend(listing.errors.into_iter().map(Failure::from));
        let (ready, waiting) = place.completeness.sort(listing.seen, clock::now());
        self.waiting.extend(waiting.iter().map(|seen| format!("{}/{}", place.name, seen.arrival.path)));
        let is_away =
            |seen: &Seen| place.put_away.as_ref().is_some_and(|away| away.holds(&seen.arrival.path));
        if let Some(away) = &place.put_away {
            self.put_away.push((place.place.clone(), away.clone()));
        }
        let (away, ready): (Vec<Seen>, Vec<Seen>) = ready.into_iter().partition(is_away);
        self.archived.extend(away);
        let own = Own::of(Some(&settings.store));
        let mut files = Vec::new();
        for seen in ready.into_iter().filter(|seen| !own.holds(&seen.file) && !is_spooled(settings, seen)) {
            match unfold(Candidate::of(seen)) {
                Ok(found) => files.extend(found),
                Err(trouble) => self.troubles.push(trouble),
            }
        }
        files
    }

    /// Loads it, and puts away what is done with.
    pub fn run(&self, store: &mut dyn Store, listener: &dyn Listener, stop: &Stop) -> Result<Done, Failure> {
        let open = || hypodoke_stores::open(&self.store);
        let connections = Connections { open: &open, most: self.connections };
        let more = Some(&connections).filter(|_| self.store.takes_many_writers() && self.connections > 1);
        let means = Means { more, listener, stop };
        let ended = batch::run(store, &means, &self.deliveries, self.unmatched.clone())?;
        let mut receipt = ended.receipt;
        receipt.waiting.clone_from(&self.waiting);
        let whole = ended.broken_off.is_none() && !stop.is_wanted() && ended.away.is_empty();
        let mut troubles = self.troubles.clone();
        troubles.extend(ended.away);
        troubles.extend(self.put_away(&receipt, whole));
        Ok(Done { receipt, broken_off: ended.broken_off, troubles })
    }

    /// Moves files that are done with where their places want them; gives what could not be moved.
    /// What is held stays where it is, and so does an archive some of whose files do. A file of
    /// which the receipt says nothing was done with before, unless the batch broke off before its
    /// turn.
    fn put_away(&self, receipt: &Receipt, whole: bool) -> Vec<Failure> {
        let mut stuck = Vec::new();
        let day = jiff::Zoned::now().date().to_string();
        for (place, away) in &self.put_away {
            let mut moves: Vec<(&Candidate, bool, bool)> = Vec::new();
            for delivery in &self.deliveries {
                for file in delivery.files.iter().filter(|file| file.seen.arrival.place == place.name()) {
                    let is_it =
                        |line: &&ReceiptLine| line.path == file.shown && line.feed == delivery.feed.name;
                    let outcome = receipt.files.iter().find(is_it).map(|line| line.outcome);
                    let failed = outcome == Some(Outcome::Failed);
                    let stays = outcome == Some(Outcome::Held) || outcome.is_none() && !whole;
                    match moves.iter_mut().find(|(other, ..)| other.seen.file == file.seen.file) {
                        Some((_, bad, held)) => (*bad, *held) = (*bad || failed, *held || stays),
                        None => moves.push((file, failed, stays)),
                    }
                }
            }
            for (file, failed, _) in moves.iter().filter(|(_, _, stays)| !stays) {
                let folder = if *failed { &away.failed } else { &away.done };
                let container = file.container();
                if let Err(error) = place.put_away(&container, folder, &day) {
                    stuck.push(Failure::from(error));
                }
            }
        }
        stuck
    }
}

/// Gives each file to the first feed it fits; those that fit none are given back.
fn sort(
    settings: &Settings,
    place: &PlaceSettings,
    files: Vec<Candidate>,
    deliveries: &mut [Delivery],
) -> Vec<(String, Seen)> {
    let mut strangers = Vec::new();
    for file in files {
        match taker(settings, &file.seen.arrival) {
            Some((at, parts)) => deliveries[at].files.push(Candidate { parts, ..file }),
            None => strangers.push((format!("{}/{}", place.name, file.seen.arrival.path), file.seen)),
        }
    }
    strangers
}

/// The first feed that a file fits, by its place among the feeds, and what the file's name tells.
pub fn taker(settings: &Settings, arrival: &Arrival) -> Option<(usize, Vec<(Part, PartValue)>)> {
    let mut feeds = settings.feeds.iter().enumerate().filter(|(_, feed)| feed.place == arrival.place);
    feeds.find_map(|(at, feed)| {
        let values = feed.files.matches(&arrival.path)?;
        Some((at, feed.files.parts().iter().cloned().zip(values).chain(feed.constants()).collect()))
    })
}

/// Finds the control files that stand beside files of feeds among those that no feed wants: they are
/// no arrivals, and go with their files.
fn bring_companions(deliveries: &mut [Delivery], strangers: &mut Vec<(String, Seen)>) {
    for Delivery { feed, files, .. } in deliveries {
        let Some(pattern) = &feed.expect.control_file else { continue };
        let places: HashMap<(&str, &str), usize> = strangers
            .iter()
            .enumerate()
            .map(|(at, (_, seen))| ((seen.arrival.place.as_str(), seen.arrival.path.as_str()), at))
            .collect();
        let mut taken = HashSet::new();
        for file in files {
            let path = beside(&file.container().arrival.path, pattern);
            if let Some(at) = places.get(&(file.seen.arrival.place.as_str(), path.as_str())) {
                taken.insert(*at);
                let seen = &strangers[*at].1;
                file.control = Some(Box::new(seen.clone()));
            }
        }
        let mut at = 0;
        strangers.retain(|_| {
            at += 1;
            !taken.contains(&(at - 1))
        });
    }
}

/// Whether a file of a folder is one that was fetched from a server.
fn is_spooled(settings: &Settings, seen: &Seen) -> bool {
    seen.remote.is_none() && settings.spool.holds(Path::new(&seen.file))
}

/// As many connections as there are cores, and a few more: the server works while they wait.
fn usual_connections() -> usize {
    look::threads().clamp(2, 8)
}
