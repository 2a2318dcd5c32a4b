//! The engine: from arrivals to rows in a table.
//!
//! [`select`] asks the ledger what is new, [`look`] gathers evidence where a layout is not
//! known yet, [`pour`] moves one file's records through the caster into the store, and
//! [`batch`] does this for every file of a batch and writes the receipt.

pub mod approach;
pub mod archive;
mod asked;
mod away;
pub mod batch;
pub mod by_hand;
pub mod clock;
pub mod conflicts;
pub mod decision;
pub mod differ;
pub mod due;
pub mod expect;
pub mod feed;
pub mod file;
pub mod find;
pub mod forecast;
pub mod ground;
pub mod lines;
pub mod look;
pub mod means;
pub mod mend;
pub mod naming;
pub mod order;
pub mod own;
pub mod patience;
pub mod pour;
pub mod preview;
pub mod prior;
pub mod receipt;
pub mod replay;
pub mod select;
pub mod source;
pub mod sums;
pub mod tally;
pub mod task;
pub mod trial;
pub mod window;

use hypodoke_core::pattern::{Part, PartValue};
use hypodoke_formats::bytes::archive::Member;
use hypodoke_places::Seen;

pub use feed::{Feed, KeepRule, KeepTest};

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
    /// The file with its control figures, where the feed has such and it was listed with this one.
    pub control: Option<Box<Seen>>,
}

impl Candidate {
    /// A file as it was seen.
    pub fn of(seen: Seen) -> Candidate {
        let shown = seen.arrival.path.clone();
        Candidate { seen, member: None, shown, parts: Vec::new(), control: None }
    }

    /// The file itself, also of one that is a member of it.
    pub fn container(&self) -> Seen {
        let mut seen = self.seen.clone();
        if let Some(member) = &self.member
            && let Some(path) = seen.arrival.path.strip_suffix(&format!("/{}", member.name))
        {
            seen.arrival.path = path.to_owned();
        }
        seen
    }
}

/// A feed with the files that are there for it.
#[derive(Clone, Debug)]
pub struct Delivery {
    /// The feed.
    pub feed: Feed,
    /// Its files, in the order of their paths.
    pub files: Vec<Candidate>,
    /// They are loaded whatever the ledger knows of them.
    pub again: bool,
}
