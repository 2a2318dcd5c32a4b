//! What is to be done, as plain data: which places, which feeds, into which database. A program
//! resolves its configuration into a [`Job`]; nothing here reads one.

mod builder;
mod candidate;
mod expectations;
mod feed;
mod internal;

use std::time::Duration;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::pattern::{Part, PartValue, Pattern};
use hypodoke_places::{Completeness, Place, PutAway, Scope};
use hypodoke_stores::Staging;

pub use builder::{JobBuilder, JobError};
pub use candidate::{Candidate, FeedFiles, Member};
pub use expectations::{Control, Expectations, RejectLimit, RejectMaximum};
pub use feed::{ChangedFile, EmptyFile, Feed, KeepRule, KeepTest, MissingTable, SameContent};
pub use internal::InternalFiles;

/// Where files land, and what becomes of them there.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct PlaceSource {
    /// Where it is. It knows its name.
    pub place: Place,
    /// When a file counts as complete.
    pub completeness: Completeness,
    /// Where files go once they are done with; without it they are left as they are.
    pub put_away: Option<PutAway>,
}

/// A feed, with where its files land.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct FeedSource {
    /// The name of the place.
    pub place: String,
    /// The paths of its files.
    pub files: Pattern,
    /// Only files modified within so long are looked at.
    pub modified_within: Option<Duration>,
    /// What the engine does with them.
    pub feed: Feed,
}

/// What is to be done.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Job {
    /// Where the tables and the ledger are. The engine opens neither: it is handed connections.
    pub staging: Staging,
    /// How many connections load side by side, where the database takes that; without it as many as
    /// there are cores, and a few more.
    pub connections: Option<usize>,
    /// After so long what is loaded is committed; at no time at all, each file is by itself. As is usual if
    /// unsaid.
    pub commit_every: Option<Duration>,
    /// How much of the places is listed.
    pub scope: Scope,
    /// The places.
    pub places: Vec<PlaceSource>,
    /// The feeds. A file goes to the first that it fits.
    pub feeds: Vec<FeedSource>,
    /// Files that are no arrivals even where they stand among them.
    pub internal: InternalFiles,
}

impl Job {
    /// A job without places and feeds.
    pub fn new(staging: impl Into<Staging>) -> Job {
        let staging = staging.into();
        let internal = InternalFiles::new(Vec::new(), staging.urls().cloned().collect(), Vec::new());
        Job {
            staging,
            connections: None,
            commit_every: None,
            scope: Scope::default(),
            places: Vec::new(),
            feeds: Vec::new(),
            internal,
        }
    }

    /// The feeds that take a file, by their numbers among the feeds, and what its path tells each: the
    /// first that it fits, and those that take what others have taken, too.
    ///
    /// ```
    /// use hypodoke_core::arrival::Arrival;
    /// use hypodoke_engine::prelude::*;
    ///
    /// let job = Job::builder("sqlite:quillane.db")
    ///     .place(Place::folder("quay", "inbox"))
    ///     .feed("quay", "berths_*.csv", Feed::new("berths"))
    ///     .build()?;
    /// let arrival = |path: &str| Arrival { place: "quay".into(), path: path.into(), ..Arrival::default() };
    /// assert_eq!(job.feeds_for(&arrival("berths_0302.csv")).len(), 1);
    /// assert!(job.feeds_for(&arrival("tugs.csv")).is_empty());
    /// # Ok::<(), JobError>(())
    /// ```
    pub fn feeds_for(&self, arrival: &Arrival) -> Vec<(usize, Vec<(Part, PartValue)>)> {
        let mut takers = Vec::new();
        for (at, source) in self.feeds.iter().enumerate() {
            if source.place == arrival.place
                && (takers.is_empty() || source.feed.also)
                && let Some(parts) = source.parts_of(&arrival.path)
            {
                takers.push((at, parts));
            }
        }
        takers
    }

    /// The feed of that name.
    pub fn feed_named(&self, name: &str) -> Option<&FeedSource> {
        self.feeds.iter().find(|source| source.feed.name.as_deref() == Some(name))
    }
}

impl From<Place> for PlaceSource {
    /// A place whose files are taken once they are complete, and left where they are.
    fn from(place: Place) -> PlaceSource {
        PlaceSource { place, completeness: Completeness::default(), put_away: None }
    }
}

impl PlaceSource {
    /// Sets when a file counts as complete.
    #[must_use]
    pub fn complete_by(mut self, completeness: Completeness) -> PlaceSource {
        self.completeness = completeness;
        self
    }

    /// Sets the folders that files are moved to after they were loaded, or failed.
    #[must_use]
    pub fn putting_away(mut self, folders: Option<PutAway>) -> PlaceSource {
        self.put_away = folders;
        self
    }
}

impl FeedSource {
    /// The files of a place that a pattern fits, whenever they were modified.
    pub fn new(place: &str, files: Pattern, feed: Feed) -> FeedSource {
        FeedSource { place: place.to_owned(), files, modified_within: None, feed }
    }

    /// Whether a file of this time is looked at; `now` and `modified` in microseconds since 1970.
    pub fn is_in_time(&self, modified: i64, now: i64) -> bool {
        let micros = |within: Duration| i64::try_from(within.as_micros()).unwrap_or(i64::MAX);
        self.modified_within.is_none_or(|within| modified >= now.saturating_sub(micros(within)))
    }

    /// What a path tells of its file, if the feed takes it: the named parts of the pattern, and the
    /// columns that hold the same in every row.
    pub fn parts_of(&self, path: &str) -> Option<Vec<(Part, PartValue)>> {
        let values = self.files.matches(path)?;
        Some(self.feed.with_constants(self.files.parts().iter().cloned().zip(values).collect()))
    }
}
