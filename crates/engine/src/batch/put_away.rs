//! Files that are done with are moved where their places want them: right after the transaction that they
//! were loaded in, and only in the version that was loaded.

use std::collections::{HashMap, HashSet};
use std::path::Path;
use std::sync::{Mutex, PoisonError};

use hypodoke_core::arrival::Arrival;
use hypodoke_core::outcome::Outcome;
use hypodoke_places::{Place, PutAway, Seen};
use hypodoke_stores::{Ledger, failpoint};

use crate::discover::{Discovered, KnownFiles};
use crate::error::EngineError;
use crate::event::{Event, Listener};
use crate::job::{Candidate, FeedFiles};
use crate::receipt::ReceiptLine;

/// A line of the receipt is of this feed, and of this file.
type LineKey = (Option<String>, String);

/// Moves files that are done with.
///
/// What is held or still arriving stays where it is, and so does an archive some of whose files do, and
/// what another feed takes that has not loaded it.
pub struct PutAwayFiles<'a> {
    found: &'a Discovered,
    containers: Vec<Container<'a>>,
    /// The container that each file is in or is.
    of_line: HashMap<LineKey, usize>,
    state: Mutex<State>,
}

/// A file that may be put away: an archive is one file, whatever its members are.
struct Container<'a> {
    file: &'a Candidate,
    /// No other file is in it and no other feed takes it: its move waits for nothing else.
    is_alone: bool,
}

#[derive(Default)]
struct State {
    /// What became of each container's files so far.
    fates: Vec<Fate>,
    errors: Vec<EngineError>,
}

#[derive(Clone, Copy, Default)]
struct Fate {
    is_told: bool,
    failed: bool,
    stays: bool,
    moved: bool,
}

impl Fate {
    fn learn(&mut self, outcome: Outcome) {
        self.is_told = true;
        self.failed |= outcome == Outcome::Failed;
        self.stays |= matches!(outcome, Outcome::Held | Outcome::Waiting);
    }
}

impl<'a> PutAwayFiles<'a> {
    /// Nothing has been moved yet.
    pub fn new(found: &'a Discovered) -> PutAwayFiles<'a> {
        let shared: HashSet<&Path> =
            found.others.iter().flat_map(|feed| &feed.files).map(|file| file.seen.file.as_path()).collect();
        let (mut containers, mut by_file) = (Vec::<Container<'a>>::new(), HashMap::<&Path, usize>::new());
        let mut of_line = HashMap::new();
        let places: HashSet<&str> = found.put_away.iter().map(|(place, _)| place.name()).collect();
        for FeedFiles { feed, files, .. } in &found.feeds {
            for file in files.iter().filter(|file| places.contains(file.seen.arrival.place.as_str())) {
                let path = file.seen.file.as_path();
                let at = *by_file.entry(path).or_insert_with(|| {
                    containers.push(Container { file, is_alone: !shared.contains(path) });
                    containers.len() - 1
                });
                of_line.insert((feed.name.clone(), file.shown.clone()), at);
                // One of several, or of several feeds.
                if let Some(container) = containers.get_mut(at) {
                    container.is_alone &= std::ptr::eq(container.file, file);
                }
            }
        }
        let state = State { fates: vec![Fate::default(); containers.len()], errors: Vec::new() };
        PutAwayFiles { found, containers, of_line, state: Mutex::new(state) }
    }

    /// Moves what is still to be moved; gives what could not be. Files of which nothing was told were done
    /// with before, unless the batch broke off before their turn: then it is not `whole`.
    pub fn finish(self, store: &mut dyn Ledger, whole: bool) -> Vec<EngineError> {
        let waited_for = match waited_for(store, &self.found.others) {
            Ok(files) => files,
            Err(error) => {
                self.lock().errors.push(error);
                return self.errors();
            }
        };
        let fates = self.lock().fates.clone();
        for (container, fate) in self.containers.iter().zip(fates) {
            let path = container.file.seen.file.as_path();
            let is_done = fate.is_told || whole;
            if !fate.moved && !fate.stays && is_done && !waited_for.contains(path) {
                self.move_file(container.file.container(), fate.failed);
            }
        }
        self.errors()
    }

    fn errors(self) -> Vec<EngineError> {
        self.state.into_inner().unwrap_or_else(PoisonError::into_inner).errors
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn learn(&self, line: &ReceiptLine) {
        let key = (line.feed.clone(), line.path.clone());
        let Some(at) = self.of_line.get(&key).copied() else { return };
        let Some(container) = self.containers.get(at) else { return };
        let mut state = self.lock();
        let Some(fate) = state.fates.get_mut(at) else { return };
        fate.learn(line.outcome);
        let fate = *fate;
        if container.is_alone && !fate.stays {
            if let Some(fate) = state.fates.get_mut(at) {
                fate.moved = true;
            }
            drop(state);
            self.move_file(container.file.container(), fate.failed);
        }
    }

    fn move_file(&self, file: &Seen, failed: bool) {
        let is_its = |(place, _): &&(Place, PutAway)| place.name() == file.arrival.place;
        let Some((place, away)) = self.found.put_away.iter().find(is_its) else { return };
        let day = jiff::Zoned::now().date().to_string();
        let folder = if failed { &away.failed } else { &away.done };
        failpoint!("put_away.before");
        let moved = place.put_away(file, folder, &day);
        failpoint!("put_away.after");
        match moved {
            Ok(_) => {}
            // Another process has moved it, or it was sent again: the new version is an arrival.
            Err(error) if error.is_gone() || error.is_changed() => {}
            Err(error) => self.lock().errors.push(EngineError::from(error)),
        }
    }
}

impl Listener for PutAwayFiles<'_> {
    fn on(&self, event: &Event) {
        if let Event::FileEnded { line, .. } = event {
            self.learn(line);
        }
    }
}

/// The files that feeds which were not asked for have yet to load.
fn waited_for<'a>(store: &mut dyn Ledger, others: &'a [FeedFiles]) -> Result<HashSet<&'a Path>, EngineError> {
    let files = || others.iter().flat_map(|feed| feed.files.iter().map(|file| (file, &feed.feed.table)));
    let arrivals: Vec<&Arrival> = files().map(|(file, _)| &file.seen.arrival).collect();
    if arrivals.is_empty() {
        return Ok(HashSet::new());
    }
    let known = KnownFiles::of(store.files_like(&arrivals)?);
    let waiting = files().filter(|(file, table)| !known.is_known(&file.seen.arrival, table));
    Ok(waiting.map(|(file, _)| file.seen.file.as_path()).collect())
}
