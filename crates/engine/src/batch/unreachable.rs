//! Places that become unreachable during a batch: after the first file that cannot be fetched, the
//! others are left for later instead of being waited for one by one.

use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

use crate::error::EngineError;
use crate::job::Candidate;

/// Places that are unreachable, with why, and how many of their files are left for later.
#[derive(Debug, Default)]
pub struct UnreachablePlaces(Mutex<BTreeMap<String, (EngineError, u64)>>);

impl UnreachablePlaces {
    fn places(&self) -> MutexGuard<'_, BTreeMap<String, (EngineError, u64)>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Takes in that a file failed: if that is its server's doing, its place is unreachable.
    pub fn learn(&self, file: &Candidate, error: &EngineError) {
        if !file.seen.is_local() && error.is_unreachable() {
            self.places().entry(file.seen.arrival.place.clone()).or_insert((error.clone(), 0));
        }
    }

    /// Whether a file is left for later; counts it if it is.
    pub fn leaves(&self, file: &Candidate) -> bool {
        let mut places = self.places();
        let place = places.get_mut(&file.seen.arrival.place).filter(|_| !file.seen.is_local());
        place.is_some_and(|(_, left)| {
            *left += 1;
            true
        })
    }

    /// One error for each place some of whose files were left.
    pub fn errors(self) -> Vec<EngineError> {
        let places = self.0.into_inner().unwrap_or_else(PoisonError::into_inner);
        let left = places.into_iter().filter(|(_, (_, left))| *left > 0);
        left.map(|(place, (cause, left))| EngineError::PlaceLost { place, left, cause: Box::new(cause) })
            .collect()
    }
}
