//! What the ledger holds for a report.

use hypodoke_core::outcome::Outcome;
use hypodoke_engine::inspect::{History, histories, last_of_each};
use hypodoke_engine::maintain::{RejectGroup, reject_groups};
use hypodoke_stores::{FileEntry, FileQuery, Ledger};
use jiff::Timestamp;
use jiff::tz::TimeZone;

use super::charts::Scale;
use super::figures::{Point, points};
use crate::failure::Failure;
use crate::schedule::{Lateness, late_feeds};
use crate::settings::Settings;
use crate::window::midnight;

/// The most files of one feed that are on the page, the newest.
const MOST_FILES: usize = 2_000;

/// The most files of one feed whose rejects are looked into, the newest.
const MOST_REJECTED: usize = 200;

/// All that is on the page.
pub struct Report {
    /// The database, without secrets.
    pub database: String,
    /// When it was made.
    pub now: Timestamp,
    /// Whose clock the page has.
    pub zone: TimeZone,
    /// How far back it looks, in days.
    pub days: u32,
    /// The feeds, in the order of their names.
    pub feeds: Vec<FeedReport>,
    /// It is a page that a watch serves, where every file has one of its own.
    pub is_live: bool,
}

/// What there is of one feed, or of a table that was loaded without one.
pub struct FeedReport {
    /// The feed's name, or the table's.
    pub name: String,
    /// Its entries in the ledger, the newest first.
    pub files: Vec<FileEntry>,
    /// How many older ones are not on the page.
    pub left_out: usize,
    /// Its files as they are drawn, by the time they were written.
    pub points: Vec<Point>,
    /// Its rejects, by reason.
    pub rejects: Vec<RejectGroup>,
    /// What changed in its layout.
    pub drift: Vec<History>,
    /// Files are due and have not come.
    pub late: Option<Lateness>,
    /// When the day of the report began: microseconds since 1970.
    midnight: i64,
}

impl Report {
    /// Asks the ledger for so many days.
    pub fn of(
        store: &mut dyn Ledger,
        settings: Option<&Settings>,
        days: u32,
        now: Timestamp,
    ) -> Result<Report, Failure> {
        let zone = TimeZone::system();
        let since = now.as_microsecond() - i64::from(days) * 86_400_000_000;
        let entries = store.files(&FileQuery { since: Some(since), ..FileQuery::default() })?;
        let held = store.loaded_files()?.into_iter().filter(|entry| entry.outcome == Outcome::Held);
        let late = settings.map(|settings| late_feeds(store, settings.schedules(), now));
        let mut late = late.transpose()?.unwrap_or_default();
        let mut all: std::collections::BTreeMap<String, Vec<FileEntry>> = Default::default();
        for feed in settings.iter().flat_map(|settings| &settings.feeds) {
            all.entry(feed.name.clone()).or_default();
        }
        for entry in entries {
            all.entry(name_of(&entry)).or_default().push(entry);
        }
        // What is held from before still wants a person.
        for entry in held.filter(|entry| entry.ended < since) {
            all.entry(name_of(&entry)).or_default().push(entry);
        }
        let mut history = histories(store)?;
        let mut feeds = Vec::new();
        for (name, mut files) in all {
            let points = points(&files, MOST_FILES);
            let left_out = files.len().saturating_sub(MOST_FILES);
            files.truncate(MOST_FILES);
            let rejects = rejects(store, &files)?;
            let is_own = |history: &mut History| history.feed.as_ref().unwrap_or(&history.table) == &name;
            let drift = history.extract_if(.., is_own).collect();
            let late = late.extract_if(.., |late| late.feed() == name).next();
            let midnight = midnight(now);
            feeds.push(FeedReport { name, files, left_out, points, rejects, drift, late, midnight });
        }
        Ok(Report { database: store.ledger_shown(), now, zone, days, feeds, is_live: false })
    }

    /// Where a file is to be found.
    pub fn file_link(&self, file: i64) -> String {
        if self.is_live { format!("/file/{file}") } else { format!("#file-{file}") }
    }

    /// The scale of time that all charts share.
    pub fn scale(&self) -> Scale<'_> {
        let moments = || self.feeds.iter().flat_map(|feed| &feed.points).map(|point| point.at);
        Scale { zone: &self.zone, first: moments().min(), last: moments().max() }
    }
}

fn name_of(entry: &FileEntry) -> String {
    entry.feed.clone().or_else(|| entry.table.clone()).unwrap_or_default()
}

fn rejects(store: &mut dyn Ledger, files: &[FileEntry]) -> Result<Vec<RejectGroup>, Failure> {
    let mut found = Vec::new();
    let with_rejects = files.iter().filter(|entry| entry.rejected > 0 && entry.replaced_by.is_none());
    for entry in with_rejects.take(MOST_REJECTED) {
        let mut rejects = store.rejects(entry.file, usize::MAX >> 1)?;
        rejects.retain(|reject| reject.corrected.is_none());
        found.push((entry.clone(), rejects));
    }
    Ok(reject_groups(&found))
}

impl FeedReport {
    /// Its name as a part of the page may be called by.
    pub fn anchor(&self) -> String {
        let plain = |c: char| if c.is_ascii_alphanumeric() { c } else { '-' };
        self.name.chars().map(plain).collect()
    }

    /// Files done with today.
    pub fn today(&self) -> impl Iterator<Item = &FileEntry> {
        self.files.iter().filter(|entry| entry.ended >= self.midnight)
    }

    /// Files whose rows are in the tables, by their newest entries.
    pub fn loaded(&self) -> impl Iterator<Item = &FileEntry> {
        self.files.iter().filter(|entry| entry.outcome.counts() && entry.replaced_by.is_none())
    }

    /// Files that are as somebody does not want them, by their last entries.
    pub fn open(&self, outcome: Outcome) -> Vec<&FileEntry> {
        last_of_each(&self.files).into_iter().filter(|entry| entry.outcome == outcome).collect()
    }
}
