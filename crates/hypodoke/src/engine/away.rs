//! Places that go away while a batch is at them: after the first file that cannot be fetched, the
//! others are left for later instead of being waited for one by one.

use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};

use super::Candidate;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::count;

/// Places that are away, with why, and how many of their files are left for later.
#[derive(Debug, Default)]
pub struct Away(Mutex<BTreeMap<String, (Failure, u64)>>);

impl Away {
    fn places(&self) -> MutexGuard<'_, BTreeMap<String, (Failure, u64)>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A file could not be had: if that is its server's doing, its place is away.
    pub fn learn(&self, file: &Candidate, failure: &Failure) {
        if file.seen.remote.is_some() && failure.exit == Exit::Unreachable {
            self.places().entry(file.seen.arrival.place.clone()).or_insert((failure.clone(), 0));
        }
    }

    /// Whether a file is left for later.
    pub fn leaves(&self, file: &Candidate) -> bool {
        let mut places = self.places();
        let place = places.get_mut(&file.seen.arrival.place).filter(|_| file.seen.remote.is_some());
        place.is_some_and(|(_, left)| {
            *left += 1;
            true
        })
    }

    /// What there is to say of each.
    pub fn troubles(self) -> Vec<Failure> {
        let places = self.0.into_inner().unwrap_or_else(PoisonError::into_inner);
        let said = places.into_iter().filter(|(_, (_, left))| *left > 0).map(|(place, (failure, left))| {
            let what = format!("place `{place}` went away: {} left for later", count::files(left));
            Failure { message: what, ..failure }
        });
        said.collect()
    }
}
