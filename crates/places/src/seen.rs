//! Files as they were seen at a place, and how they are had.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use hypodoke_core::arrival::Arrival;

use crate::error::PlaceError;
use crate::spool::{Pin, Spool};
use crate::version::is_as_listed;

/// A file seen, and where it can be opened.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Seen {
    /// What is known of it.
    pub arrival: Arrival,
    /// Where it is, or will be once it is fetched.
    pub file: PathBuf,
    /// Where it is fetched from, if it has to be.
    pub spooled: Option<SpooledFile>,
}

/// What was found at a place.
#[derive(Debug, Default)]
pub struct Listing {
    /// The files, in the order of their paths.
    pub seen: Vec<Seen>,
    /// What could not be listed; the rest was.
    pub errors: Vec<PlaceError>,
    /// How many requests to a server it took, where those are counted.
    pub requests: u64,
    /// How many of the files end where their connection ends, and nothing tells whether it was cut off.
    pub open_ended: u64,
}

/// A file that is fetched to a spool.
#[derive(Clone, Debug)]
pub struct SpooledFile {
    spool: Arc<Spool>,
    arrival: Arrival,
}

impl SpooledFile {
    /// A file of a spool.
    pub(crate) fn new(spool: Arc<Spool>, arrival: Arrival) -> SpooledFile {
        SpooledFile { spool, arrival }
    }
}

impl PartialEq for SpooledFile {
    fn eq(&self, other: &SpooledFile) -> bool {
        Arc::ptr_eq(&self.spool, &other.spool) && self.arrival == other.arrival
    }
}

impl Eq for SpooledFile {}

/// A file that can be opened as long as this is held.
#[derive(Debug)]
pub struct Fetched {
    path: PathBuf,
    _pin: Option<Pin>,
}

impl std::ops::Deref for Fetched {
    type Target = Path;

    fn deref(&self) -> &Path {
        &self.path
    }
}

impl Seen {
    /// A file of this machine.
    pub fn local(arrival: Arrival, file: PathBuf) -> Seen {
        Seen { arrival, file, spooled: None }
    }

    /// Whether it can be opened as it is.
    pub fn is_local(&self) -> bool {
        self.spooled.is_none()
    }

    /// The file where it can be opened: fetched first where it has to be, and there as long
    /// as what is given is held.
    pub fn fetched(&self) -> Result<Fetched, PlaceError> {
        let pin = self.spooled.as_ref().map(|file| file.spool.want(&file.arrival)).transpose()?;
        let path = pin.as_ref().and_then(Pin::in_memory).unwrap_or_else(|| self.file.clone());
        Ok(Fetched { path, _pin: pin })
    }

    /// Waits no longer than this for a file that has to be fetched; whether it is at hand then, so that
    /// [`Seen::fetched`] does not wait.
    pub fn is_at_hand(&self, within: Duration) -> bool {
        self.spooled.as_ref().is_none_or(|file| file.spool.is_at_hand(&file.arrival, within))
    }

    /// Whether a file of this machine is there still, as it was seen. What has to be fetched is fetched as
    /// it was seen or not at all.
    pub fn check(&self) -> Result<(), PlaceError> {
        if !self.is_local() {
            return Ok(());
        }
        let about = std::fs::metadata(&self.file).map_err(|error| PlaceError::of(&self.file, error))?;
        match is_as_listed(&about, &self.arrival) {
            true => Ok(()),
            false => Err(PlaceError::Changed { path: self.file.clone() }),
        }
    }

    /// Nobody reads it any more: what was fetched of it may go.
    pub fn release(&self) {
        if let Some(file) = &self.spooled {
            file.spool.release(&file.arrival);
        }
    }
}

/// Says which files will be read, in which order, so that they are fetched ahead.
pub fn expect<'a>(files: impl Iterator<Item = &'a Seen>) {
    by_spool(files).into_iter().for_each(|(spool, queue)| spool.expect(queue));
}

/// Says which files will not be read: what a run that was cut off left of them in the spool may go.
pub fn dismiss<'a>(files: impl Iterator<Item = &'a Seen>) {
    by_spool(files).into_iter().for_each(|(spool, files)| spool.dismiss(&files));
}

fn by_spool<'a>(files: impl Iterator<Item = &'a Seen>) -> Vec<(Arc<Spool>, Vec<Arrival>)> {
    let mut queues: Vec<(Arc<Spool>, Vec<Arrival>)> = Vec::new();
    for file in files.filter_map(|seen| seen.spooled.as_ref()) {
        match queues.iter_mut().find(|(spool, _)| Arc::ptr_eq(spool, &file.spool)) {
            Some((_, queue)) => queue.push(file.arrival.clone()),
            None => queues.push((file.spool.clone(), vec![file.arrival.clone()])),
        }
    }
    queues
}
