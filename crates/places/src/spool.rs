//! The spool of a remote place: its files fetched ahead of being read, several at a time.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, OnceLock, PoisonError, Weak};
use std::time::{Duration, Instant};

use hypodoke_core::arrival::Arrival;
use hypodoke_core::isolate::helping;

use crate::backend::Backend;
use crate::error::{PlaceError, RemoteTrouble};
use crate::memory_file::MemoryFile;
use crate::private::private_folder;

/// How many files are fetched at a time.
const AT_A_TIME: usize = 16;

/// How many files ahead of the one wanted are fetched.
const AHEAD: usize = 48;

/// How often one file is tried while the trouble is one that passes, and the first pause.
pub(crate) const ATTEMPTS: u32 = 5;
const PAUSE: Duration = Duration::from_millis(200);

/// How many bytes a backend makes sure to be on the disk at a time: what an earlier run left is
/// trusted up to the last whole lot of them.
pub const DURABLE: u64 = 64 << 20;

/// Files of up to so many bytes are held in memory, where a place reads them so, and how many bytes of them.
const SMALL: u64 = 1 << 20;
const MOST_IN_MEMORY: u64 = 64 << 20;

/// Counts the spare folders of this process.
static SPARES: AtomicU32 = AtomicU32::new(0);

/// Where fetched files are kept while they are read, and how much room there is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SpoolSettings {
    /// The folder.
    pub folder: PathBuf,
    /// The most bytes in it.
    pub limit: u64,
}

/// The spool of one place.
#[derive(Debug)]
pub struct Spool {
    backend: Arc<dyn Backend>,
    settings: SpoolSettings,
    /// The folder of the spool that is ours alone, once it was needed.
    room: OnceLock<Room>,
    state: Mutex<State>,
    changed: Condvar,
}

#[derive(Debug, Default)]
pub(crate) struct State {
    /// The files that will be wanted, in that order, and the place of each by its path.
    queue: Vec<Arrival>,
    places: HashMap<String, usize>,
    /// Those of them that nobody reads any more.
    done: HashSet<usize>,
    slots: HashMap<String, Slot>,
    /// Bytes in the spool, or on their way to it.
    held: u64,
    /// Those of them that are in memory.
    pub(crate) in_memory: u64,
    /// Counts up: the slot used last has the highest.
    clock: u64,
    running: usize,
    /// The place is unreachable: what is asked for is not waited for, until it is listed again.
    unreachable: Option<RemoteTrouble>,
}

/// A folder of the spool with the lock that keeps other processes out of it: two that wrote to one
/// file would leave holes in it that nobody sees.
#[derive(Debug)]
struct Room {
    folder: PathBuf,
    /// It goes with its owner: another process has the place's own.
    is_spare: bool,
    _lock: Option<File>,
}

/// A file on its way.
#[derive(Debug)]
struct Slot {
    bytes: u64,
    stage: Stage,
    used: u64,
    /// How many read it now: it stays as long as anybody does.
    pins: u32,
}

/// A file that is in memory alone.
#[derive(Debug)]
struct InMemory {
    bytes: Arc<[u8]>,
    /// The file that it is opened as, as long as anybody reads it: all who do read the same.
    file: Weak<MemoryFile>,
}

impl InMemory {
    /// The file that it is opened as; `None` where the system has no such files.
    fn file(&mut self) -> Option<Arc<MemoryFile>> {
        if let Some(file) = self.file.upgrade() {
            return Some(file);
        }
        let file = Arc::new(MemoryFile::of(&self.bytes)?);
        self.file = Arc::downgrade(&file);
        Some(file)
    }
}

impl Slot {
    fn is_in_memory(&self) -> bool {
        matches!(self.stage, Stage::Ready(Some(_)))
    }
}

impl State {
    /// A file is taken out of the spool.
    fn let_go(&mut self, slot: &Slot) {
        self.held = self.held.saturating_sub(slot.bytes);
        if slot.is_in_memory() {
            self.in_memory = self.in_memory.saturating_sub(slot.bytes);
        }
    }
}

#[derive(Debug)]
enum Stage {
    Running,
    /// It is in the folder, or held in memory.
    Ready(Option<InMemory>),
    Failed(RemoteTrouble),
}

/// Keeps a file in the spool as long as it is read.
#[derive(Debug)]
pub struct Pin {
    spool: Arc<Spool>,
    path: String,
    memory: Option<Arc<MemoryFile>>,
}

impl Pin {
    /// Where the file can be opened, if it is held in memory.
    pub fn in_memory(&self) -> Option<PathBuf> {
        self.memory.as_ref().map(|file| file.path())
    }
}

impl Drop for Pin {
    fn drop(&mut self) {
        let mut state = self.spool.lock();
        if let Some(slot) = state.slots.get_mut(&self.path) {
            slot.pins = slot.pins.saturating_sub(1);
        }
        drop(state);
        self.spool.changed.notify_all();
    }
}

impl Spool {
    /// The spool of a place, in a folder of its own within that of the settings.
    pub fn new(backend: Arc<dyn Backend>, place: &str, settings: &SpoolSettings) -> Arc<Spool> {
        let settings = SpoolSettings { folder: settings.folder.join(safe(place)), limit: settings.limit };
        let (room, state, changed) = (OnceLock::new(), Mutex::default(), Condvar::new());
        Arc::new(Spool { backend, settings, room, state, changed })
    }

    /// Our folder of the spool: the place's own, or a spare one while another process has that.
    pub(crate) fn folder(&self) -> &Path {
        let room = self.room.get_or_init(|| {
            let own = &self.settings.folder;
            let lock = |folder: &Path| -> Option<File> {
                private_folder(folder).ok()?;
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

    pub(crate) fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn wait<'s>(&self, state: MutexGuard<'s, State>) -> MutexGuard<'s, State> {
        self.changed.wait(state).unwrap_or_else(PoisonError::into_inner)
    }

    /// Where a file of this version is, once it is fetched.
    pub fn local(&self, arrival: &Arrival) -> PathBuf {
        let token = arrival.token.as_deref().map(|token| format!("\0{token}")).unwrap_or_default();
        let identity = format!("{}\0{}\0{}{token}", arrival.path, arrival.bytes, arrival.modified);
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
        state.unreachable = None;
    }

    /// Waits until a file is in the spool, and keeps it there as long as the pin is held. Nobody
    /// waits for one file while he holds the pin of another.
    pub fn want(self: &Arc<Spool>, arrival: &Arrival) -> Result<Pin, PlaceError> {
        let failed = |trouble: RemoteTrouble| {
            let shown = format!("{}/{}", self.backend.shown(), arrival.path);
            PlaceError::Remote { shown, trouble }
        };
        private_folder(self.folder()).map_err(|error| {
            failed(RemoteTrouble::Spool { path: self.folder().to_path_buf(), why: error.to_string() })
        })?;
        let mut state = self.lock();
        loop {
            state.clock += 1;
            let clock = state.clock;
            match state.slots.get_mut(&arrival.path) {
                Some(Slot { stage: Stage::Ready(held), used, pins, .. }) => {
                    *used = clock;
                    *pins += 1;
                    let (mut memory, mut bytes) = (None, None);
                    if let Some(held) = held {
                        memory = held.file();
                        bytes = memory.is_none().then(|| held.bytes.clone());
                    }
                    self.fetch_ahead(&mut state, arrival);
                    drop(state);
                    let pin = Pin { spool: self.clone(), path: arrival.path.clone(), memory };
                    if let Some(bytes) = bytes {
                        let path = self.local(arrival);
                        std::fs::write(&path, bytes)
                            .map_err(|error| failed(RemoteTrouble::Spool { path, why: error.to_string() }))?;
                    }
                    return Ok(pin);
                }
                Some(Slot { stage: Stage::Failed(trouble), .. }) => {
                    let trouble = trouble.clone();
                    // Whoever asks again, asks anew.
                    state.slots.remove(&arrival.path);
                    return Err(failed(trouble));
                }
                Some(Slot { stage: Stage::Running, .. }) => state = self.wait(state),
                None => {
                    let (bytes, limit) = (arrival.bytes, self.settings.limit);
                    if bytes > limit {
                        return Err(failed(RemoteTrouble::TooLarge { bytes, limit }));
                    }
                    if !self.make_room(&mut state, bytes) {
                        // Others are on their way or being read: they make room when they are done.
                        state = self.wait(state);
                        continue;
                    }
                    self.begin(&mut state, arrival.clone());
                    self.fetch_ahead(&mut state, arrival);
                }
            }
        }
    }

    /// Waits no longer than this until a file is in the spool, or is known not to come; whether it is so then.
    /// What nobody has begun to fetch is begun.
    pub fn is_at_hand(self: &Arc<Spool>, arrival: &Arrival, within: Duration) -> bool {
        let until = Instant::now() + within;
        let mut state = self.lock();
        loop {
            match state.slots.get(&arrival.path).map(|slot| &slot.stage) {
                Some(Stage::Ready(_) | Stage::Failed(_)) => return true,
                Some(Stage::Running) => {}
                None => {
                    let fits = state.held + arrival.bytes <= self.settings.limit;
                    if !fits || private_folder(self.folder()).is_err() {
                        return false;
                    }
                    self.begin(&mut state, arrival.clone());
                    self.fetch_ahead(&mut state, arrival);
                }
            }
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return false;
            }
            let woken = self.changed.wait_timeout(state, left);
            state = woken.unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    /// Begins to fetch what comes after a file, as far as there is room.
    fn fetch_ahead(self: &Arc<Spool>, state: &mut State, after: &Arrival) {
        let Some(at) = state.places.get(&after.path).copied() else { return };
        for next in at + 1..(at + 1 + AHEAD).min(state.queue.len()) {
            let Some(arrival) = state.queue.get(next).cloned() else { return };
            if state.running >= AT_A_TIME || state.held + arrival.bytes > self.settings.limit {
                return;
            }
            if !state.slots.contains_key(&arrival.path) && !state.done.contains(&next) {
                self.begin(state, arrival);
            }
        }
    }

    /// Takes files out of the spool that nobody reads, those used longest ago first, until there is
    /// room; `false` if there is none yet.
    fn make_room(&self, state: &mut State, bytes: u64) -> bool {
        while state.held + bytes > self.settings.limit {
            let is_idle = |slot: &Slot| matches!(slot.stage, Stage::Ready(_)) && slot.pins == 0;
            let ready = state.slots.iter().filter(|(_, slot)| is_idle(slot));
            let Some((path, _)) = ready.min_by_key(|(_, slot)| slot.used) else { return false };
            let path = path.clone();
            self.drop_file(state, &path);
        }
        true
    }

    fn drop_file(&self, state: &mut State, path: &str) {
        let Some(slot) = state.slots.remove(path) else { return };
        state.let_go(&slot);
        if let Some(arrival) = state.places.get(path).and_then(|at| state.queue.get(*at)) {
            let _ = std::fs::remove_file(self.local(arrival));
        }
    }

    /// Lets go of a file: it is no longer read.
    pub fn release(&self, arrival: &Arrival) {
        let mut state = self.lock();
        if let Some(Slot { stage: Stage::Ready(_), .. }) = state.slots.get(&arrival.path) {
            if let Some(at) = state.places.get(&arrival.path).copied() {
                state.done.insert(at);
            }
            let slot = state.slots.remove(&arrival.path);
            slot.iter().for_each(|slot| state.let_go(slot));
            if slot.is_some_and(|slot| !slot.is_in_memory()) {
                let _ = std::fs::remove_file(self.local(arrival));
            }
        }
        drop(state);
        self.changed.notify_all();
    }

    fn begin(self: &Arc<Spool>, state: &mut State, arrival: Arrival) {
        if let Some(trouble) = state.unreachable.clone() {
            let slot = Slot { bytes: 0, stage: Stage::Failed(trouble), used: 0, pins: 0 };
            state.slots.insert(arrival.path, slot);
            return;
        }
        let slot = Slot { bytes: arrival.bytes, stage: Stage::Running, used: 0, pins: 0 };
        state.slots.insert(arrival.path.clone(), slot);
        state.held += arrival.bytes;
        state.running += 1;
        let (spool, path, bytes) = (self.clone(), arrival.path.clone(), arrival.bytes);
        let spawned = std::thread::Builder::new().spawn(move || {
            let work = std::panic::AssertUnwindSafe(|| spool.fetch(&arrival));
            let came = helping(|| std::panic::catch_unwind(work));
            let came =
                came.unwrap_or_else(|_| Err(RemoteTrouble::Unread("fetching it failed unexpectedly".into())));
            spool.came(&arrival, came);
        });
        if let Err(error) = spawned {
            let trouble = RemoteTrouble::Spool { path: self.settings.folder.clone(), why: error.to_string() };
            let slot = Slot { bytes: 0, stage: Stage::Failed(trouble), used: 0, pins: 0 };
            state.slots.insert(path, slot);
            state.held = state.held.saturating_sub(bytes);
            state.running -= 1;
        }
    }

    /// A file is there, or could not be fetched: whoever waits for it is told, and the next takes its
    /// turn.
    fn came(self: &Arc<Spool>, arrival: &Arrival, came: Result<Option<Vec<u8>>, RemoteTrouble>) {
        let mut state = self.lock();
        state.running -= 1;
        if let Some(trouble) = came.as_ref().err().filter(|trouble| trouble.is_of_server()) {
            state.unreachable = Some(trouble.clone());
        }
        let in_memory = came.as_ref().ok().and_then(Option::as_ref).map_or(0, |bytes| bytes.len() as u64);
        state.in_memory += in_memory;
        if let Some(slot) = state.slots.get_mut(&arrival.path) {
            match came {
                Ok(bytes) => {
                    let held = |bytes: Vec<u8>| InMemory { bytes: bytes.into(), file: Weak::new() };
                    slot.stage = Stage::Ready(bytes.map(held));
                }
                Err(trouble) => {
                    slot.stage = Stage::Failed(trouble);
                    slot.bytes = 0;
                    state.held = state.held.saturating_sub(arrival.bytes);
                }
            }
        }
        self.fetch_ahead(&mut state, arrival);
        drop(state);
        self.changed.notify_all();
    }

    /// Fetches a file into memory where it is small, else into the folder.
    fn fetch(&self, arrival: &Arrival) -> Result<Option<Vec<u8>>, RemoteTrouble> {
        // An archive is opened again and again by its path, which has to stay the same.
        let is_archive = arrival.path.to_lowercase().ends_with(".zip");
        let has_room = || self.lock().in_memory + arrival.bytes <= MOST_IN_MEMORY;
        if arrival.bytes <= SMALL && !is_archive && has_room() {
            let read = with_retries(|_| match self.backend.read(arrival) {
                None => Ok(None),
                Some(Ok(bytes)) if bytes.len() as u64 != arrival.bytes => Err(RemoteTrouble::Changed),
                Some(Ok(bytes)) => Ok(Some(bytes)),
                Some(Err(trouble)) => Err(trouble),
            });
            if let Some(bytes) = read? {
                return Ok(Some(bytes));
            }
        }
        self.fetch_to_folder(arrival).map(|()| None)
    }

    fn fetch_to_folder(&self, arrival: &Arrival) -> Result<(), RemoteTrouble> {
        let local = self.local(arrival);
        let is_whole = || std::fs::metadata(&local).is_ok_and(|about| about.len() == arrival.bytes);
        if arrival.bytes >= DURABLE && is_whole() {
            // It was fetched whole before, by a run that did not come to load it. Of small files
            // nobody made sure that they are on the disk; they are fetched again.
            return Ok(());
        }
        let part = local.with_extension("part");
        let fetched = with_retries(|attempt| self.backend.fetch(arrival, &part, attempt == 1));
        if matches!(fetched, Err(RemoteTrouble::Changed | RemoteTrouble::Misstated | RemoteTrouble::Page)) {
            let _ = std::fs::remove_file(&part);
        }
        fetched?;
        let failed =
            |error: std::io::Error| RemoteTrouble::Spool { path: local.clone(), why: error.to_string() };
        let there = std::fs::metadata(&part).map_err(failed)?.len();
        if there != arrival.bytes {
            let _ = std::fs::remove_file(&part);
            return Err(RemoteTrouble::Changed);
        }
        std::fs::rename(&part, &local).map_err(failed)
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

    /// Takes out of the spool what earlier runs left of files that are not there any more.
    pub fn clean<'a>(&self, listed: impl Iterator<Item = &'a Arrival>) {
        let local = listed.map(|arrival| self.local(arrival));
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

impl Drop for Spool {
    fn drop(&mut self) {
        if let Some(room) = self.room.get().filter(|room| room.is_spare) {
            let _ = std::fs::remove_dir_all(&room.folder);
        }
    }
}

/// Does something until it is done, or the trouble is one that does not pass.
fn with_retries<T>(mut work: impl FnMut(u32) -> Result<T, RemoteTrouble>) -> Result<T, RemoteTrouble> {
    let (mut attempt, mut pause) = (1, PAUSE);
    loop {
        match work(attempt) {
            Err(trouble) if trouble.is_transient() && attempt < ATTEMPTS => {
                std::thread::sleep(pause);
                (attempt, pause) = (attempt + 1, pause * 2);
            }
            // What it is about one file that the other side says, it says of that file alone.
            Err(RemoteTrouble::Other(words)) => return Err(RemoteTrouble::Unread(words)),
            done => return done,
        }
    }
}

/// A name that is one in every file system.
fn safe(name: &str) -> String {
    let is_plain = |c: char| c.is_ascii_alphanumeric() || ".-_".contains(c);
    let name: String = name.chars().map(|c| if is_plain(c) { c } else { '_' }).collect();
    let start = name.len().saturating_sub(80);
    name.get(start..).unwrap_or_default().to_owned()
}
