//! The engine: from arrivals to rows in a table.
//!
//! [`select`] asks the ledger what is new, [`look`] gathers evidence where a layout is not
//! known yet, [`pour`] moves one file's records through the caster into the store, and
//! [`batch`] does this for every file of a batch and writes the receipt.

pub mod approach;
pub mod archive;
pub mod batch;
pub mod by_hand;
pub mod clock;
pub mod file;
pub mod forecast;
pub mod ground;
pub mod look;
pub mod naming;
pub mod order;
pub mod own;
pub mod patience;
pub mod pour;
pub mod preview;
pub mod receipt;
pub mod replay;
pub mod select;
pub mod source;

use hypodoke_core::layout::ColumnRule;
use hypodoke_core::names::{MAX_NAME, Namer, cut};
use hypodoke_core::pattern::{Part, PartValue};
use hypodoke_formats::Wishes;
use hypodoke_formats::bytes::archive::Member;
use hypodoke_places::Seen;
use hypodoke_stores::Mode;

/// A feed as the engine needs it: what its files are and where they go.
#[derive(Clone, Debug)]
pub struct Feed {
    /// Its name, where the configuration gives one.
    pub name: Option<String>,
    /// The table its rows go to.
    pub table: String,
    /// What is said of its columns.
    pub rules: Vec<ColumnRule>,
    /// How names are made.
    pub namer: Namer,
    /// What is said of how its files are written.
    pub wishes: Wishes,
    /// What becomes of its rows.
    pub mode: Mode,
    /// The columns that tell rows apart, by their names in the file or the table.
    pub key: Vec<String>,
    /// The named part of its pattern whose files are one delivery.
    pub delivery: Option<String>,
    /// Statements run before the first row of a file.
    pub sql_before: Vec<String>,
    /// Statements run after its last row.
    pub sql_after: Vec<String>,
}

impl Feed {
    /// A feed of which only the table is known.
    pub fn plain(table: String, wishes: Wishes, rules: Vec<ColumnRule>) -> Feed {
        Feed {
            name: None,
            table,
            rules,
            namer: Namer::default(),
            wishes,
            mode: Mode::Append,
            key: Vec::new(),
            delivery: None,
            sql_before: Vec::new(),
            sql_after: Vec::new(),
        }
    }

    /// What is said of the columns of one of a file's tables. Columns of a part are named with
    /// its path before them.
    pub fn rules_of(&self, path: &str) -> Vec<ColumnRule> {
        if path.is_empty() {
            return self.rules.clone();
        }
        let of_part = |rule: &ColumnRule| {
            let source = rule.source.strip_prefix(path)?.strip_prefix('.')?.to_owned();
            Some(ColumnRule { source, ..rule.clone() })
        };
        self.rules.iter().filter_map(of_part).collect()
    }

    /// The table that a part of its files goes to.
    pub fn table_of(&self, path: &str) -> String {
        if path.is_empty() {
            return self.table.clone();
        }
        let name = format!("{}_{}", self.table, self.namer.name(path));
        cut(name, MAX_NAME)
    }
}

/// A file that a feed wants.
#[derive(Clone, Debug)]
pub struct Candidate {
    /// The file.
    pub seen: Seen,
    /// Where it stands in an archive, if `seen` is one of several members of it.
    pub member: Option<Member>,
    /// Its path as people know it.
    pub shown: String,
    /// What the named parts of the feed's pattern held.
    pub parts: Vec<(Part, PartValue)>,
}

/// A feed with the files that are there for it.
#[derive(Clone, Debug)]
pub struct Delivery {
    /// The feed.
    pub feed: Feed,
    /// Its files, in the order of their paths.
    pub files: Vec<Candidate>,
}
