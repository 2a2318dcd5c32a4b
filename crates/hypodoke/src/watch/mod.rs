//! Watching: every feed on a thread of its own, loaded as files arrive and by the clock.
//!
//! [`rota`] says when, [`keeper`] does a round, [`board`] keeps what became of it, and [`serve`]
//! tells it to whoever asks. A feed is looked after by one process at a time, on however many
//! machines; what waits for a server that does not answer is its own thread only.

pub mod board;
pub mod cron;
mod ears;
mod keeper;
mod later;
mod rota;
pub mod schedule;
pub mod serve;
pub mod unit;

use std::collections::HashSet;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, SystemTime};

use hypodoke_places::Place;
use hypodoke_stores::StoreUrl;
use tracing::{error, info, warn};

use crate::engine::means::Stop;
use crate::exit;
use crate::failure::Failure;
use crate::settings::{FeedSettings, PlaceSettings, Settings};
use crate::tell;
use board::Board;
use ears::Ears;
use keeper::Keeper;
use rota::{Bell, MachineClock, Rota, Task};

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

/// The configuration is looked at so often, and messages are sent.
const TICK: Duration = Duration::from_millis(500);

/// Messages that could not be sent are tried again so often.
const TELL_AGAIN: Duration = Duration::from_secs(60);

/// Watches until it is asked to stop. A configuration that changes is taken over between two
/// files, if it is right.
pub fn run(mut settings: Settings, feeds: &[String], board: &Arc<Board>) -> Result<(), Failure> {
    loop {
        settings.feeds_named(feeds)?;
        prepare(&mut settings);
        match watch(&settings, feeds, board) {
            Some(changed) => {
                info!(file = %settings.file.display(), "the configuration has changed and is taken over");
                settings = changed;
            }
            None => return Ok(()),
        }
    }
}

/// What is other than for a single load.
fn prepare(settings: &mut Settings) {
    if let StoreUrl::Sqlite { wait, .. } = &mut settings.store {
        *wait = (*wait).max(TURN);
    }
    for place in &mut settings.places {
        let rule = &mut place.completeness;
        if matches!(place.place, Place::Folder { .. }) && rule.quiet_for.is_none() && rule.marker.is_none() {
            rule.quiet_for = Some(QUIET);
        }
    }
}

/// Watches by one configuration; gives the one that takes its place, if there is one.
fn watch(settings: &Settings, feeds: &[String], board: &Arc<Board>) -> Option<Settings> {
    let wanted: Vec<&FeedSettings> =
        settings.feeds.iter().filter(|feed| feeds.is_empty() || feeds.contains(&feed.name)).collect();
    board.begin(wanted.iter().map(|feed| feed.name.as_str()));
    let stop = Stop::never();
    let bells: Vec<Arc<Bell>> = wanted.iter().map(|_| Arc::default()).collect();
    let strangers: Mutex<HashSet<String>> = Mutex::default();
    let mail = Bell::default();
    let mut changed = None;
    std::thread::scope(|scope| {
        for (feed, bell) in wanted.iter().zip(&bells) {
            let (stop, strangers, mail) = (&stop, &strangers, &mail);
            scope.spawn(move || keep(settings, feed, bell, stop, board, strangers, mail));
        }
        if !settings.notify.is_empty() {
            scope.spawn(|| tell_people(settings, &mail, &stop));
        }
        let mut seen = stamp(settings);
        while !exit::is_asked_to_stop() {
            std::thread::sleep(TICK);
            let now = stamp(settings);
            if now != seen && now.is_some() {
                seen = now;
                match Settings::read(&settings.file)
                    .and_then(|new| new.feeds_named(feeds).map(|_| new.clone()))
                {
                    Ok(new) => {
                        changed = Some(new);
                        break;
                    }
                    Err(failure) => error!(
                        error = failure.message,
                        "the configuration has changed, and is wrong: the one before is kept"
                    ),
                }
            }
        }
        stop.want();
        bells.iter().for_each(|bell| bell.ring());
        mail.ring();
    });
    changed
}

/// What tells one state of the configuration's file from another.
fn stamp(settings: &Settings) -> Option<(SystemTime, u64)> {
    let data = std::fs::metadata(&settings.file).ok()?;
    Some((data.modified().ok()?, data.len()))
}

/// Looks after one feed.
fn keep(
    settings: &Settings,
    feed: &FeedSettings,
    bell: &Arc<Bell>,
    stop: &Stop,
    board: &Board,
    strangers: &Mutex<HashSet<String>>,
    mail: &Bell,
) {
    let Some(place) = settings.places.iter().find(|place| place.name == feed.place) else { return };
    let (_ears, poll) = listen(place, bell);
    let schedule = &feed.schedule;
    info!(feed = feed.name, place = place.place.shown(), on_arrival = schedule.on_arrival, "watching");
    let settle = place.completeness.quiet_for.unwrap_or(QUIET).min(poll) + Duration::from_millis(50);
    let new_stranger =
        |path: &str| strangers.lock().unwrap_or_else(PoisonError::into_inner).insert(path.to_owned());
    let mut keeper = Keeper::new(settings, feed, board, stop, &new_stranger, mail);
    let rota = Rota { schedule, poll, settle };
    rota.run(&MachineClock, bell, stop, &mut |task, now| match task {
        Task::Load => keeper.load(now, settle),
        Task::Due => keeper.ask_for_what_is_due(now),
    });
}

/// Listens at a place, if it can be listened at, and says how often to look besides.
fn listen(place: &PlaceSettings, bell: &Arc<Bell>) -> (Option<Ears>, Duration) {
    let Place::Folder { folder, .. } = &place.place else {
        return (None, place.poll.unwrap_or(POLL_SERVER));
    };
    match Ears::open(folder.clone(), bell.clone()) {
        Ok(ears) => (Some(ears), place.poll.unwrap_or(POLL_FOLDER)),
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
fn tell_people(settings: &Settings, mail: &Bell, stop: &Stop) {
    loop {
        let ends = stop.is_wanted();
        let sent = hypodoke_stores::open(&settings.store)
            .and_then(|mut store| tell::deliver(store.as_mut(), &settings.notify, TELL_AGAIN));
        match sent {
            Ok(troubles) => {
                troubles.iter().for_each(|trouble| warn!(error = trouble.message, "nobody was told"));
            }
            Err(error) => warn!(error = %error, "what is to be told cannot be read"),
        }
        if ends {
            return;
        }
        mail.wait(TELL_AGAIN);
    }
}
