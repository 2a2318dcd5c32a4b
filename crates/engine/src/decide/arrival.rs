//! Decisions about a file by what the ledger knows of it, before it is read for its values.

use hypodoke_stores::{Capabilities, Mode};

use super::{FailReason, FileDecision, HoldReason, SkipReason, Terms};
use crate::job::{ChangedFile, EmptyFile, SameContent};

/// What a file is to the ledger.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LedgerMatch {
    /// It is known, and as it was.
    Known,
    /// The same content is loaded.
    Same {
        /// The batch that loaded it.
        batch: i64,
        /// The path it was loaded from.
        path: String,
        /// The hash of the content.
        hash: String,
        /// The named parts of both paths hold the same.
        same_parts: bool,
    },
    /// It is not loaded.
    New,
    /// Another content was loaded from this path, by the number of its entry.
    Changed(i64),
}

/// What is known of a file before it is read.
#[derive(Clone, Debug)]
pub struct ArrivalFacts<'a> {
    /// Its path.
    pub path: &'a str,
    /// What it is to the ledger.
    pub ledger: &'a LedgerMatch,
    /// It is to be loaded whatever the ledger knows of it.
    pub again: bool,
    /// What becomes of rows.
    pub mode: Mode,
    /// What becomes of content that is loaded already.
    pub same_content: SameContent,
    /// What becomes of a file whose content is new.
    pub changed_file: ChangedFile,
    /// A person has decided to load it whatever is wrong with it.
    pub waived: bool,
    /// The table, and whether its rows lead back to their files.
    pub table: &'a str,
    /// See `table`.
    pub has_lineage: bool,
}

impl ArrivalFacts<'_> {
    /// Whether content that is loaded already under a path is not loaded again.
    fn is_skipped(&self, path: &str, same_parts: bool) -> bool {
        // A file that was only touched is the file it was.
        path == self.path
            || match self.same_content {
                SameContent::Skip => true,
                SameContent::Load => false,
                SameContent::ByMode => self.mode == Mode::Append && same_parts,
            }
    }
}

/// Decides about a file with nothing in it. `came_before` says that others of its feed were empty and are
/// known to be.
pub fn on_empty(empty_file: EmptyFile, came_before: bool, waived: bool) -> FileDecision {
    match empty_file {
        EmptyFile::Fail => FileDecision::load(),
        EmptyFile::Skip => FileDecision::Skip(SkipReason::Empty),
        EmptyFile::ByHistory | EmptyFile::Hold if waived => FileDecision::Skip(SkipReason::Empty),
        EmptyFile::ByHistory if came_before => FileDecision::Skip(SkipReason::Empty),
        EmptyFile::ByHistory | EmptyFile::Hold => FileDecision::Hold(vec![HoldReason::Empty]),
    }
}

/// Decides by what the ledger knows.
pub fn on_arrival(facts: &ArrivalFacts<'_>) -> FileDecision {
    let replaces = match facts.ledger {
        LedgerMatch::Known => return FileDecision::Skip(SkipReason::Known),
        LedgerMatch::Same { batch, path, same_parts, .. } if facts.is_skipped(path, *same_parts) => {
            let path = (path != facts.path).then(|| path.clone());
            return FileDecision::Skip(SkipReason::SameContent { batch: *batch, path });
        }
        LedgerMatch::Same { .. } | LedgerMatch::New => None,
        LedgerMatch::Changed(earlier) if facts.again => Some(*earlier),
        LedgerMatch::Changed(earlier) => match facts.changed_file {
            ChangedFile::Replace => Some(*earlier),
            ChangedFile::Append => None,
            ChangedFile::Ignore => return FileDecision::Skip(SkipReason::ChangeIgnored),
            ChangedFile::Hold if facts.waived => Some(*earlier),
            ChangedFile::Hold => return FileDecision::Hold(vec![HoldReason::ChangedFile]),
        },
    };
    // By its key a row is found without lineage, and a delivery is all that the table holds.
    if replaces.is_some() && !facts.has_lineage && facts.mode == Mode::Append {
        return FileDecision::Fail(FailReason::RowsNotFound { table: facts.table.to_owned() });
    }
    FileDecision::Load(Terms { replaces, ..Terms::default() })
}

/// Decides by what the tables offer: the modes that they do, and whether several files go in together.
pub fn on_capabilities(mode: Mode, files: usize, offered: &Capabilities, database: &str) -> FileDecision {
    let what = match () {
        () if !offered.modes.contains(&mode) => format!("the mode `{}`", mode.word()),
        () if files > 1 && !offered.groups => "deliveries of several files".to_owned(),
        () => return FileDecision::load(),
    };
    FileDecision::Fail(FailReason::NotOffered { what, database: database.to_owned() })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn facts(ledger: &LedgerMatch) -> ArrivalFacts<'_> {
        ArrivalFacts {
            path: "a.csv",
            ledger,
            again: false,
            mode: Mode::Append,
            same_content: SameContent::ByMode,
            changed_file: ChangedFile::Replace,
            waived: false,
            table: "berths",
            has_lineage: true,
        }
    }

    fn same() -> LedgerMatch {
        LedgerMatch::Same { batch: 3, path: "b.csv".into(), hash: "00".into(), same_parts: true }
    }

    fn replacing(entry: i64) -> FileDecision {
        FileDecision::Load(Terms { replaces: Some(entry), ..Terms::default() })
    }

    #[rstest]
    #[case::known(LedgerMatch::Known, FileDecision::Skip(SkipReason::Known))]
    #[case::new(LedgerMatch::New, FileDecision::load())]
    #[case::changed(LedgerMatch::Changed(7), replacing(7))]
    #[case::same(same(), FileDecision::Skip(SkipReason::SameContent { batch: 3, path: Some("b.csv".into()) }))]
    fn a_file_goes_by_what_the_ledger_knows(#[case] ledger: LedgerMatch, #[case] expected: FileDecision) {
        assert_eq!(on_arrival(&facts(&ledger)), expected);
    }

    #[rstest]
    #[case::append(ChangedFile::Append, false, FileDecision::load())]
    #[case::ignore(ChangedFile::Ignore, false, FileDecision::Skip(SkipReason::ChangeIgnored))]
    #[case::hold(ChangedFile::Hold, false, FileDecision::Hold(vec![HoldReason::ChangedFile]))]
    #[case::waived(ChangedFile::Hold, true, replacing(7))]
    fn a_changed_file_goes_by_the_feed(
        #[case] changed_file: ChangedFile,
        #[case] waived: bool,
        #[case] expected: FileDecision,
    ) {
        let ledger = LedgerMatch::Changed(7);
        assert_eq!(on_arrival(&ArrivalFacts { changed_file, waived, ..facts(&ledger) }), expected);
    }

    #[rstest]
    #[case::another_delivery(Mode::Append, SameContent::ByMode, "b.csv", false, true)]
    #[case::a_copy(Mode::Append, SameContent::ByMode, "b.csv", true, false)]
    #[case::a_state(Mode::Upsert, SameContent::ByMode, "b.csv", true, true)]
    #[case::as_said(Mode::Upsert, SameContent::Skip, "b.csv", false, false)]
    #[case::only_touched(Mode::Upsert, SameContent::Load, "a.csv", true, false)]
    fn the_same_content_is_loaded_where_it_is_another_delivery_or_state(
        #[case] mode: Mode,
        #[case] same_content: SameContent,
        #[case] path: &str,
        #[case] same_parts: bool,
        #[case] is_loaded: bool,
    ) {
        let ledger = LedgerMatch::Same { batch: 3, path: path.into(), hash: "00".into(), same_parts };
        let decision = on_arrival(&ArrivalFacts { mode, same_content, ..facts(&ledger) });
        assert_eq!(matches!(decision, FileDecision::Load(_)), is_loaded);
    }

    #[test]
    fn rows_that_lead_nowhere_cannot_be_replaced() {
        let ledger = LedgerMatch::Changed(7);
        let decision = on_arrival(&ArrivalFacts { has_lineage: false, ..facts(&ledger) });
        assert_eq!(decision, FileDecision::Fail(FailReason::RowsNotFound { table: "berths".into() }));
        let same = same();
        let load = ArrivalFacts { has_lineage: false, same_content: SameContent::Load, ..facts(&same) };
        assert_eq!(on_arrival(&load), FileDecision::load());
    }

    #[rstest]
    #[case::offered(Mode::Append, 1, None)]
    #[case::no_such_mode(Mode::History, 1, Some("the mode `history`"))]
    #[case::one_file_needs_no_group(Mode::Replace, 1, None)]
    #[case::no_groups(Mode::Replace, 2, Some("deliveries of several files"))]
    fn what_the_tables_do_not_offer_fails_a_file(
        #[case] mode: Mode,
        #[case] files: usize,
        #[case] what: Option<&str>,
    ) {
        let offered = Capabilities {
            ledger_with_rows: true,
            table_changes_with_rows: true,
            groups: false,
            many_writers: false,
            modes: &[Mode::Append, Mode::Replace],
            takes_nul: true,
            most_columns: 100,
        };
        let decision = on_capabilities(mode, files, &offered, "the lake");
        let expected = what.map_or(FileDecision::load(), |what| {
            FileDecision::Fail(FailReason::NotOffered { what: what.into(), database: "the lake".into() })
        });
        assert_eq!(decision, expected);
    }
}
