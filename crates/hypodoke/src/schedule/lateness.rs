//! Files that should be there, and are not.

use hypodoke_stores::{FileEntry, FileQuery, Ledger, StoreError};
use jiff::Timestamp;
use jiff::tz::TimeZone;

use super::{Due, Schedule};

/// The feeds, by name and schedule, whose files are due and have not come.
pub fn late_feeds<'f>(
    store: &mut dyn Ledger,
    feeds: impl Iterator<Item = (&'f str, &'f Schedule)>,
    now: Timestamp,
) -> Result<Vec<Lateness>, StoreError> {
    let mut all = Vec::new();
    for (feed, schedule) in feeds {
        if let Some(due) = schedule.due(now) {
            all.extend(lateness(store, feed, schedule, due)?.if_late());
        }
    }
    Ok(all)
}

/// What came of a feed for a moment it is due.
pub fn lateness(
    store: &mut dyn Ledger,
    feed: &str,
    schedule: &Schedule,
    due: Due,
) -> Result<Lateness, StoreError> {
    let query = FileQuery {
        feed: Some(feed.to_owned()),
        since: Some(due.from.as_microsecond()),
        ..FileQuery::default()
    };
    let files = if store.has_ledger()? { store.files(&query)? } else { Vec::new() };
    Ok(Lateness::of(feed, due, &files, &schedule.zone))
}

/// What came of a feed for the moment it is due.
#[derive(Clone, Debug)]
pub struct Lateness {
    feed: String,
    due: Due,
    /// When the first file for it came: microseconds since 1970.
    first: Option<i64>,
    zone: TimeZone,
}

impl Lateness {
    /// By the ledger's entries of the feed.
    pub fn of(feed: &str, due: Due, files: &[FileEntry], zone: &TimeZone) -> Lateness {
        let (from, until) = (due.from.as_microsecond(), due.until.as_microsecond());
        let came = files.iter().filter(|file| file.feed.as_deref() == Some(feed)).map(|file| file.began);
        let first = came.filter(|at| (from..until).contains(at)).min();
        Lateness { feed: feed.to_owned(), due, first, zone: zone.clone() }
    }

    /// The same if nothing has come by now.
    pub fn if_late(self) -> Option<Lateness> {
        self.first.is_none().then_some(self)
    }

    /// The feed.
    pub fn feed(&self) -> &str {
        &self.feed
    }

    /// By when: as RFC 3339 has it.
    pub fn due_at(&self) -> String {
        self.due.at.to_string()
    }

    /// `no file by 07:00 on 2026-03-02`.
    pub fn words(&self) -> String {
        let at = self.due.at.to_zoned(self.zone.clone());
        format!("no file by {}", at.strftime("%H:%M on %Y-%m-%d"))
    }

    /// The moment that it is due, for a notification to be sent once.
    pub fn due(&self) -> Timestamp {
        self.due.at
    }
}
