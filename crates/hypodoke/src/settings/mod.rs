//! Settings: what `hypodoke.toml` says, checked and resolved against its folder.

mod addresses;
mod columns;
mod drift;
mod expand;
mod feed;
mod formats;
pub mod lasting;
mod measures;
pub mod notify;
mod places;
pub mod reader;
pub mod reason_code;
mod schedule;
mod staging;
pub mod watch;

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use hypodoke_engine::job::{InternalFiles, Job, PlaceSource};
use hypodoke_places::SpoolSettings;
use hypodoke_stores::{Staging, StoreUrl};

pub use feed::FeedSettings;
pub use places::PlaceSettings;

use notify::NotifySettings;
use reader::{Text, suggest};
use staging::StagingSettings;
use watch::WatchSettings;

use crate::failure::Failure;
use crate::schedule::Schedule;

/// The file that is looked for where none is named.
pub const FILE_NAME: &str = "hypodoke.toml";

/// The database where neither a configuration nor `--into` names one.
pub const DEFAULT_DATABASE: &str = "sqlite:hypodoke.db";

/// A configuration, resolved.
#[derive(Clone, Debug)]
pub struct Settings {
    /// Where it stands.
    pub file: PathBuf,
    /// Its text, as it was read.
    pub text: String,
    /// Where the tables and the ledger are.
    pub staging: Staging,
    /// How many connections load side by side, where the database takes that.
    pub connections: Option<usize>,
    /// After so long what is loaded is committed; as is usual if unsaid.
    pub commit_every: Option<Duration>,
    /// The places.
    pub places: Vec<PlaceSettings>,
    /// Where files of servers are kept while they are read.
    pub spool: SpoolSettings,
    /// The feeds, in the order of the file.
    pub feeds: Vec<FeedSettings>,
    /// Who is told of what.
    pub notify: Vec<NotifySettings>,
    /// How a watch goes about it.
    pub watch: WatchSettings,
}

impl Settings {
    /// Reads the named configuration, or the one in the current folder if there is one.
    pub fn find(named: Option<&Path>) -> Result<Option<Settings>, Failure> {
        match named {
            Some(file) => Settings::read(file).map(Some),
            None if Path::new(FILE_NAME).exists() => Settings::read(Path::new(FILE_NAME)).map(Some),
            None => Ok(None),
        }
    }

    /// Reads a configuration.
    pub fn read(file: &Path) -> Result<Settings, Failure> {
        let text = std::fs::read_to_string(file).map_err(|error| {
            Failure::usage(format!("the configuration `{}` could not be read: {error}", file.display()))
        })?;
        Settings::parse(file, text)
    }

    /// Reads a configuration whose text is known; `file` is where it stands.
    pub fn parse(file: &Path, text: String) -> Result<Settings, Failure> {
        let text = Text { file: file.to_path_buf(), text };
        let document = text.parse()?;
        let base = file.parent().unwrap_or(Path::new("")).to_path_buf();
        let mut root = text.section("", document.as_table());
        let StagingSettings { staging, connections, commit_every } = match root.only("staging")? {
            Some(section) => staging::read(section, &base)?,
            None => StagingSettings::of(Staging::new(StoreUrl::parse(DEFAULT_DATABASE, &base)?)),
        };
        let spool = places::spool(root.only("spool")?, &base)?;
        let places = root.inner("place")?;
        let places = places.into_iter().map(|(name, section)| places::read(name, section, &base, &spool));
        let places: Vec<PlaceSettings> = places.collect::<Result<_, _>>()?;
        let names: Vec<&str> = places.iter().map(|place| place.name.as_str()).collect();
        let replacements: Arc<[(String, String)]> = match root.only("names")? {
            Some(section) => section.pairs()?.into(),
            None => Arc::default(),
        };
        let feeds = root.inner("feed")?.into_iter();
        let feeds = feeds.map(|(name, section)| feed::read(name, section, &names, replacements.clone()));
        let feeds: Vec<FeedSettings> = feeds.collect::<Result<_, _>>()?;
        let names: Vec<&str> = feeds.iter().map(|feed| feed.name.as_str()).collect();
        let notify = root.inner("notify")?;
        let notify = notify.into_iter().map(|(name, section)| notify::read(name, section, &base, &names));
        let notify = notify.collect::<Result<_, _>>()?;
        let watch = watch::read(root.only("watch")?, root.only("log")?, &base)?;
        root.finish()?;
        let (file, text) = (text.file, text.text);
        Ok(Settings { file, text, staging, connections, commit_every, places, spool, feeds, notify, watch })
    }

    /// What the engine is to do by it.
    pub fn job(&self) -> Job {
        let place = |place: &PlaceSettings| {
            let source = PlaceSource::from(place.place.clone());
            source.complete_by(place.completeness.clone()).putting_away(place.put_away.clone())
        };
        let mut job = Job::new(self.staging.clone());
        job.connections = self.connections;
        job.commit_every = self.commit_every;
        job.places = self.places.iter().map(place).collect();
        job.feeds = self.feeds.iter().map(FeedSettings::source).collect();
        job.internal = internal_files(Some(&self.staging), vec![self.spool.folder.clone()]);
        job
    }

    /// The feeds' schedules, by their names.
    pub fn schedules(&self) -> impl Iterator<Item = (&str, &Schedule)> {
        self.feeds.iter().map(|feed| (feed.name.as_str(), &feed.schedule))
    }

    /// The feeds of these names; all where none is named.
    pub fn feeds_named(&self, names: &[String]) -> Result<Vec<&FeedSettings>, Failure> {
        if names.is_empty() {
            return Ok(self.feeds.iter().collect());
        }
        let all: Vec<&str> = self.feeds.iter().map(|feed| feed.name.as_str()).collect();
        let find = |name: &String| {
            self.feeds.iter().find(|feed| feed.name == *name).ok_or_else(|| {
                let what = format!("there is no feed `{name}`; there are {}", all.join(", "));
                suggest(Failure::usage(what), name, &all)
            })
        };
        names.iter().map(find).collect()
    }
}

/// Files of the program's own: its configuration and databases, and what stands in these folders.
pub fn internal_files(staging: Option<&Staging>, folders: Vec<PathBuf>) -> InternalFiles {
    let default = StoreUrl::parse(DEFAULT_DATABASE, Path::new("")).ok();
    let stores = staging.into_iter().flat_map(Staging::urls).cloned().chain(default).collect();
    InternalFiles::new(vec![FILE_NAME.to_owned()], stores, folders)
}
