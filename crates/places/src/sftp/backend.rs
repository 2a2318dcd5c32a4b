//! A folder on a server as a place.

use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use hypodoke_core::arrival::Arrival;
use tokio::runtime::Runtime;

use super::address::SftpAddress;
use super::connect::SftpSession;
use super::runtime::runtime;
use super::{fetch, host, list};
use crate::backend::{Backend, Identity, Listed, ShownKey};
use crate::error::{PlaceError, RemoteTrouble};

/// How often a broken connection is made anew for a listing, and the pause before the first time.
const ATTEMPTS: u32 = 5;
const PAUSE: Duration = Duration::from_millis(200);

/// A folder on a server. One connection serves all that is asked of it.
pub struct SftpBackend {
    address: SftpAddress,
    runtime: &'static Runtime,
    session: Mutex<Option<Arc<SftpSession>>>,
}

impl std::fmt::Debug for SftpBackend {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("SftpBackend").field(&self.address.shown()).finish()
    }
}

impl SftpBackend {
    /// A place that is not connected to yet.
    pub fn new(address: SftpAddress) -> Result<SftpBackend, PlaceError> {
        let runtime = runtime().map_err(|error| PlaceError::Remote {
            shown: address.shown(),
            trouble: RemoteTrouble::Other(error.to_string()),
        })?;
        Ok(SftpBackend { address, runtime, session: Mutex::new(None) })
    }

    fn lock(&self) -> MutexGuard<'_, Option<Arc<SftpSession>>> {
        self.session.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Does something over the connection, which is made if there is none, and let go of if it broke.
    fn with_session<T>(
        &self,
        work: impl AsyncFnOnce(&SftpSession) -> Result<T, RemoteTrouble>,
    ) -> Result<T, RemoteTrouble> {
        let session = {
            // Whoever comes meanwhile waits for this connection instead of making another.
            let mut kept = self.lock();
            match &*kept {
                Some(session) => session.clone(),
                None => kept.insert(Arc::new(SftpSession::open(&self.address)?)).clone(),
            }
        };
        let done = self.runtime.block_on(work(&session));
        if done.as_ref().is_err_and(RemoteTrouble::is_transient) {
            let mut kept = self.lock();
            if kept.as_ref().is_some_and(|now| Arc::ptr_eq(now, &session)) {
                *kept = None;
            }
        }
        done
    }

    fn trouble(&self, path: &str, trouble: RemoteTrouble) -> PlaceError {
        let shown = if path.is_empty() { self.shown() } else { format!("{}/{path}", self.shown()) };
        PlaceError::Remote { shown, trouble }
    }
}

impl Backend for SftpBackend {
    fn shown(&self) -> String {
        self.address.shown()
    }

    fn list(&self, place: &str) -> Result<Listed, PlaceError> {
        let mut pause = PAUSE;
        for _ in 1..ATTEMPTS {
            match self.with_session(async |session| list::list(session, &self.address, place).await) {
                Err(RemoteTrouble::Lost(_)) => {}
                listed => return listed.map_err(|trouble| self.trouble("", trouble)),
            }
            std::thread::sleep(pause);
            pause *= 2;
        }
        self.with_session(async |session| list::list(session, &self.address, place).await)
            .map_err(|trouble| self.trouble("", trouble))
    }

    fn relocate(&self, arrival: &Arrival, _: &Path, to: &str) -> Result<bool, PlaceError> {
        let moved = self.with_session(async |session| {
            let whole = |path: &str| list::whole(&self.address, path);
            if session.sftp.stat(whole(to)).await.is_ok() {
                return Ok(false);
            }
            // The folders it goes into, one in another; those that are there say so.
            for (at, _) in to.match_indices('/') {
                let attributes = russh_sftp::protocol::FileAttributes::empty();
                let _ = session.sftp.mkdir(whole(&to[..at]), attributes).await;
            }
            session.sftp.rename(whole(&arrival.path), whole(to)).await.map_err(list::in_words)?;
            Ok(true)
        });
        moved.map_err(|trouble| self.trouble(&arrival.path, trouble))
    }

    fn fetch(&self, arrival: &Arrival, to: &Path, is_left_over: bool) -> Result<(), RemoteTrouble> {
        self.with_session(async |session| {
            fetch::fetch(session, &self.address, arrival, to, is_left_over).await
        })
    }

    fn identity(&self) -> Option<&dyn Identity> {
        Some(self)
    }
}

impl Identity for SftpBackend {
    fn shown_key(&self) -> Result<ShownKey, RemoteTrouble> {
        host::shown(&SftpSession::key_of(&self.address)?)
    }

    fn trust(&self, key: &ShownKey) -> Result<PathBuf, RemoteTrouble> {
        host::learn(&self.address, key)
    }
}
