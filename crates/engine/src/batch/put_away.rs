//! Files that are done with are moved where their places want them.

use std::collections::HashSet;
use std::path::Path;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::outcome::Outcome;
use hypodoke_places::PlaceError;
use hypodoke_stores::Store;

use crate::discover::{Discovered, KnownFiles};
use crate::error::EngineError;
use crate::job::{Candidate, FeedFiles};
use crate::receipt::{Receipt, ReceiptLine};

/// What became of a file that may be put away. An archive is one file, whatever its members are.
struct Move<'a> {
    file: &'a Candidate,
    failed: bool,
    stays: bool,
}

/// Moves files that are done with; gives what could not be moved.
///
/// What is held stays where it is, and so does an archive some of whose files do, and what another feed
/// takes that has not loaded it. A file of which the receipt says nothing was done with before, unless the
/// batch broke off before its turn: then it is not `whole`.
pub fn put_away(
    store: &mut dyn Store,
    found: &Discovered,
    receipt: &Receipt,
    whole: bool,
) -> Vec<EngineError> {
    if found.put_away.is_empty() {
        return Vec::new();
    }
    let waited_for = match waited_for(store, &found.others) {
        Ok(files) => files,
        Err(error) => return vec![error],
    };
    let day = jiff::Zoned::now().date().to_string();
    let mut errors = Vec::new();
    for (place, away) in &found.put_away {
        for Move { file, failed, .. } in moves(found, place.name(), receipt, whole) {
            if waited_for.contains(file.seen.file.as_path()) {
                continue;
            }
            let folder = if failed { &away.failed } else { &away.done };
            match place.put_away(&file.container(), folder, &day) {
                // Who loads the other feed has moved it.
                Err(PlaceError::Missing { .. }) if is_shared(found, file) => {}
                Err(error) => errors.push(EngineError::from(error)),
                Ok(_) => {}
            }
        }
    }
    errors
}

/// The files that feeds which were not asked for have yet to load.
fn waited_for<'a>(store: &mut dyn Store, others: &'a [FeedFiles]) -> Result<HashSet<&'a Path>, EngineError> {
    let files = || others.iter().flat_map(|feed| feed.files.iter().map(|file| (file, &feed.feed.table)));
    let arrivals: Vec<&Arrival> = files().map(|(file, _)| &file.seen.arrival).collect();
    if arrivals.is_empty() {
        return Ok(HashSet::new());
    }
    let known = KnownFiles::of(store.files_like(&arrivals)?);
    let waiting = files().filter(|(file, table)| !known.is_known(&file.seen.arrival, table));
    Ok(waiting.map(|(file, _)| file.seen.file.as_path()).collect())
}

fn is_shared(found: &Discovered, file: &Candidate) -> bool {
    let is_it = |other: &Candidate| other.seen.file == file.seen.file;
    found.others.iter().flat_map(|feed| &feed.files).any(is_it)
}

fn moves<'a>(found: &'a Discovered, place: &str, receipt: &Receipt, whole: bool) -> Vec<Move<'a>> {
    let mut moves: Vec<Move<'a>> = Vec::new();
    for feed in &found.feeds {
        for file in feed.files.iter().filter(|file| file.seen.arrival.place == place) {
            let is_it = |line: &&ReceiptLine| line.path == file.shown && line.feed == feed.feed.name;
            let outcome = receipt.files.iter().find(is_it).map(|line| line.outcome);
            let failed = outcome == Some(Outcome::Failed);
            let stays = outcome == Some(Outcome::Held) || outcome.is_none() && !whole;
            match moves.iter_mut().find(|known| known.file.seen.file == file.seen.file) {
                Some(known) => {
                    known.failed |= failed;
                    known.stays |= stays;
                }
                None => moves.push(Move { file, failed, stays }),
            }
        }
    }
    moves.retain(|one| !one.stays);
    moves
}
