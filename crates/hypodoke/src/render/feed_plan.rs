//! What is wanted of a drafted feed besides what its files show.

use hypodoke_stores::Mode;

/// What a person wants of a feed.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct FeedPlan {
    /// Its files are to be loaded at all.
    pub is_wanted: bool,
    /// The table, where it is another than the feed's name.
    pub table: Option<String>,
    /// The names of the columns of files without a header.
    pub header: Vec<String>,
    /// Columns of the file that have another name in the table; `None` leaves one out.
    pub names: Vec<(String, Option<String>)>,
    /// What becomes of rows.
    pub mode: Mode,
    /// What tells rows apart.
    pub key: Vec<String>,
    /// What happens when files change.
    pub on_change: OnChange,
    /// How many rejects are fine: a number or a share; none if unsaid.
    pub rejects: Option<String>,
    /// When it is loaded.
    pub when: LoadTimes,
    /// Whose clock that is.
    pub zone: Option<String>,
}

/// What happens when files are not what they were.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, clap::ValueEnum)]
pub enum OnChange {
    /// New columns are added, types widened; what is in doubt is held.
    #[default]
    Follow,
    /// Whatever differs is held.
    Hold,
}

/// When a feed is loaded by a watch.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum LoadTimes {
    /// As files arrive.
    #[default]
    OnArrival,
    /// Every day at a time, `07:30`.
    Daily(String),
    /// After so long, again and again.
    Every(String),
}
