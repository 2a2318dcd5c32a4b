//! The command line as it is written: parsed here, and resolved against the machine only
//! later, so that `--help` and the man pages never touch it.

mod ledger;
mod reading;
mod shared;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};

use crate::exit;
use crate::render::ColorChoice;
use crate::render::feed_plan::OnChange;
use crate::values::free_table;

pub use ledger::{
    DriftArguments, LedgerArguments, ReceiptArguments, RejectsArguments, ReplayArguments, ReportArguments,
    RetractArguments, SettleArguments, Status, TallyArguments,
};
pub use shared::{DatabaseArguments, ReadingArguments};

const ABOUT: &str = "\
Hypodoke receives the files that other people drop on you: it finds what is new, works out
what is in it, loads every row it can into staging tables, keeps every row it cannot, and
writes down what it did in the same transaction.";

const EXAMPLES: &str = "\
Examples:
  hypodoke demo                                        see all of it on made-up data
  hypodoke load movements.csv --into sqlite:harbour.db load one file, no configuration
  hypodoke load                                        load all that is new, by hypodoke.toml
  hypodoke receipt                                     the account of the last batch";

/// Everything on the command line.
#[derive(Debug, Parser)]
#[command(name = "hypodoke", version, about = ABOUT, after_help = EXAMPLES, after_long_help = format!("{EXAMPLES}\n\n{}", exit::HELP))]
#[command(max_term_width = 100, propagate_version = true, disable_help_subcommand = true)]
pub struct Arguments {
    #[command(flatten)]
    pub common: Common,
    #[command(subcommand)]
    pub command: Command,
}

/// What every command takes.
#[derive(Clone, Debug, Args)]
pub struct Common {
    /// The configuration to use instead of ./hypodoke.toml
    #[arg(long, global = true, value_name = "FILE")]
    pub config: Option<PathBuf>,
    /// Print one JSON document on standard output
    #[arg(long, global = true)]
    pub json: bool,
    /// Print results only, no progress and no remarks
    #[arg(short, long, global = true)]
    pub quiet: bool,
    /// Say more about what is done (-vv for yet more)
    #[arg(short, long, global = true, action = clap::ArgAction::Count)]
    pub verbose: u8,
    /// When to use colour
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto")]
    pub color: ColorChoice,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Show all of it, on made-up data, now
    #[command(
        after_help = "Examples:\n  hypodoke demo /tmp/quillane\n  hypodoke demo /tmp/quillane --office"
    )]
    Demo(DemoArguments),
    /// What are these files: kind, encoding, dialect, columns, types with evidence
    #[command(after_help = "\
Examples:
  hypodoke survey movements.csv                       one file, column by column
  hypodoke survey movements.csv --why draught         all there is to know of one column
  hypodoke survey inbox/                              a folder, grouped into layouts")]
    Survey(SurveyArguments),
    /// Write the configuration for these files
    #[command(after_help = "\
Examples:
  hypodoke draft inbox/                               write hypodoke.toml
  hypodoke draft inbox/ -o - --into sqlite:harbour.db print it instead")]
    Draft(DraftArguments),
    /// Is the configuration right, and can everything be reached
    #[command(after_help = "\
Examples:
  hypodoke check                                      database, rights, places, feeds
  hypodoke check north --ddl                          the SQL that the next load would run
  hypodoke check --trust gauge_office                 add the key of an SFTP server")]
    Check(CheckArguments),
    /// The first rows as they would be stored
    #[command(after_help = "\
Examples:
  hypodoke preview movements.csv
  hypodoke preview berth_movements -n 20              the newest file of a feed")]
    Preview(PreviewArguments),
    /// Load all that is new
    #[command(after_help = "\
Examples:
  hypodoke load                                       every feed of hypodoke.toml
  hypodoke load berth_movements                       one feed
  hypodoke load movements.csv --into sqlite:harbour.db
  hypodoke load inbox/ --table movements              a folder, into hypodoke.db")]
    Load(LoadArguments),
    /// Keep loading: as files arrive, and by the clock
    #[command(after_help = "\
Examples:
  hypodoke watch                                      every feed, until it is stopped
  hypodoke watch north --listen 127.0.0.1:9150        one feed, with health and metrics
  hypodoke watch --unit                               what systemd needs to run it")]
    Watch(WatchArguments),
    /// Which files were loaded, when, with what result
    #[command(after_help = "\
Examples:
  hypodoke ledger --today                             what came, and what wants a person
  hypodoke ledger --since 3d --feed north
  hypodoke ledger --status held
  hypodoke ledger --late                              feeds whose files are due and not there")]
    Ledger(LedgerArguments),
    /// A page to look at: volumes, drift and rejects over time
    #[command(after_help = "Examples:\n  hypodoke report\n  hypodoke report -o wall.html --days 14")]
    Report(ReportArguments),
    /// The account of a batch
    #[command(after_help = "Examples:\n  hypodoke receipt\n  hypodoke receipt 12 --json")]
    Receipt(ReceiptArguments),
    /// What changed in the files of a feed, and what was done about it
    #[command(after_help = "\
Examples:
  hypodoke drift                                      every change, as a timeline
  hypodoke drift north
  hypodoke drift --between monday.csv tuesday.csv     two files side by side
  hypodoke drift north --between 1 3                  two versions of a layout")]
    Drift(DriftArguments),
    /// Decide about a file that is held
    #[command(after_help = "\
Examples:
  hypodoke settle                                     what is held, and the ways out
  hypodoke settle movements_0305.csv --rename draught=draft_m --write
  hypodoke settle movements_0305.csv --load-anyway --dry-run
  hypodoke settle movements_0305.csv --discard --why \"sent by mistake\"")]
    Settle(SettleArguments),
    /// The rows that could not be loaded: why, and how to load them once corrected
    #[command(after_help = "\
Examples:
  hypodoke rejects                                    those of the last batch, by reason
  hypodoke rejects north --export bad.csv             those of a feed, as a file to be corrected
  hypodoke rejects --take bad.csv                     load what was corrected")]
    Rejects(RejectsArguments),
    /// Load files again, in the place of their own rows
    #[command(after_help = "\
Examples:
  hypodoke replay north/movements_20260304.csv        one file
  hypodoke replay 12 --yes                            the files of batch 12, without asking
  hypodoke replay north --modified 2026-03-02..2026-03-04")]
    Replay(ReplayArguments),
    /// Take the rows of files out again
    #[command(after_help = "\
Examples:
  hypodoke retract north/movements_20260304.csv
  hypodoke retract 12 --yes --why \"sent by mistake\"  the files of batch 12")]
    Retract(RetractArguments),
    /// Do the figures of files, tables and ledger agree
    #[command(after_help = "\
Examples:
  hypodoke tally                                      every file whose rows are in a table
  hypodoke tally north
  hypodoke tally 12                                   the files of batch 12")]
    Tally(TallyArguments),
    /// Print a completion script for a shell
    #[command(after_help = "Example:\n  hypodoke completions bash > /etc/bash_completion.d/hypodoke")]
    Completions(CompletionArguments),
    /// Write the man pages into a folder
    #[command(after_help = "Example:\n  hypodoke man /usr/local/share/man/man1")]
    Man(ManArguments),
}

/// `hypodoke demo`
#[derive(Debug, Args)]
pub struct DemoArguments {
    /// The folder to make the harbour in
    #[arg(value_name = "DIR", default_value = "quillane")]
    pub folder: PathBuf,
    /// Open the tide-gauge office, an SFTP server, until it is interrupted
    #[arg(long)]
    pub office: bool,
}

/// `hypodoke load`
#[derive(Debug, Default, Args)]
pub struct LoadArguments {
    /// Feeds of the configuration; or files and folders, with --into or without a configuration
    #[arg(value_name = "FEED|FILE")]
    pub what: Vec<PathBuf>,
    #[command(flatten)]
    pub database: DatabaseArguments,
    /// The table, instead of one named after the file
    #[arg(long, value_name = "NAME", value_parser = free_table_of)]
    pub table: Option<String>,
    /// Only files modified in a window: 2026-03-02..2026-03-04, or from a moment on, 2026-03-02T06:00..
    #[arg(long, value_name = "FROM..TO")]
    pub modified: Option<String>,
    /// Only files modified since so long ago: 12h, 3d
    #[arg(long, value_name = "SPAN")]
    pub since: Option<String>,
    #[command(flatten)]
    pub reading: ReadingArguments,
}

/// `hypodoke survey`
#[derive(Debug, Args)]
pub struct SurveyArguments {
    /// Files and folders
    #[arg(value_name = "PATH", required = true)]
    pub paths: Vec<PathBuf>,
    /// All the evidence of one column
    #[arg(long, value_name = "COLUMN")]
    pub why: Option<String>,
    /// Show every file, not only their layouts
    #[arg(long)]
    pub each: bool,
    #[command(flatten)]
    pub reading: ReadingArguments,
}

/// `hypodoke draft`
#[derive(Debug, Args)]
pub struct DraftArguments {
    /// Files and folders
    #[arg(value_name = "PATH", required = true)]
    pub paths: Vec<PathBuf>,
    /// Where to write it; - is standard output
    #[arg(short, long, value_name = "FILE", default_value = "hypodoke.toml")]
    pub output: PathBuf,
    /// Write over a file that is there
    #[arg(long)]
    pub force: bool,
    /// Ask about each feed, on a terminal: table, names, mode, key, changes, rejects, times
    #[arg(long)]
    pub ask: bool,
    /// The table, where the files are of one kind
    #[arg(long, value_name = "NAME", value_parser = free_table_of)]
    pub table: Option<String>,
    /// What becomes of rows: append, replace, upsert, insert-new, history
    #[arg(long, value_name = "MODE")]
    pub mode: Option<String>,
    /// The columns that tell rows apart: --key station,day
    #[arg(long, value_name = "COLUMN", value_delimiter = ',')]
    pub key: Vec<String>,
    /// What happens when files change
    #[arg(long, value_name = "WHAT")]
    pub on_change: Option<OnChange>,
    /// How many rows may be rejected: 100, or 1%
    #[arg(long, value_name = "LIMIT")]
    pub rejected_rows: Option<String>,
    /// Load every day at a time: 07:30
    #[arg(long, value_name = "TIME", conflicts_with = "every")]
    pub at: Option<String>,
    /// Load again and again, after so long: 15m
    #[arg(long, value_name = "SPAN")]
    pub every: Option<String>,
    /// Whose clock --at is by: Europe/Lisbon
    #[arg(long, value_name = "ZONE", requires = "at")]
    pub time_zone: Option<String>,
    /// Load what is there by what was written
    #[arg(long)]
    pub load: bool,
    #[command(flatten)]
    pub database: DatabaseArguments,
    #[command(flatten)]
    pub reading: ReadingArguments,
}

/// `hypodoke preview`
#[derive(Debug, Args)]
pub struct PreviewArguments {
    /// A file, or a feed of the configuration
    #[arg(value_name = "FILE|FEED")]
    pub what: PathBuf,
    /// How many rows
    #[arg(short = 'n', long, value_name = "N", default_value_t = 10)]
    pub rows: usize,
    #[command(flatten)]
    pub reading: ReadingArguments,
}

/// `hypodoke check`
#[derive(Debug, Args)]
pub struct CheckArguments {
    /// Feeds of the configuration; all if none is named
    #[arg(value_name = "FEED")]
    pub feeds: Vec<String>,
    /// Print the SQL that the next load would run to make or change tables
    #[arg(long)]
    pub ddl: bool,
    /// Send a test message to everybody who is told of things
    #[arg(long)]
    pub notify: bool,
    /// Show the key of a place's server, and add it to those that are known
    #[arg(long, value_name = "PLACE", conflicts_with_all = ["feeds", "ddl"])]
    pub trust: Option<String>,
    /// Do not ask
    #[arg(long, requires = "trust")]
    pub yes: bool,
}

/// `hypodoke watch`
#[derive(Debug, Args)]
pub struct WatchArguments {
    /// Feeds of the configuration; all if none is named
    #[arg(value_name = "FEED")]
    pub feeds: Vec<String>,
    /// Tell health (/healthz) and metrics (/metrics) on an address of this machine
    #[arg(long, value_name = "ADDRESS")]
    pub listen: Option<String>,
    /// Print units for systemd instead
    #[arg(long)]
    pub unit: bool,
}

/// `hypodoke completions`
#[derive(Debug, Args)]
pub struct CompletionArguments {
    /// The shell
    pub shell: clap_complete::Shell,
}

/// `hypodoke man`
#[derive(Debug, Args)]
pub struct ManArguments {
    /// The folder
    #[arg(value_name = "DIR")]
    pub folder: PathBuf,
}

fn free_table_of(name: &str) -> Result<String, String> {
    free_table(name).map(|()| name.to_owned())
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    #[test]
    fn the_definitions_hold_together() {
        Arguments::command().debug_assert();
    }

    #[test]
    fn every_command_has_an_example() {
        for command in Arguments::command().get_subcommands() {
            let help = command.get_after_help().map(|help| help.to_string()).unwrap_or_default();
            assert!(help.contains("hypodoke "), "{} has no example", command.get_name());
            assert!(command.get_about().is_some());
        }
    }
}
