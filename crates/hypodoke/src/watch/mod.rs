//! Watching: every feed on a thread of its own, loaded as files arrive and by the clock.
//!
//! [`scheduler`] says when, [`feed_worker`] does a round, [`status`] keeps what became of it, and [`serve`]
//! tells it to whoever asks. A feed is looked after by one process at a time, on however many
//! machines; what waits for a server that does not answer is its own thread only.

pub mod answer;
mod feed_worker;
mod file_watcher;
mod outages;
mod reload;
mod retries;
mod scheduler;
pub mod serve;
pub mod status;
pub mod unit;

use std::collections::HashSet;
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use hypodoke_stores::StoreUrl;
use tracing::{error, info, warn};

use crate::connections::KeptConnections;
use crate::exit;
use crate::failure::Failure;
use crate::notifications::{self, Notification};
use crate::settings::{FeedSettings, PlaceSettings, Settings};
use feed_worker::{FeedWorker, WorkerContext};
use file_watcher::FileSystemWatcher;
use hypodoke_engine::batch::StopSignal;
use outages::Outages;
use reload::Reload;
use scheduler::{MachineClock, Scheduler, Task, Wakeup};
use status::Status;

/// A place on a server is looked at so often, unless it says otherwise.
const POLL_SERVER: Duration = Duration::from_secs(60);

/// A folder of which notices come is looked at so often, should one be lost.
const POLL_FOLDER: Duration = Duration::from_secs(60);

/// A folder of which none come.
const POLL_DEAF_FOLDER: Duration = Duration::from_secs(10);

/// A file in a folder counts as complete after so long, where the place does not say.
const QUIET: Duration = Duration::from_secs(2);

/// Others wait so long for a file to be loaded into a database that takes one writer at a time.
const TURN: Duration = Duration::from_secs(600);

/// Whether the configuration has changed is looked at so often.
const TICK: Duration = Duration::from_millis(500);

/// When the configuration changes, feeds have so long to come to an end.
const HAND_OVER: Duration = Duration::from_secs(2);

/// Messages that could not be sent are tried again so often.
const TELL_AGAIN: Duration = Duration::from_secs(60);

/// Watches until it is asked to stop. A configuration that changes is taken over between two
/// files, if it is right.
pub fn run(mut settings: Settings, feeds: &[String], status: &Arc<Status>) -> Result<(), Failure> {
    loop {
        settings.feeds_named(feeds)?;
        prepare(&mut settings);
        let file = settings.file.clone();
        match watch(settings, feeds, status) {
            Some(changed) => {
                info!(file = %file.display(), "the configuration has changed and is taken over");
                settings = changed;
            }
            None => return Ok(()),
        }
    }
}

/// What is other than for a single load.
fn prepare(settings: &mut Settings) {
    for url in [Some(&mut settings.staging.tables), settings.staging.ledger.as_mut()].into_iter().flatten() {
        if let StoreUrl::Sqlite { wait, .. } = url {
            *wait = (*wait).max(TURN);
        }
    }
    for place in &mut settings.places {
        let rule = &mut place.completeness;
        if place.place.watched_folder().is_some() && rule.quiet_for.is_none() && rule.marker.is_none() {
            rule.quiet_for = Some(QUIET);
        }
    }
}

/// What the threads of one configuration share.
struct Round {
    settings: Settings,
    status: Arc<Status>,
    stop: StopSignal,
    /// Files that no feed wants and that were told of.
    strangers: Mutex<HashSet<String>>,
    /// Rung when there is something to tell.
    mail: Wakeup,
    /// What is out of reach.
    outages: Outages,
}

/// Watches by one configuration; gives the one that takes its place, if there is one.
fn watch(settings: Settings, feeds: &[String], status: &Arc<Status>) -> Option<Settings> {
    let is_wanted = |feed: &&FeedSettings| feeds.is_empty() || feeds.contains(&feed.name);
    let wanted: Vec<String> = settings.feeds.iter().filter(is_wanted).map(|feed| feed.name.clone()).collect();
    status.begin(wanted.iter().map(String::as_str));
    let (stop, mail, outages) = (StopSignal::default(), Wakeup::default(), Outages::default());
    let strangers = Mutex::default();
    let round = Arc::new(Round { settings, status: status.clone(), stop, strangers, mail, outages });
    let mut wakeups = Vec::new();
    let mut threads = Vec::new();
    for feed in wanted {
        let (wakeup, round) = (Arc::new(Wakeup::default()), round.clone());
        wakeups.push(wakeup.clone());
        threads.push(std::thread::spawn(move || keep(&round, &feed, &wakeup)));
    }
    if !round.settings.notify.is_empty() {
        let round = round.clone();
        threads.push(std::thread::spawn(move || tell_people(&round)));
    }
    let changed = until_changed(&round.settings, feeds);
    round.stop.request();
    wakeups.iter().for_each(|wakeup| wakeup.wake());
    round.mail.wake();
    match changed {
        // Who waits for a server is not waited for: its feed is free when it gives up.
        Some(_) => {
            let until = Instant::now() + HAND_OVER;
            while Instant::now() < until && !threads.iter().all(JoinHandle::is_finished) {
                std::thread::sleep(Duration::from_millis(20));
            }
        }
        None => threads.into_iter().for_each(|thread| {
            if let Err(panic) = thread.join() {
                std::panic::resume_unwind(panic);
            }
        }),
    }
    changed
}

/// Waits until somebody wants it to stop, or until the configuration changes for another that is
/// right.
fn until_changed(settings: &Settings, feeds: &[String]) -> Option<Settings> {
    let mut reload = Reload::of(settings.text.clone());
    while !exit::is_asked_to_stop() {
        std::thread::sleep(TICK);
        let text = std::fs::read_to_string(&settings.file).ok();
        let Some(text) = reload.see(text, Instant::now()) else { continue };
        let read = Settings::parse(&settings.file, text).and_then(|new| {
            new.feeds_named(feeds)?;
            Ok(new)
        });
        match read {
            Ok(new) => return Some(new),
            Err(failure) => error!(
                error = failure.message,
                "the configuration has changed, and is wrong: the one before is kept"
            ),
        }
    }
    None
}

/// Looks after one feed.
fn keep(round: &Round, name: &str, wakeup: &Arc<Wakeup>) {
    let Round { settings, status, stop, strangers, mail, outages } = round;
    let Some(feed) = settings.feeds.iter().find(|feed| feed.name == name) else { return };
    let Some(place) = settings.places.iter().find(|place| place.name == feed.place) else { return };
    let (_watcher, poll) = listen(place, wakeup);
    let schedule = &feed.schedule;
    info!(feed = feed.name, place = place.place.shown(), on_arrival = schedule.on_arrival, "watching");
    let settle = place.completeness.quiet_for.unwrap_or(QUIET).min(poll) + Duration::from_millis(50);
    let new_stranger =
        |path: &str| strangers.lock().unwrap_or_else(PoisonError::into_inner).insert(path.to_owned());
    let shared = WorkerContext { settings, status, stop, new_stranger: &new_stranger, mail, outages };
    let mut worker = FeedWorker::new(shared, feed);
    let scheduler = Scheduler { schedule, poll, settle };
    scheduler.run(&MachineClock, wakeup, stop, &mut |task, now| match task {
        Task::Load => worker.load(now, settle),
        Task::Due => worker.ask_for_what_is_due(now),
    });
}

/// Listens at a place, if it can be listened at, and says how often to look besides.
fn listen(place: &PlaceSettings, wakeup: &Arc<Wakeup>) -> (Option<FileSystemWatcher>, Duration) {
    let Some(folder) = place.place.watched_folder() else {
        return (None, place.poll.unwrap_or(POLL_SERVER));
    };
    match FileSystemWatcher::open(folder.to_path_buf(), wakeup.clone()) {
        Ok(file_watcher) => (Some(file_watcher), place.poll.unwrap_or(POLL_FOLDER)),
        Err(why) => {
            warn!(
                place = place.name,
                why, "no notices of the file system; it is looked at from time to time"
            );
            (None, place.poll.unwrap_or(POLL_DEAF_FOLDER))
        }
    }
}

/// Sends what people are to be told, as it comes and again where it was not taken.
fn tell_people(round: &Round) {
    let Round { settings, stop, mail, outages, .. } = round;
    let mut connections = KeptConnections::new(&settings.staging);
    loop {
        let ends = stop.is_requested();
        tell_of_outages(settings, &mut connections, &outages.take(Instant::now()));
        let ledger = connections.ledger();
        let sent = ledger.and_then(|ledger| notifications::deliver(ledger, &settings.notify, TELL_AGAIN));
        match sent {
            Ok(troubles) => {
                troubles.iter().for_each(|trouble| warn!(error = trouble.message, "nobody was told"));
            }
            Err(error) => warn!(error = %error, "what is to be told cannot be read"),
        }
        if ends {
            return;
        }
        let wait = outages.wait(Instant::now()).unwrap_or(TELL_AGAIN).min(TELL_AGAIN);
        // Whoever rings while feeds are gathered does not hurry it.
        mail.wait(wait.max(Duration::from_millis(20)));
    }
}

/// Writes down what is to be told of outages; where the ledger itself is away, it is told at once.
fn tell_of_outages(settings: &Settings, connections: &mut KeptConnections, news: &[Notification]) {
    if news.is_empty() {
        return;
    }
    let ledger = connections.ledger();
    let written = ledger.and_then(|ledger| notifications::note(ledger, &settings.notify, news, None));
    if written.is_err() {
        let shown = settings.staging.to_string();
        let troubles = news.iter().flat_map(|one| notifications::at_once(&settings.notify, one, &shown));
        troubles.for_each(|trouble| warn!(error = trouble.message, "nobody was told"));
    }
}
