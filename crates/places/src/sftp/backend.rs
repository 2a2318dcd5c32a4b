//! A folder on a server as a place.

use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use hypodoke_core::arrival::Arrival;
use hypodoke_runtime::{BlockingRuntime, runtime};

use super::address::SftpAddress;
use super::connect::SftpSession;
use super::{fetch, host, list};
use crate::backend::{Backend, Identity, ListRequest, Listed, ShownKey};
use crate::error::{PlaceError, RemoteTrouble};

/// How often a broken connection is made anew for a listing, and the pause before the first time.
const ATTEMPTS: u32 = 5;
const PAUSE: Duration = Duration::from_millis(200);

/// A folder on a server. One connection serves all that is asked of it.
pub struct SftpBackend {
    address: SftpAddress,
    runtime: &'static BlockingRuntime,
    connection: Mutex<Connection>,
    /// How many attempts to connect have failed.
    failures: AtomicU64,
}

/// The connection to the server, as far as it stands.
#[derive(Default)]
struct Connection {
    session: Option<Arc<SftpSession>>,
    /// Why the last attempt failed.
    trouble: Option<RemoteTrouble>,
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
        Ok(SftpBackend { address, runtime, connection: Mutex::default(), failures: AtomicU64::new(0) })
    }

    fn lock(&self) -> MutexGuard<'_, Connection> {
        self.connection.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The connection, made if there is none. Whoever comes while it is being made waits for it, and
    /// shares what becomes of it: a silent server is waited for once, not once for each file.
    fn session(&self) -> Result<Arc<SftpSession>, RemoteTrouble> {
        let failures = self.failures.load(Ordering::SeqCst);
        let mut connection = self.lock();
        if let Some(session) = &connection.session {
            return Ok(session.clone());
        }
        if let Some(trouble) = &connection.trouble
            && self.failures.load(Ordering::SeqCst) != failures
        {
            return Err(trouble.clone());
        }
        match SftpSession::open(&self.address) {
            Ok(session) => Ok(connection.session.insert(Arc::new(session)).clone()),
            Err(trouble) => {
                connection.trouble = Some(trouble.clone());
                self.failures.fetch_add(1, Ordering::SeqCst);
                Err(trouble)
            }
        }
    }

    /// Does something over the connection, which is made if there is none, and let go of if it broke.
    fn with_session<T>(
        &self,
        work: impl AsyncFnOnce(&SftpSession) -> Result<T, RemoteTrouble>,
    ) -> Result<T, RemoteTrouble> {
        let session = self.session()?;
        let done = self.runtime.block_on(work(&session));
        if done.as_ref().is_err_and(RemoteTrouble::is_transient) {
            self.lock().session.take_if(|now| Arc::ptr_eq(now, &session));
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

    fn list(&self, request: &ListRequest<'_>) -> Result<Listed, PlaceError> {
        let (mut attempt, mut pause) = (1, PAUSE);
        loop {
            let listed = self.with_session(async |session| list::list(session, &self.address, request).await);
            if attempt >= ATTEMPTS || !matches!(listed, Err(RemoteTrouble::Lost(_))) {
                return listed.map_err(|trouble| self.trouble("", trouble));
            }
            std::thread::sleep(pause);
            (attempt, pause) = (attempt + 1, pause * 2);
        }
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
            let version = async |path: &str| session.sftp.stat(whole(path)).await.map_err(list::in_words);
            if !fetch::is_version(&version(&arrival.path).await?.attrs, arrival) {
                return Err(RemoteTrouble::Changed);
            }
            session.sftp.rename(whole(&arrival.path), whole(to)).await.map_err(list::in_words)?;
            if fetch::is_version(&version(to).await?.attrs, arrival) {
                return Ok(true);
            }
            // It was sent again between the two looks at it: the new version is an arrival, and goes back
            // unless one is there that is newer still.
            session.sftp.rename(whole(to), whole(&arrival.path)).await.map_err(list::in_words)?;
            Err(RemoteTrouble::Changed)
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

#[cfg(test)]
mod tests {
    use std::net::TcpListener;
    use std::sync::Barrier;
    use std::sync::atomic::AtomicUsize;

    use super::*;

    #[test]
    fn those_who_wait_for_a_connection_share_what_becomes_of_it() {
        const MANY: usize = 8;
        // A server that takes connections and never says a word.
        let silent = TcpListener::bind("127.0.0.1:0").expect("a port");
        let port = silent.local_addr().expect("an address").port();
        let taken: &'static AtomicUsize = Box::leak(Box::default());
        std::thread::spawn(move || {
            let mut kept = Vec::new();
            for stream in silent.incoming() {
                taken.fetch_add(1, Ordering::SeqCst);
                kept.push(stream);
            }
        });
        let mut address =
            SftpAddress::parse(&format!("sftp://clerk@127.0.0.1:{port}/out")).expect("an address");
        address.wait = Duration::from_secs(2);
        let backend = SftpBackend::new(address).expect("a backend");
        let ready = Barrier::new(MANY);
        std::thread::scope(|scope| {
            for at in 0..MANY {
                let (backend, ready) = (&backend, &ready);
                scope.spawn(move || {
                    ready.wait();
                    let arrival = Arrival { path: format!("{at}.csv"), ..Arrival::default() };
                    let trouble =
                        backend.fetch(&arrival, Path::new("/nowhere"), false).expect_err("no answer");
                    assert!(trouble.is_transient(), "{trouble}");
                });
            }
        });
        assert!(taken.load(Ordering::SeqCst) < MANY, "each of them made a connection of its own");
    }
}
