//! What the night will need: room on the disks, a clock that is right, people who can be told, times to
//! load at, and files that go where they are meant to.

use std::path::PathBuf;

use hypodoke_core::count;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::clock;
use hypodoke_engine::job::Job;
use hypodoke_places::Seen;
use hypodoke_stores::{ServerSetting, StoreUrl};
use jiff::Timestamp;
use serde::Serialize;

use crate::failure::Failure;
use crate::notifications::{Notice, Notification, send};
use crate::render::{Screen, Tone};
use crate::settings::notify::{Channel, NotificationKind, NotifySettings};
use crate::settings::{FeedSettings, Settings};

/// Less room than this is said to be little.
const LITTLE_ROOM: u64 = 1_000_000_000;

/// A clock that is off by more than this is told, in seconds.
const MOST_OFF: i64 = 30;

/// How many of the next times are shown.
const NEXT_TIMES: usize = 3;

/// The most names that are given as near.
const MOST_NEAR: usize = 3;

/// One thing that was looked at.
#[derive(Debug, Serialize)]
pub struct NightLine {
    /// What it is: `disk`, `clock`, `database`, `notify`, `schedule`, `files`.
    pub about: &'static str,
    /// What was found, in words.
    pub what: String,
    /// Nothing is the matter.
    pub is_good: bool,
    /// The load cannot go well like this.
    pub is_error: bool,
    /// What to do about it.
    pub advice: Option<String>,
}

impl NightLine {
    /// For the terminal.
    pub fn text(&self, screen: Screen) -> String {
        let mark = match (self.is_good, self.is_error) {
            (true, _) => screen.paint(Tone::Good, "ok"),
            (false, false) => screen.paint(Tone::Warning, " !"),
            (false, true) => screen.paint(Tone::Bad, "no"),
        };
        let advice = self.advice.as_ref().map(|advice| format!("   → {advice}\n")).unwrap_or_default();
        format!("{mark} {} {}\n{advice}", self.about, self.what)
    }

    fn good(about: &'static str, what: String) -> NightLine {
        NightLine { about, what, is_good: true, is_error: false, advice: None }
    }

    fn warning(about: &'static str, what: String, advice: &str) -> NightLine {
        NightLine { about, what, is_good: false, is_error: false, advice: Some(advice.to_owned()) }
    }
}

/// The room where the spool and a database file are.
pub fn disks(settings: &Settings) -> Vec<NightLine> {
    let mut folders: Vec<(&str, PathBuf)> = Vec::new();
    for (name, url) in ["the database", "the ledger"].into_iter().zip(settings.staging.urls()) {
        if let StoreUrl::Sqlite { path, .. } = url {
            folders.push((name, path.clone()));
        }
    }
    let is_remote = settings.places.iter().any(|place| place.place.watched_folder().is_none());
    if is_remote {
        folders.push(("the spool", settings.spool.folder.clone()));
    }
    let line = |(name, path): (&str, PathBuf)| {
        let free = hypodoke_places::free_space(&path)?;
        let what = format!("{} free for {name}", count::bytes(free));
        Some(match free < LITTLE_ROOM {
            true => NightLine::warning("disk", what, "make room, or put it on another disk"),
            false => NightLine::good("disk", what),
        })
    };
    folders.into_iter().filter_map(line).collect()
}

/// How far the clock of this machine is off that of the database's server.
pub fn clocks(server: Option<i64>) -> Option<NightLine> {
    let off = (clock::now() - server?) / 1_000_000;
    Some(match off.abs() > MOST_OFF {
        true => {
            let ahead = if off > 0 { "ahead of" } else { "behind" };
            let what = format!(
                "this machine's clock is {} {ahead} the database's",
                count::seconds(off.unsigned_abs() as f64)
            );
            NightLine::warning("clock", what, "set both by the same source of time")
        }
        false => NightLine::good("clock", "this machine's clock agrees with the database's".to_owned()),
    })
}

/// Who is told of what; with `try_all`, each is sent a message that says so.
pub fn people(settings: &Settings, try_all: bool) -> Vec<NightLine> {
    let one = |to: &NotifySettings| {
        let whom = match &to.way {
            Channel::Mail(mail) => format!("mail to {} by {}", mail.to.join(", "), mail.host),
            Channel::Webhook(hook) => format!("a webhook of {}", hook.shown),
        };
        let on: Vec<&str> = to.on.iter().map(|kind| kind.word()).collect();
        if !try_all {
            let what = format!("{}: {whom}, on {}; --notify sends a test message", to.name, on.join(", "));
            return NightLine::good("notify", what);
        }
        match send(to, &test_message(to, &settings.staging.to_string())) {
            Ok(()) => NightLine::good("notify", format!("{}: {whom} was sent a test message", to.name)),
            Err(Failure { message, .. }) => NightLine {
                about: "notify",
                what: message,
                is_good: false,
                is_error: true,
                advice: Some(format!("mend [notify.{}], and check again with --notify", to.name)),
            },
        }
    };
    settings.notify.iter().map(one).collect()
}

fn test_message(to: &NotifySettings, database: &str) -> Notice {
    let notification = Notification {
        event: NotificationKind::Success,
        key: String::new(),
        feed: None,
        others: Vec::new(),
        path: None,
        reasons: Vec::new(),
        what: "a test: this is how you will be told".to_owned(),
        advice: Some(format!("nothing is to be done; [notify.{}] works", to.name)),
    };
    Notice::of(&[&notification], None, database, clock::now())
}

/// How the database's server is set.
pub fn server(setting: &ServerSetting) -> NightLine {
    match setting {
        ServerSetting::NoStreaming => NightLine::warning(
            "database",
            "the server takes no LOAD DATA LOCAL, and rows go by INSERT statements: that takes more than twice as long"
                .to_owned(),
            "have `local_infile` switched on: SET GLOBAL local_infile = 1",
        ),
        ServerSetting::SmallRecords(most) => NightLine::warning(
            "database",
            format!("the server takes no record of more than {}", count::bytes(*most as u64)),
            "have `max_allowed_packet` raised, to 64M or so",
        ),
        ServerSetting::Cluster => NightLine::good(
            "database",
            "the server is one of a cluster: GET_LOCK is of each server alone, so claims go through rows of `hd_claims`"
                .to_owned(),
        ),
    }
}

/// When feeds that are loaded by the clock are loaded next.
pub fn schedules(feeds: &[&FeedSettings], now: Timestamp) -> Vec<NightLine> {
    let line = |feed: &&FeedSettings| {
        let mut times = Vec::new();
        let mut last = now;
        while times.len() < NEXT_TIMES {
            let Some(next) = feed.schedule.next(last) else { break };
            let zone = feed.schedule.zone.clone();
            times.push(next.to_zoned(zone).strftime("%a %Y-%m-%d %H:%M %Z").to_string());
            last = next;
        }
        let times = (!times.is_empty()).then(|| count::list(&times))?;
        Some(NightLine::good("schedule", format!("{}: loaded by the clock {times}", feed.name)))
    };
    feeds.iter().filter_map(line).collect()
}

/// Whether files of these feeds are taken by others before them, and what is near where there are none.
pub fn files(feeds: &[&FeedSettings], job: &Job, seen: &[Seen]) -> Vec<NightLine> {
    let mut lines = Vec::new();
    for feed in feeds {
        let own = |seen: &&Seen| seen.arrival.place == feed.place;
        let fits: Vec<&Seen> =
            seen.iter().filter(own).filter(|seen| feed.files.matches(&seen.arrival.path).is_some()).collect();
        let taken = fits.iter().filter_map(|seen| {
            let takers = job.feeds_for(&seen.arrival);
            let names = takers.iter().filter_map(|(at, _)| job.feeds.get(*at)?.feed.name.as_deref());
            let names: Vec<&str> = names.collect();
            (!names.contains(&feed.name.as_str())).then(|| names.first().copied().unwrap_or_default())
        });
        let taken: Vec<&str> = taken.collect();
        if let Some(first) = taken.first() {
            let what = format!(
                "{}: {} that fit it go to `{}`, which stands above it",
                feed.name,
                count::files(taken.len() as u64),
                clean(first)
            );
            let advice = "put the narrower pattern first, or say also = true";
            lines.push(NightLine::warning("files", what, advice));
        }
        if fits.is_empty()
            && let Some(near) = near(feed, seen)
        {
            let what = format!("{}: no file fits `{}`; near is {near}", feed.name, feed.files);
            lines.push(NightLine::warning("files", what, "correct `files`, or wait for the first of them"));
        }
    }
    lines
}

/// The files of the feed's place whose names are most like its pattern.
fn near(feed: &FeedSettings, seen: &[Seen]) -> Option<String> {
    // Without its marks and figures a pattern is much like a name that it was written for.
    let plain = |text: &str| -> String {
        text.to_lowercase().chars().filter(|c| !"*?{}[]%".contains(*c) && !c.is_ascii_digit()).collect()
    };
    let pattern = plain(&feed.files.to_string());
    let likeness = |path: &str| strsim::normalized_damerau_levenshtein(&pattern, &plain(path));
    let own = seen.iter().filter(|seen| seen.arrival.place == feed.place);
    let mut near: Vec<(f64, &str)> =
        own.map(|seen| (likeness(&seen.arrival.path), seen.arrival.path.as_str())).collect();
    near.retain(|(likeness, _)| *likeness > 0.6);
    near.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(b.1)));
    near.truncate(MOST_NEAR);
    let names: Vec<String> = near.iter().map(|(_, path)| format!("`{}`", clean(path))).collect();
    (!names.is_empty()).then(|| count::list(&names))
}
