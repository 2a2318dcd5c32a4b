//! Files that are done with are moved where their places want them.

use hypodoke_core::outcome::Outcome;

use crate::discover::Discovered;
use crate::error::EngineError;
use crate::job::Candidate;
use crate::receipt::{Receipt, ReceiptLine};

/// What became of a file that may be put away. An archive is one file, whatever its members are.
struct Move<'a> {
    file: &'a Candidate,
    failed: bool,
    stays: bool,
}

/// Moves files that are done with; gives what could not be moved.
///
/// What is held stays where it is, and so does an archive some of whose files do. A file of which
/// the receipt says nothing was done with before, unless the batch broke off before its turn: then it
/// is not `whole`.
pub fn put_away(found: &Discovered, receipt: &Receipt, whole: bool) -> Vec<EngineError> {
    let day = jiff::Zoned::now().date().to_string();
    let mut errors = Vec::new();
    for (place, away) in &found.put_away {
        for Move { file, failed, .. } in moves(found, place.name(), receipt, whole) {
            let folder = if failed { &away.failed } else { &away.done };
            if let Err(error) = place.put_away(&file.container(), folder, &day) {
                errors.push(EngineError::from(error));
            }
        }
    }
    errors
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
