//! A place on a server: its files fetched to the spool ahead of being read, several at a time.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, OnceLock};
use std::time::Duration;

use hypodoke_core::arrival::Arrival;
use tokio::runtime::Runtime;

use super::list::RemoteListing;
use super::{Session, SftpAddress, fetch, list, runtime};
use crate::error::{PlaceError, RemoteTrouble};

/// How many files are fetched at a time.
const AT_A_TIME: usize = 16;

/// How many files ahead of the one wanted are fetched.
const AHEAD: usize = 48;

/// How often a broken connection is made anew for one file, and the pause before the first time.
const ATTEMPTS: u32 = 5;
const PAUSE: Duration = Duration::from_millis(200);

/// Counts the spare folders of this process.
static SPARES: AtomicU32 = AtomicU32::new(0);

/// Where files of servers are kept while they are read, and how much room there is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Spool {
    /// The folder.
    pub folder: PathBuf,
    /// The most bytes in it.
    pub limit: u64,
}

/// A place on a server.
pub struct Remote {
    address: SftpAddress,
    place: String,
    spool: Spool,
    /// The folder of the spool that is ours alone, once it was needed.
    room: OnceLock<Room>,
    runtime: &'static Runtime,
    state: Mutex<State>,
    changed: Condvar,
}

#[derive(Default)]
struct State {
    session: Option<Arc<Session>>,
    /// The files that will be wanted, in that order, and the place of each by its path.
    queue: Vec<Arrival>,
    places: HashMap<String, usize>,
    /// Those of them that nobody reads any more.
    done: HashSet<usize>,
    slots: HashMap<String, Slot>,
    /// Bytes in the spool, or on their way to it.
    held: u64,
    /// Counts up: the slot used last has the highest.
    clock: u64,
    running: usize,
    /// The server is away: what is asked for is not waited for, until it is listed again.
    away: Option<RemoteTrouble>,
}

/// A folder of the spool with the lock that keeps other processes out of it: two that wrote to one
/// file would leave holes in it that nobody sees.
struct Room {
    folder: PathBuf,
    /// It goes with its owner: another process has the place's own.
    is_spare: bool,
    _lock: Option<File>,
}

/// A file on its way.
struct Slot {
    bytes: u64,
    stage: Stage,
    used: u64,
    /// How many read it now: it stays as long as anybody does.
    pins: u32,
}

/// Keeps a file in the spool as long as it is read.
#[derive(Debug)]
pub struct Pin {
    remote: Arc<Remote>,
    path: String,
}

impl Drop for Pin {
    fn drop(&mut self) {
        let mut state = self.remote.lock();
        if let Some(slot) = state.slots.get_mut(&self.path) {
            slot.pins = slot.pins.saturating_sub(1);
        }
        drop(state);
        self.remote.changed.notify_all();
    }
}

enum Stage {
    Running,
    Ready,
    Failed(RemoteTrouble),
}

impl std::fmt::Debug for Remote {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("Remote").field(&self.address.shown()).finish()
    }
}

impl Remote {
    /// A place that is not connected to yet.
    pub fn new(address: SftpAddress, place: &str, spool: &Spool) -> Result<Arc<Remote>, PlaceError> {
        let other = |error: std::io::Error| PlaceError::Remote {
            shown: address.shown(),
            trouble: RemoteTrouble::Other(error.to_string()),
        };
        let runtime = runtime().map_err(other)?;
        let folder = spool.folder.join(safe(place));
        let spool = Spool { folder, limit: spool.limit };
        let (state, changed) = (Mutex::default(), Condvar::new());
        let room = OnceLock::new();
        Ok(Arc::new(Remote { address, place: place.to_owned(), spool, room, runtime, state, changed }))
    }

    /// Our folder of the spool: the place's own, or a spare one while another process has that.
    fn folder(&self) -> &Path {
        let room = self.room.get_or_init(|| {
            let own = &self.spool.folder;
            let lock = |folder: &Path| -> Option<File> {
                std::fs::create_dir_all(folder).ok()?;
                let file = File::create(folder.join(".lock")).ok()?;
                file.try_lock().ok().map(|()| file)
            };
            if let Some(file) = lock(own) {
                return Room { folder: own.clone(), is_spare: false, _lock: Some(file) };
            }
            let name = own.file_name().unwrap_or_default().to_string_lossy();
            let number = SPARES.fetch_add(1, Ordering::Relaxed);
            let spare = own.with_file_name(format!("{name}-{}-{number}", std::process::id()));
            // If it cannot be made, whoever writes to it is told why.
            let file = lock(&spare);
            Room { folder: spare, is_spare: true, _lock: file }
        });
        &room.folder
    }

    /// The server and its folder, for people.
    pub fn shown(&self) -> String {
        self.address.shown()
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|poisoned| poisoned.into_inner())
    }

    fn trouble(&self, path: &str, trouble: RemoteTrouble) -> PlaceError {
        let shown = if path.is_empty() { self.shown() } else { format!("{}/{path}", self.shown()) };
        PlaceError::Remote { shown, trouble }
    }

    /// Lists the files there are.
    pub fn list(self: &Arc<Remote>) -> Result<RemoteListing, PlaceError> {
        let listed = self.runtime.block_on(async {
            let mut pause = PAUSE;
            for attempt in 1.. {
                let mut used = None;
                let trouble = match self.session().await {
                    Ok(session) => {
                        let session = used.insert(session);
                        match list::list(session, &self.address, &self.place).await {
                            Ok(listing) => return Ok(listing),
                            Err(trouble) => trouble,
                        }
                    }
                    Err(trouble) => trouble,
                };
                if !matches!(trouble, RemoteTrouble::Lost(_)) || attempt >= ATTEMPTS {
                    return Err(trouble);
                }
                self.forget_session(used.as_ref());
                tokio::time::sleep(pause).await;
                pause *= 2;
            }
            Err(RemoteTrouble::Silent)
        });
        listed.map_err(|trouble| self.trouble("", trouble))
    }

    /// Where a file of this size and time is, once it is fetched.
    pub fn local(&self, arrival: &Arrival) -> PathBuf {
        let identity = format!("{}\0{}\0{}", arrival.path, arrival.bytes, arrival.modified);
        let hash = blake3::hash(identity.as_bytes()).to_hex();
        let name = arrival.path.rsplit('/').next().unwrap_or("file");
        self.folder().join(format!("{}-{}", &hash[..16], safe(name)))
    }

    /// Says which files will be wanted, in which order.
    pub fn expect(&self, arrivals: Vec<Arrival>) {
        let mut state = self.lock();
        state.places = arrivals.iter().enumerate().map(|(at, arrival)| (arrival.path.clone(), at)).collect();
        state.queue = arrivals;
        state.done.clear();
        state.away = None;
    }

    /// Waits until a file is in the spool, and keeps it there as long as the pin is held. Nobody
    /// waits for one file while he holds the pin of another.
    pub fn want(self: &Arc<Remote>, arrival: &Arrival) -> Result<Pin, PlaceError> {
        let failed = |trouble: RemoteTrouble| self.trouble(&arrival.path, trouble);
        std::fs::create_dir_all(self.folder()).map_err(|error| {
            failed(RemoteTrouble::Spool { path: self.folder().to_path_buf(), why: error.to_string() })
        })?;
        let mut state = self.lock();
        loop {
            state.clock += 1;
            let clock = state.clock;
            match state.slots.get_mut(&arrival.path) {
                Some(Slot { stage: Stage::Ready, used, pins, .. }) => {
                    *used = clock;
                    *pins += 1;
                    self.fetch_ahead(&mut state, arrival);
                    return Ok(Pin { remote: self.clone(), path: arrival.path.clone() });
                }
                Some(Slot { stage: Stage::Failed(trouble), .. }) => {
                    let trouble = trouble.clone();
                    // Whoever asks again, asks anew.
                    state.slots.remove(&arrival.path);
                    return Err(failed(trouble));
                }
                Some(Slot { stage: Stage::Running, .. }) => {
                    state = self.changed.wait(state).unwrap_or_else(|poisoned| poisoned.into_inner());
                }
                None => {
                    if arrival.bytes > self.spool.limit {
                        let (bytes, limit) = (arrival.bytes, self.spool.limit);
                        return Err(failed(RemoteTrouble::TooLarge { bytes, limit }));
                    }
                    if !self.make_room(&mut state, arrival.bytes) {
                        // Others are on their way or being read: they make room when they are done.
                        state = self.changed.wait(state).unwrap_or_else(|poisoned| poisoned.into_inner());
                        continue;
                    }
                    self.begin(&mut state, arrival.clone());
                    self.fetch_ahead(&mut state, arrival);
                }
            }
        }
    }

    /// Begins to fetch what comes after a file, as far as there is room.
    fn fetch_ahead(self: &Arc<Remote>, state: &mut State, after: &Arrival) {
        let Some(at) = state.places.get(&after.path).copied() else { return };
        for next in at + 1..(at + 1 + AHEAD).min(state.queue.len()) {
            let arrival = &state.queue[next];
            if state.running >= AT_A_TIME || state.held + arrival.bytes > self.spool.limit {
                return;
            }
            if !state.slots.contains_key(&arrival.path) && !state.done.contains(&next) {
                let arrival = arrival.clone();
                self.begin(state, arrival);
            }
        }
    }

    /// Takes files out of the spool that nobody reads, those used longest ago first, until there is
    /// room; `false` if there is none yet.
    fn make_room(&self, state: &mut State, bytes: u64) -> bool {
        while state.held + bytes > self.spool.limit {
            let idle = |slot: &Slot| matches!(slot.stage, Stage::Ready) && slot.pins == 0;
            let ready = state.slots.iter().filter(|(_, slot)| idle(slot));
            let Some((path, _)) = ready.min_by_key(|(_, slot)| slot.used) else { return false };
            let path = path.clone();
            self.drop_file(state, &path);
        }
        true
    }

    fn drop_file(&self, state: &mut State, path: &str) {
        let Some(slot) = state.slots.remove(path) else { return };
        state.held = state.held.saturating_sub(slot.bytes);
        if let Some(at) = state.places.get(path) {
            let _ = std::fs::remove_file(self.local(&state.queue[*at]));
        }
    }

    /// Lets go of a file: nobody reads it any more.
    pub fn release(&self, arrival: &Arrival) {
        let mut state = self.lock();
        if let Some(Slot { stage: Stage::Ready, .. }) = state.slots.get(&arrival.path) {
            if let Some(at) = state.places.get(&arrival.path).copied() {
                state.done.insert(at);
            }
            let bytes = state.slots.remove(&arrival.path).map_or(0, |slot| slot.bytes);
            state.held = state.held.saturating_sub(bytes);
            let _ = std::fs::remove_file(self.local(arrival));
        }
        drop(state);
        self.changed.notify_all();
    }

    fn begin(self: &Arc<Remote>, state: &mut State, arrival: Arrival) {
        if let Some(trouble) = state.away.clone() {
            let slot = Slot { bytes: 0, stage: Stage::Failed(trouble), used: 0, pins: 0 };
            state.slots.insert(arrival.path, slot);
            return;
        }
        let slot = Slot { bytes: arrival.bytes, stage: Stage::Running, used: 0, pins: 0 };
        state.slots.insert(arrival.path.clone(), slot);
        state.held += arrival.bytes;
        state.running += 1;
        let remote = self.clone();
        self.runtime.spawn(async move {
            let came = remote.fetch_patiently(&arrival).await;
            let mut state = remote.lock();
            state.running -= 1;
            let bytes = arrival.bytes;
            if let Some(trouble) = came.as_ref().err().filter(|trouble| trouble.is_of_server()) {
                state.away = Some(trouble.clone());
            }
            if let Some(slot) = state.slots.get_mut(&arrival.path) {
                match came {
                    Ok(()) => slot.stage = Stage::Ready,
                    Err(trouble) => {
                        slot.stage = Stage::Failed(trouble);
                        slot.bytes = 0;
                        state.held = state.held.saturating_sub(bytes);
                    }
                }
            }
            // The next takes its turn without being asked for.
            remote.fetch_ahead(&mut state, &arrival);
            drop(state);
            remote.changed.notify_all();
        });
    }

    async fn fetch_patiently(&self, arrival: &Arrival) -> Result<(), RemoteTrouble> {
        let local = self.local(arrival);
        let whole = || std::fs::metadata(&local).is_ok_and(|about| about.len() == arrival.bytes);
        if arrival.bytes >= fetch::SETTLED && whole() {
            // It was fetched whole before, by a run that did not come to load it. Of small files
            // nobody made sure that they are on the disk; they are fetched again.
            return Ok(());
        }
        let part = local.with_extension("part");
        let mut pause = PAUSE;
        for attempt in 1.. {
            let mut used = None;
            let came = match self.session().await {
                Ok(session) => {
                    let session = used.insert(session);
                    fetch::fetch(session, &self.address, arrival, &part, attempt == 1).await
                }
                Err(trouble) => Err(trouble),
            };
            match came {
                Ok(()) => break,
                Err(trouble) if trouble.is_transient() && attempt < ATTEMPTS => {
                    self.forget_session(used.as_ref());
                    tokio::time::sleep(pause).await;
                    pause *= 2;
                }
                Err(trouble) => {
                    if matches!(trouble, RemoteTrouble::Changed) {
                        let _ = std::fs::remove_file(&part);
                    }
                    return Err(match trouble {
                        RemoteTrouble::Other(words) => RemoteTrouble::Unread(words),
                        other => other,
                    });
                }
            }
        }
        let failed =
            |error: std::io::Error| RemoteTrouble::Spool { path: local.clone(), why: error.to_string() };
        let there = std::fs::metadata(&part).map_err(failed)?.len();
        if there != arrival.bytes {
            let _ = std::fs::remove_file(&part);
            return Err(RemoteTrouble::Changed);
        }
        std::fs::rename(&part, &local).map_err(failed)
    }

    /// The connection, made if there is none.
    async fn session(&self) -> Result<Arc<Session>, RemoteTrouble> {
        if let Some(session) = self.lock().session.clone() {
            return Ok(session);
        }
        let made = Arc::new(Session::connect(&self.address).await?);
        let mut state = self.lock();
        // Somebody may have been quicker: one connection is enough.
        Ok(state.session.get_or_insert(made).clone())
    }

    /// Lets go of a connection that is broken, unless another has taken its place already.
    fn forget_session(&self, broken: Option<&Arc<Session>>) {
        let mut state = self.lock();
        if let (Some(now), Some(broken)) = (&state.session, broken)
            && Arc::ptr_eq(now, broken)
        {
            state.session = None;
        }
    }

    /// Moves a file within the place; `false` if the name is taken.
    pub fn rename(&self, from: &str, to: &str) -> Result<bool, PlaceError> {
        let moved = self.runtime.block_on(async {
            let session = self.session().await?;
            let whole = |path: &str| list::whole(&self.address, path);
            if session.sftp.stat(whole(to)).await.is_ok() {
                return Ok(false);
            }
            // The folders it goes into, one in another; those that are there say so.
            for (at, _) in to.match_indices('/') {
                let attributes = russh_sftp::protocol::FileAttributes::empty();
                let _ = session.sftp.mkdir(whole(&to[..at]), attributes).await;
            }
            session.sftp.rename(whole(from), whole(to)).await.map_err(list::in_words)?;
            Ok(true)
        });
        moved.map_err(|trouble| self.trouble(from, trouble))
    }

    /// Takes out of the spool what earlier runs left of files that nobody will ask for.
    pub fn dismiss(&self, arrivals: &[Arrival]) {
        let Ok(entries) = std::fs::read_dir(self.folder()) else { return };
        let left: HashSet<PathBuf> = entries.flatten().map(|entry| entry.path()).collect();
        if left.len() <= 1 {
            return;
        }
        for arrival in arrivals {
            let file = self.local(arrival);
            for file in [file.with_extension("part"), file].iter().filter(|file| left.contains(*file)) {
                let _ = std::fs::remove_file(file);
            }
        }
    }

    /// Takes out of the spool what earlier runs left in it and nobody will ask for.
    pub fn clean(&self, listed: &[Arrival]) {
        let local = listed.iter().map(|arrival| self.local(arrival));
        let wanted: HashSet<PathBuf> = local.flat_map(|file| [file.with_extension("part"), file]).collect();
        let Ok(entries) = std::fs::read_dir(self.folder()) else { return };
        for entry in entries.flatten() {
            let path = entry.path();
            let is_lock = entry.file_name() == ".lock";
            if !is_lock && !wanted.contains(&path) {
                let _ = std::fs::remove_file(path);
            }
        }
    }
}

impl Drop for Remote {
    fn drop(&mut self) {
        if let Some(room) = self.room.get().filter(|room| room.is_spare) {
            let _ = std::fs::remove_dir_all(&room.folder);
        }
    }
}

/// A name that is one in every file system.
fn safe(name: &str) -> String {
    let plain = |c: char| if c.is_ascii_alphanumeric() || ".-_".contains(c) { c } else { '_' };
    let name: String = name.chars().map(plain).collect();
    let start = name.len().saturating_sub(80);
    name[start..].to_owned()
}

impl Spool {
    /// Whether a file is one of the spool's.
    pub fn holds(&self, file: &Path) -> bool {
        file.starts_with(&self.folder)
    }
}
