//! A place in memory: its files have versions with tokens, and are fetched to a spool.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use hypodoke_core::arrival::Arrival;
use hypodoke_places::{Backend, ListRequest, Listed, PlaceError, RemoteTrouble};

/// A place in memory.
#[derive(Clone, Debug, Default)]
pub struct MemoryPlace {
    files: Arc<Mutex<BTreeMap<String, Version>>>,
}

#[derive(Clone, Debug)]
struct Version {
    token: String,
    content: Vec<u8>,
}

impl MemoryPlace {
    /// Puts a file there, as a new version where there is one of that path.
    pub fn put(&self, path: &str, content: &str) {
        let mut files = self.lock();
        let number = files.get(path).and_then(|version| version.token.strip_prefix('v')?.parse::<u32>().ok());
        let token = format!("v{}", number.unwrap_or(0) + 1);
        files.insert(path.to_owned(), Version { token, content: content.as_bytes().to_vec() });
    }

    /// Takes a file away.
    pub fn remove(&self, path: &str) {
        self.lock().remove(path);
    }

    fn lock(&self) -> MutexGuard<'_, BTreeMap<String, Version>> {
        self.files.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Backend for MemoryPlace {
    fn shown(&self) -> String {
        "memory".to_owned()
    }

    fn list(&self, request: &ListRequest<'_>) -> Result<Listed, PlaceError> {
        let arrival = |(path, version): (&String, &Version)| Arrival {
            place: request.place.to_owned(),
            path: path.clone(),
            bytes: version.content.len() as u64,
            // All are of one time: the token alone tells versions of one size apart.
            modified: 1_772_438_400_000_000,
            token: Some(version.token.clone()),
        };
        let wanted = |arrival: &Arrival| (request.wanted)(&arrival.path, arrival.modified);
        let files = self.lock().iter().map(arrival).filter(wanted).map(|arrival| (arrival, None)).collect();
        Ok(Listed { files, ..Listed::default() })
    }

    fn relocate(&self, arrival: &Arrival, _: &Path, to: &str) -> Result<bool, PlaceError> {
        let mut files = self.lock();
        if files.contains_key(to) {
            return Ok(false);
        }
        let version = files.remove(&arrival.path);
        files.extend(version.map(|version| (to.to_owned(), version)));
        Ok(true)
    }

    fn fetch(&self, arrival: &Arrival, to: &Path, _: bool) -> Result<(), RemoteTrouble> {
        let version = self.lock().get(&arrival.path).cloned().ok_or(RemoteTrouble::Gone)?;
        if Some(version.token) != arrival.token {
            return Err(RemoteTrouble::Changed);
        }
        std::fs::write(to, version.content).map_err(|error| RemoteTrouble::Other(error.to_string()))
    }
}
