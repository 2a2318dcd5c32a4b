//! A file that a feed wants, and a feed with its files.

use std::sync::Arc;

use hypodoke_core::pattern::{Part, PartValue};
use hypodoke_core::spelling::{DateOrder, temporal};
use hypodoke_formats::bytes::archive::{Archive, ArchiveMember};
use hypodoke_places::Seen;

use super::Feed;

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
    /// Whether it is called a workbook: its records may be kept, and it is hashed as it is read.
    pub fn is_named_as_workbook(&self) -> bool {
        let path = self.seen.arrival.path.to_lowercase();
        [".xlsx", ".xlsm", ".xlsb", ".xls", ".ods"].iter().any(|ending| path.ends_with(ending))
    }

    /// Whether it is called a columnar file: such a one says itself what its columns are.
    pub fn is_named_as_columnar(&self) -> bool {
        let path = self.seen.arrival.path.to_lowercase();
        [".parquet", ".arrow", ".arrows", ".feather"].iter().any(|ending| path.ends_with(ending))
    }

    /// The day that the file is of, in days since 1970: the first one that the named parts of its path tell,
    /// or else the first in its name, as `20260302` or `2026-03-02`.
    pub fn day(&self) -> Option<i32> {
        let of_part = |value: &PartValue| match value {
            PartValue::Date(days) => Some(*days),
            PartValue::Timestamp(micros) => i32::try_from(micros.div_euclid(temporal::DAY)).ok(),
            PartValue::Text(_) => None,
        };
        let named = self.parts.iter().find_map(|(_, value)| of_part(value));
        named.or_else(|| {
            let name = self.seen.arrival.path.rsplit('/').next().unwrap_or_default();
            let digits = name.split(|c: char| !c.is_ascii_digit()).filter(|run| run.len() == 8);
            let compact = digits.filter_map(|run| temporal::of_digits(run.parse().ok()?)).next();
            let marked = || {
                let windows = name.as_bytes().windows(10);
                windows.filter_map(|window| temporal::read_date(window, DateOrder::Ymd)).next()
            };
            compact
                .and_then(|(micros, _)| i32::try_from(micros.div_euclid(temporal::DAY)).ok())
                .or_else(marked)
        })
    }

    /// A file as it was seen.
    pub fn of(seen: Seen) -> Candidate {
        let shown = seen.arrival.path.clone();
        Candidate { seen, member: None, shown, parts: Vec::new(), control: None }
    }

    /// The file itself, also of one that is a member of it.
    pub fn container(&self) -> &Seen {
        self.member.as_ref().map_or(&self.seen, |member| &member.container)
    }

    /// The names of the parts of its path.
    pub fn part_names(&self) -> Vec<String> {
        self.parts.iter().map(|(part, _)| part.name.clone()).collect()
    }
}

/// Where a file stands in an archive.
#[derive(Clone, Debug)]
pub struct Member {
    /// The archive as a file.
    pub container: Arc<Seen>,
    /// Its directory.
    pub archive: Archive,
    /// What it says of the member.
    pub entry: ArchiveMember,
}

/// A feed with the files that are there for it.
#[derive(Clone, Debug)]
pub struct FeedFiles {
    /// The feed.
    pub feed: Feed,
    /// Its files, in the order of their paths.
    pub files: Vec<Candidate>,
    /// They are loaded whatever the ledger knows of them.
    pub again: bool,
}
