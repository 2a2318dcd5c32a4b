//! What was found of a file: its tables with the evidence of their columns.

use hypodoke_core::evidence::{Decision, Example, TableEvidence};
use hypodoke_core::layout::Layout;
use hypodoke_formats::{FormatFacts, TableHead};

use super::cache::CachedReader;

/// What was found of one table.
pub struct TableProfile {
    /// Where it stands in the file, and its columns.
    pub head: TableHead,
    /// Its header, named parts of the path included.
    pub header: Vec<String>,
    /// The evidence of its fields, the named parts of the path left out.
    pub evidence: TableEvidence,
    /// What was decided of each column.
    pub decisions: Vec<Decision>,
    /// Of each field, the first value of the widest class met: what its type is for.
    pub examples: Vec<Option<Example>>,
    /// Its layout, named parts included.
    pub layout: Layout,
    /// Where in the file its rows are, in words of the format.
    pub rows_at: Option<String>,
}

/// What was found of a file.
pub struct FileProfile {
    /// Its tables, the main one first.
    pub tables: Vec<TableProfile>,
    /// The main one has no rows of its own: the file's rows are all in the others.
    pub is_virtual: bool,
    /// How the file is written.
    pub facts: FormatFacts,
    /// The file in a few words.
    pub kind: String,
    /// Its encoding.
    pub encoding: Option<&'static str>,
    /// How it is compressed.
    pub compression: Option<&'static str>,
    /// The hash of its content, where that was wanted.
    pub hash: Option<String>,
    /// It is something else than its name says.
    pub remark: Option<String>,
    /// What else there is to say of it.
    pub notes: Vec<String>,
    /// Its records, where they were kept.
    pub kept: Option<CachedReader>,
    /// Lines after the table that were left out.
    pub footer: Vec<String>,
}

impl FileProfile {
    /// The heads of its tables.
    pub fn heads(&self) -> Vec<TableHead> {
        self.tables.iter().map(|table| table.head.clone()).collect()
    }

    /// The tables that have rows: all but a virtual main one.
    pub fn real_tables(&self) -> impl Iterator<Item = &TableProfile> {
        self.tables.iter().skip(usize::from(self.is_virtual))
    }

    /// The layout of the main table, which names its parts.
    pub fn layout(&self) -> &Layout {
        &self.tables[0].layout
    }

    /// The paths of its child tables.
    pub fn lists(&self) -> impl Iterator<Item = &str> {
        self.tables.iter().filter(|table| table.head.is_child).map(|table| table.head.path.as_str())
    }

    /// The paths of its sheets, where they have tables of their own.
    pub fn sheets(&self) -> impl Iterator<Item = &str> {
        let parts = self.tables.iter().skip(1).filter(|table| !table.head.is_child);
        parts.map(|table| table.head.path.as_str())
    }

    /// Whether it is a workbook of one sheet, whose rows go to the main table.
    pub fn is_single_sheet(&self) -> bool {
        self.facts.family == "workbook" && !self.is_virtual
    }

    /// Whether it has columns that a list of another file holds: profiled again, knowing that
    /// list, its objects are lists of one.
    pub fn would_join(&self, lists: &[String]) -> bool {
        lists.iter().filter(|list| !self.lists().any(|own| own == *list)).any(|list| {
            self.tables
                .iter()
                .flat_map(|table| table.head.names.iter().map(|name| path_of(&table.head, name)))
                .any(|path| path.strip_prefix(list.as_str()).is_some_and(|rest| rest.starts_with(['.', '['])))
        })
    }
}

fn path_of(head: &TableHead, name: &str) -> String {
    match (head.path.is_empty(), name.starts_with('[')) {
        (true, _) => name.to_owned(),
        (false, true) => format!("{}{name}", head.path),
        (false, false) => format!("{}.{name}", head.path),
    }
}

/// Whether the first of these tables has no rows of its own.
pub fn is_virtual(heads: &[TableHead]) -> bool {
    heads.iter().skip(1).any(|head| !head.is_child)
}
