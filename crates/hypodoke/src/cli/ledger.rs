//! What the commands are given that ask the ledger, and those that change what it tells of.

use std::path::PathBuf;

use clap::Args;

use super::{DatabaseArguments, ReadingArguments};

/// What came of a file, as the ledger is asked for it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
pub enum Status {
    /// Its rows are in the table.
    Loaded,
    /// It could not be loaded.
    Failed,
    /// It is set aside until a person settles it.
    Held,
    /// The same content was loaded already.
    Same,
    /// A later version took its place.
    Replaced,
    /// A person decided against it.
    Discarded,
    /// Its rows were taken out again.
    Retracted,
    /// Some of its rows were rejected.
    Rejects,
}

/// `hypodoke ledger`
#[derive(Debug, Args)]
pub struct LedgerArguments {
    #[command(flatten)]
    pub database: DatabaseArguments,
    /// How many entries to show, the newest (50 unless something narrower is asked for)
    #[arg(short = 'n', long, value_name = "N")]
    pub most: Option<usize>,
    /// Only what was done today, and what wants a person; the exit code tells whether anything does
    #[arg(long, conflicts_with = "since")]
    pub today: bool,
    /// The same since so long ago, or since a moment: 12h, 3d, 2026-03-02, 2026-03-02T06:00
    #[arg(long, value_name = "SPAN|MOMENT")]
    pub since: Option<String>,
    /// Only files of a feed
    #[arg(long, value_name = "FEED")]
    pub feed: Option<String>,
    /// Only files of which this came: loaded, failed, held, same, replaced, discarded, retracted; or rejects
    #[arg(long, value_name = "WORD")]
    pub status: Option<Status>,
    /// Only files with this reason code, or one of its group: held, held.truncated, failed.password
    #[arg(long, value_name = "CODE")]
    pub reason: Option<String>,
    /// Only feeds whose files are due and have not come
    #[arg(long)]
    pub late: bool,
}

/// `hypodoke drift`
#[derive(Debug, Args)]
pub struct DriftArguments {
    /// A feed or a table; all if none is named
    #[arg(value_name = "FEED")]
    pub feed: Option<String>,
    /// Compare two files, or two versions of the feed's layout by their numbers
    #[arg(long, num_args = 2, value_names = ["A", "B"])]
    pub between: Vec<String>,
    #[command(flatten)]
    pub database: DatabaseArguments,
    #[command(flatten)]
    pub reading: ReadingArguments,
}

/// `hypodoke settle`
#[derive(Debug, Default, Args)]
pub struct SettleArguments {
    /// Files that are held or failed, by their paths or the ends of them, by patterns or their feeds; none
    /// lists what is held, and asks on a terminal
    #[arg(value_name = "FILE|FEED")]
    pub files: Vec<String>,
    /// All that is held
    #[arg(long, conflicts_with = "files")]
    pub all: bool,
    /// A column is another under a new name
    #[arg(long, value_name = "OLD=NEW")]
    pub rename: Vec<String>,
    /// The table gets a column
    #[arg(long, value_name = "COLUMN")]
    pub add_column: Vec<String>,
    /// A column is left out
    #[arg(long, value_name = "COLUMN")]
    pub ignore_column: Vec<String>,
    /// A column becomes text
    #[arg(long, value_name = "COLUMN")]
    pub as_text: Vec<String>,
    /// Load it whatever else is the matter
    #[arg(long, conflicts_with = "discard")]
    pub load_anyway: bool,
    /// Never load it
    #[arg(long, conflicts_with_all = ["rename", "add_column", "ignore_column", "as_text"])]
    pub discard: bool,
    /// Why, for the ledger
    #[arg(long, value_name = "TEXT")]
    pub why: Option<String>,
    /// Write the lasting part of it into the configuration
    #[arg(long)]
    pub write: bool,
    /// List what is held, and ask nothing
    #[arg(long)]
    pub list: bool,
    /// Show what would come of it, and decide nothing
    #[arg(long, conflicts_with = "write")]
    pub dry_run: bool,
    #[command(flatten)]
    pub database: DatabaseArguments,
}

/// `hypodoke rejects`
#[derive(Debug, Args)]
pub struct RejectsArguments {
    /// A batch by its number, a feed or a table; the newest batch if none is named
    #[arg(value_name = "BATCH|FEED")]
    pub of: Option<String>,
    /// Write them as CSV with their reasons and origins, to be corrected; - is standard output
    #[arg(long, value_name = "FILE", conflicts_with = "take")]
    pub export: Option<PathBuf>,
    /// Put ' before values that a spreadsheet would read as formulas; --take removes it
    #[arg(long, requires = "export")]
    pub for_spreadsheet: bool,
    /// Load the corrected rows of such a file
    #[arg(long, value_name = "FILE", conflicts_with = "of")]
    pub take: Option<PathBuf>,
    /// Show every reject, not only their reasons
    #[arg(long)]
    pub each: bool,
    #[command(flatten)]
    pub database: DatabaseArguments,
}

/// `hypodoke replay`
#[derive(Debug, Args)]
pub struct ReplayArguments {
    /// Files by their paths or the ends of them, batches by their numbers, feeds or tables
    #[arg(value_name = "FILE|BATCH|FEED")]
    pub what: Vec<String>,
    /// Only files modified in a window: 2026-03-02..2026-03-04
    #[arg(long, value_name = "FROM..TO")]
    pub modified: Option<String>,
    /// Only files modified since so long ago: 12h, 3d
    #[arg(long, value_name = "SPAN")]
    pub since: Option<String>,
    /// Also replace rows that somebody else has changed since they were loaded
    #[arg(long)]
    pub overwrite: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
    #[command(flatten)]
    pub database: DatabaseArguments,
}

/// `hypodoke retract`
#[derive(Debug, Args)]
pub struct RetractArguments {
    /// Files by their paths or the ends of them, batches by their numbers, feeds or tables
    #[arg(value_name = "FILE|BATCH|FEED", required = true)]
    pub what: Vec<String>,
    /// Why, for the ledger
    #[arg(long, value_name = "TEXT")]
    pub why: Option<String>,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
    #[command(flatten)]
    pub database: DatabaseArguments,
}

/// `hypodoke tally`
#[derive(Debug, Args)]
pub struct TallyArguments {
    /// A batch by its number, a feed or a table; all if none is named
    #[arg(value_name = "BATCH|FEED")]
    pub of: Option<String>,
    /// Count the ledger and the tables only, and leave the sources unread
    #[arg(long)]
    pub quick: bool,
    #[command(flatten)]
    pub database: DatabaseArguments,
}

/// `hypodoke report`
#[derive(Debug, Args)]
pub struct ReportArguments {
    /// Where to write it; - is standard output
    #[arg(short, long, value_name = "FILE", default_value = "hypodoke-report.html")]
    pub output: PathBuf,
    /// How many days back it looks
    #[arg(long, value_name = "N", default_value_t = 60, value_parser = clap::value_parser!(u32).range(1..=3660))]
    pub days: u32,
    #[command(flatten)]
    pub database: DatabaseArguments,
}

/// `hypodoke receipt`
#[derive(Debug, Args)]
pub struct ReceiptArguments {
    /// The batch, by its number; the newest if none is named
    #[arg(value_name = "BATCH")]
    pub batch: Option<i64>,
    #[command(flatten)]
    pub database: DatabaseArguments,
}
