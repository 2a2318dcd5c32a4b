//! Jobs and feeds built step by step.

use std::path::{Path, PathBuf};
use std::time::Duration;

use hypodoke_core::drift::Policy;
use hypodoke_core::layout::ColumnRule;
use hypodoke_core::pattern::Pattern;
use hypodoke_formats::FormatOptions;
use hypodoke_stores::{Mode, Staging, StoreUrl, UrlError};

use super::{Expectations, Feed, FeedSource, InternalFiles, Job, PlaceSource};

/// Why a job cannot be built.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum JobError {
    /// An address of a database is invalid.
    #[error("the address of a database is invalid")]
    Address(#[from] UrlError),
    /// A feed has an invalid pattern.
    #[error("the feed `{feed}` has the pattern `{pattern}`: {why}")]
    Pattern {
        /// The feed.
        feed: String,
        /// The pattern.
        pattern: String,
        /// What is wrong with it.
        why: String,
    },
    /// A feed names a place that the job does not have.
    #[error("the feed `{feed}` takes files of the place `{place}`, which the job does not have")]
    NoPlace {
        /// The feed.
        feed: String,
        /// The place.
        place: String,
    },
    /// Two places or two feeds have one name.
    #[error("two {kind}s have the name `{name}`")]
    SameName {
        /// `place` or `feed`.
        kind: &'static str,
        /// The name.
        name: String,
    },
}

/// Builds a [`Job`].
#[derive(Clone, Debug)]
#[must_use]
pub struct JobBuilder {
    database: String,
    ledger: Option<String>,
    folder: PathBuf,
    connections: Option<usize>,
    commit_every: Option<Duration>,
    places: Vec<PlaceSource>,
    feeds: Vec<(String, String, Feed)>,
    internal: Vec<PathBuf>,
}

impl Job {
    /// Builds a job whose tables are in the database of this address: `sqlite:FILE`,
    /// `postgres://USER@HOST/DATABASE` or `mysql://USER@HOST/DATABASE`.
    ///
    /// ```
    /// use hypodoke_engine::prelude::*;
    ///
    /// let feed = Feed::new("berths").keyed_by(Mode::Upsert, ["berth"]);
    /// let job = Job::builder("sqlite:quillane.db")
    ///     .place(Place::folder("quay", "inbox"))
    ///     .feed("quay", "berths_{day:%Y%m%d}.csv", feed)
    ///     .build()?;
    /// assert_eq!(job.feeds[0].feed.table, "berths");
    ///
    /// let nowhere = Job::builder("sqlite:quillane.db").feed("quay", "*.csv", Feed::new("berths")).build();
    /// assert!(matches!(nowhere, Err(JobError::NoPlace { .. })));
    /// # Ok::<(), JobError>(())
    /// ```
    pub fn builder(database: &str) -> JobBuilder {
        JobBuilder {
            database: database.to_owned(),
            ledger: None,
            folder: PathBuf::new(),
            connections: None,
            commit_every: None,
            places: Vec::new(),
            feeds: Vec::new(),
            internal: Vec::new(),
        }
    }
}

impl JobBuilder {
    /// Keeps the ledger in a database of its own.
    pub fn ledger(mut self, address: &str) -> JobBuilder {
        self.ledger = Some(address.to_owned());
        self
    }

    /// Takes the files of databases that are named without a folder from this one; without it, from the
    /// folder that the process runs in.
    pub fn relative_to(mut self, folder: impl Into<PathBuf>) -> JobBuilder {
        self.folder = folder.into();
        self
    }

    /// Loads over so many connections at a time, where the database takes that.
    pub fn connections(mut self, most: usize) -> JobBuilder {
        self.connections = Some(most);
        self
    }

    /// Sets how often loaded files are committed; with a duration of zero, each file is committed by itself.
    pub fn commit_every(mut self, time: Duration) -> JobBuilder {
        self.commit_every = Some(time);
        self
    }

    /// Adds a place: a [`hypodoke_places::Place`], or a [`PlaceSource`] that also says when its files are
    /// complete and where they are moved afterwards.
    pub fn place(mut self, place: impl Into<PlaceSource>) -> JobBuilder {
        self.places.push(place.into());
        self
    }

    /// Adds a feed. `files` is the pattern that the paths of its files match in the place of this name.
    pub fn feed(mut self, place: &str, files: &str, feed: Feed) -> JobBuilder {
        self.feeds.push((place.to_owned(), files.to_owned(), feed));
        self
    }

    /// Never loads files of this folder, even if it is inside a place.
    pub fn internal_folder(mut self, folder: impl Into<PathBuf>) -> JobBuilder {
        self.internal.push(folder.into());
        self
    }

    /// Builds the job.
    ///
    /// # Errors
    ///
    /// An address or a pattern is invalid, a feed names no place of the job, or two have one name.
    pub fn build(self) -> Result<Job, JobError> {
        let staging = staging(&self.database, self.ledger.as_deref(), &self.folder)?;
        let names = self.places.iter().map(|place| place.place.name().to_owned());
        unique("place", names)?;
        unique("feed", self.feeds.iter().filter_map(|(_, _, feed)| feed.name.clone()))?;
        let urls = staging.urls().cloned().collect();
        let mut job = Job::new(staging);
        job.internal = InternalFiles::new(Vec::new(), urls, self.internal);
        job.connections = self.connections;
        job.commit_every = self.commit_every;
        for (place, files, feed) in self.feeds {
            let name = || feed.name.clone().unwrap_or_else(|| feed.table.clone());
            if !self.places.iter().any(|known| known.place.name() == place) {
                return Err(JobError::NoPlace { feed: name(), place });
            }
            let pattern = Pattern::parse(&files).map_err(|why| JobError::Pattern {
                feed: name(),
                pattern: files.clone(),
                why,
            })?;
            job.feeds.push(FeedSource::new(&place, pattern, feed));
        }
        job.places = self.places;
        Ok(job)
    }
}

fn staging(database: &str, ledger: Option<&str>, folder: &Path) -> Result<Staging, UrlError> {
    let staging = Staging::new(StoreUrl::parse(database, folder)?);
    Ok(match ledger {
        Some(ledger) => staging.with_ledger(StoreUrl::parse(ledger, folder)?),
        None => staging,
    })
}

fn unique(kind: &'static str, names: impl Iterator<Item = String>) -> Result<(), JobError> {
    let mut known = std::collections::HashSet::new();
    for name in names {
        if let Some(name) = known.replace(name) {
            return Err(JobError::SameName { kind, name });
        }
    }
    Ok(())
}

impl Feed {
    /// A feed of this name, whose rows go to a table of the same name.
    pub fn new(name: &str) -> Feed {
        Feed { name: Some(name.to_owned()), table: name.to_owned(), ..Feed::default() }
    }

    /// Sets the table that its rows go to.
    #[must_use]
    pub fn into_table(mut self, table: &str) -> Feed {
        table.clone_into(&mut self.table);
        self
    }

    /// Sets the mode, and the columns that tell rows apart, by their names in the file or in the table.
    #[must_use]
    pub fn keyed_by<C: Into<String>>(mut self, mode: Mode, key: impl IntoIterator<Item = C>) -> Feed {
        self.mode = mode;
        self.key = key.into_iter().map(Into::into).collect();
        self
    }

    /// Sets a mode that needs no key.
    #[must_use]
    pub fn in_mode(mut self, mode: Mode) -> Feed {
        self.mode = mode;
        self
    }

    /// Adds a rule for a column.
    #[must_use]
    pub fn column(mut self, rule: ColumnRule) -> Feed {
        self.rules.push(rule);
        self
    }

    /// Sets how its files are written: delimiters, encodings, sheets.
    #[must_use]
    pub fn written(mut self, options: FormatOptions) -> Feed {
        self.format_options = options;
        self
    }

    /// Sets the expectations that its files have to meet.
    #[must_use]
    pub fn expecting(mut self, expectations: Expectations) -> Feed {
        self.expect = expectations;
        self
    }

    /// Sets what is done about changed columns, headers and sheets.
    #[must_use]
    pub fn with_policy(mut self, policy: Policy) -> Feed {
        self.policy = policy;
        self
    }
}

#[cfg(test)]
mod tests {
    use std::error::Error as _;

    use hypodoke_places::Place;
    use rstest::rstest;

    use super::*;

    fn builder() -> JobBuilder {
        Job::builder("sqlite:quillane.db").place(Place::folder("quay", "inbox"))
    }

    #[rstest]
    #[case::an_address(Job::builder("harbour.db"), "the address of a database is invalid")]
    #[case::the_ledgers_address(builder().ledger("ftp:x"), "the address of a database is invalid")]
    #[case::a_pattern(
        builder().feed("quay", "{day:%Q}.csv", Feed::new("berths")),
        "the feed `berths` has the pattern `{day:%Q}.csv`: "
    )]
    #[case::no_place(
        builder().feed("mole", "*.csv", Feed::new("berths")),
        "the feed `berths` takes files of the place `mole`, which the job does not have"
    )]
    #[case::a_place_twice(builder().place(Place::folder("quay", "other")), "two places have the name `quay`")]
    #[case::a_feed_twice(
        builder().feed("quay", "a*", Feed::new("berths")).feed("quay", "b*", Feed::new("berths")),
        "two feeds have the name `berths`"
    )]
    fn what_is_wrong_with_a_job_is_said(#[case] builder: JobBuilder, #[case] words: &str) {
        let error = builder.build().expect_err("an error");
        assert!(error.to_string().starts_with(words), "{error}");
        assert_eq!(error.source().is_some(), matches!(error, JobError::Address(_)));
    }

    #[test]
    fn what_is_set_is_in_the_job() {
        let feed = Feed::new("berths").into_table("b").keyed_by(Mode::Upsert, ["berth"]);
        let job = builder()
            .relative_to("/var/quillane")
            .ledger("sqlite:ledger.db")
            .connections(3)
            .commit_every(Duration::ZERO)
            .feed("quay", "*.csv", feed)
            .build()
            .expect("a job");
        assert_eq!((job.connections, job.commit_every), (Some(3), Some(Duration::ZERO)));
        let files: Vec<PathBuf> = job.staging.urls().flat_map(StoreUrl::files).collect();
        assert!(files.contains(&"/var/quillane/quillane.db".into()), "{files:?}");
        assert!(files.contains(&"/var/quillane/ledger.db".into()), "{files:?}");
        let feed = &job.feed_named("berths").expect("the feed").feed;
        assert_eq!(
            (feed.table.as_str(), feed.mode, feed.key.as_slice()),
            ("b", Mode::Upsert, &["berth".to_owned()][..])
        );
    }
}
