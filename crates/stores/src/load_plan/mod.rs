//! What is asked of the load of one file, and what is known of it when all its rows are in.

mod counts;
pub mod file_order;
mod fold_rules;
mod mode;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::drift::{Change, Drift};
use hypodoke_core::layout::{Column, Layout};
use hypodoke_core::names::{
    FILE_COLUMN, GONE_COLUMN, LINE_COLUMN, Lineage, MAX_NAME, VALID_FROM_COLUMN, VALID_TO_COLUMN, cut,
};
use hypodoke_core::outcome::Reason;
use hypodoke_core::types::Type;

pub use counts::Counts;
pub use file_order::{FileInForce, FileOrder, sortable_number};
pub use fold_rules::{FoldRules, Vanished};
pub use mode::Mode;

use crate::sql::quote;

/// What becomes of one table that a file fills.
#[derive(Clone, Debug)]
pub struct TablePlan {
    /// The table.
    pub table: String,
    /// Where in the file its rows stand; empty for a file's main table.
    pub path: String,
    /// The table's layout once the file is loaded: its columns in the order of the rows' cells.
    pub layout: Layout,
    /// The version of the table's layout in the ledger that the plan was made by, 0 where there was none:
    /// if it is another by the time of the load, the plan is made anew. `None` where it does not matter.
    pub based_on: Option<i64>,
    /// What changes in the table; a table that is not there is created.
    pub changes: Vec<Change>,
    /// All that differs from the files before, with what is done about it, for the ledger.
    pub drift: Vec<Drift>,
    /// The lineage columns that the table has, or gets.
    pub lineage: Lineage,
    /// Whether the ledger keeps the table's layout: not of a table that somebody else made.
    pub keeps_layout: bool,
    /// The file has no rows of its own for it, only for its parts: there is no such table.
    pub is_virtual: bool,
    /// What becomes of its rows.
    pub mode: Mode,
    /// The columns that tell rows apart, where the mode asks for them.
    pub key: Vec<String>,
    /// Columns that say something of the file, and not of what its rows tell: a row that differs
    /// in them only is the same row.
    pub of_file: Vec<String>,
    /// Rows that a full delivery no longer holds are marked.
    pub marks_gone: bool,
}

/// An index of a table.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableIndex {
    /// Its name.
    pub name: String,
    /// The statement that makes it, where it is not there.
    pub sql: String,
}

impl TableIndex {
    fn new(kind: &str, name: String, table: &str, columns: &str) -> TableIndex {
        let sql = format!("CREATE {kind} IF NOT EXISTS {} ON {table} {columns}", quote(&name));
        TableIndex { name, sql }
    }
}

/// The name of an index of a table. Of a name that is too long the end is a digest, as all indexes of a schema
/// have to be called otherwise.
pub(crate) fn index_name(what: &str, table: &str) -> String {
    const DIGITS: usize = 8;
    let name = format!("hd_{what}_{table}");
    if name.len() <= MAX_NAME {
        return name;
    }
    let digest = blake3::hash(table.as_bytes()).to_hex();
    cut(name, MAX_NAME - DIGITS - 1) + "_" + digest.get(..DIGITS).unwrap_or_default()
}

/// One file to load: what is to become of its tables, and what the ledger is to say.
#[derive(Clone, Debug)]
pub struct LoadPlan {
    /// The batch it belongs to.
    pub batch: i64,
    /// The newest entry of the file that was known when it was decided to load it, 0 where there was none: if
    /// there is a newer one by the time of the load, it is decided anew. `None` where that does not matter.
    pub known_until: Option<i64>,
    /// The file.
    pub arrival: Arrival,
    /// The feed, if the configuration names one.
    pub feed: Option<String>,
    /// The tables it fills, the main one first.
    pub tables: Vec<TablePlan>,
    /// The file of the ledger whose rows these replace.
    pub replaces: Option<i64>,
    /// What kind of file it is, how it is compressed, encoded and written, for the ledger.
    pub kind: String,
    /// When the load began: microseconds since 1970.
    pub began: i64,
    /// Where it stands among the files of its table, as far as that is known before it is read.
    pub order: FileOrder,
    /// How its tables follow from their files.
    pub rules: LoadRules,
    /// Statements that are run before the first row, in the same transaction.
    pub sql_before: Vec<String>,
    /// Statements that are run after the last row.
    pub sql_after: Vec<String>,
    /// Rows are sent in small lots, so that one the database refuses costs no other.
    pub careful: bool,
    /// How the file is written, as JSON, for the ledger.
    pub shape: Option<String>,
    /// No rows come in the place of those that are replaced: they are only taken out.
    pub retracts: bool,
    /// The file of the ledger whose corrected rejects these rows are: it gets no entry of its own.
    pub resubmits: Option<i64>,
    /// The file of the ledger whose rows these are, which are only kept in the ledger.
    pub keeps_for: Option<i64>,
    /// How rows of its keys that differ from the files are treated.
    pub restore: Restore,
}

/// How a load treats rows of its keys that differ from what the files hold.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Restore {
    /// They are not looked for: the load applies what the file changes.
    #[default]
    Nothing,
    /// Missing rows are inserted. Rows that somebody else changed stay, and their keys are named.
    Missing,
    /// Missing rows are inserted, and rows that somebody else changed are replaced.
    Everything,
}

impl Restore {
    /// Whether rows are restored at all.
    pub fn is_wanted(self) -> bool {
        self != Restore::Nothing
    }
}

/// How tables follow from their files: kept in the ledger, so that what was loaded can be taken out
/// and loaded again without a configuration.
#[derive(Clone, Debug, Default, PartialEq, serde::Serialize, serde::Deserialize)]
#[serde(default)]
pub struct LoadRules {
    /// What becomes of rows.
    pub mode: Mode,
    /// The column of the main table whose greatest value says where a file stands.
    pub order: Option<String>,
    /// The column of the main table that says from when on a row holds.
    pub valid_from: Option<String>,
    /// How a load treats keys that a file no longer holds.
    pub vanished: Vanished,
    /// The most keys that may vanish with one file, as a share of those there are.
    pub vanished_at_most: Option<f64>,
    /// Rows of files are kept in the ledger.
    pub keeps_rows: bool,
    /// What the named parts of the file's path hold.
    pub parts: Vec<(String, String)>,
    /// The tables, the main one first.
    pub tables: Vec<TableRules>,
}

/// How one table follows from its files.
#[derive(Clone, Debug, Default, PartialEq, serde::Serialize, serde::Deserialize)]
#[serde(default)]
pub struct TableRules {
    /// The table.
    pub table: String,
    /// Where in a file its rows stand.
    pub path: String,
    /// What becomes of its rows, where that is another mode than the feed's.
    pub mode: Mode,
    /// The columns that tell rows apart.
    pub key: Vec<String>,
    /// Columns that say something of the file only.
    pub of_file: Vec<String>,
    /// It has no rows of its own.
    pub is_virtual: bool,
}

impl LoadRules {
    /// How a table follows from its files.
    pub fn fold(&self) -> FoldRules {
        FoldRules { mode: self.mode, vanished: self.vanished }
    }

    /// Whether more keys are gone with a file than may be.
    pub fn is_too_many(&self, vanished: u64, there: u64) -> bool {
        self.vanished_at_most.is_some_and(|most| vanished as f64 > most * there as f64)
    }

    /// The rules with those of the tables of a plan.
    pub fn with_tables(&self, tables: &[TablePlan]) -> LoadRules {
        let rules = |table: &TablePlan| TableRules {
            table: table.table.clone(),
            path: table.path.clone(),
            mode: table.mode,
            key: table.key.clone(),
            of_file: table.of_file.clone(),
            is_virtual: table.is_virtual,
        };
        LoadRules { tables: tables.iter().map(rules).collect(), ..self.clone() }
    }
}

impl LoadPlan {
    /// The columns of a table's key, by their places in its layout, where keys vanish that a file does not hold;
    /// none where they do not.
    pub fn vanishing_key(&self, table: &TablePlan) -> Vec<usize> {
        if self.rules.vanished == Vanished::Keep || !table.mode.has_key() {
            return Vec::new();
        }
        table.key.iter().filter_map(|name| table.layout.find(name)).collect()
    }
}

impl TablePlan {
    /// The type that a column has before the load; `None` if the table gets it now.
    pub fn type_before(&self, column: &Column) -> Option<Type> {
        let change = self.changes.iter().find_map(|change| match change {
            Change::Added { column: name, .. } if *name == column.name => Some(None),
            Change::Widened { column: name, from, .. } if *name == column.name => Some(Some(*from)),
            _ => None,
        });
        change.unwrap_or_else(|| Some(column.ty()))
    }

    /// The columns of ours that say since when and until when a row holds.
    pub fn moments(&self) -> &'static [&'static str] {
        match self.mode {
            _ if self.is_part() => &[],
            Mode::History => &[VALID_FROM_COLUMN, VALID_TO_COLUMN],
            _ if self.marks_gone => &[GONE_COLUMN],
            _ => &[],
        }
    }

    /// The indexes that a table of ours needs for its mode; `table` is its name in statements.
    pub fn indexes(&self, table: &str) -> Vec<TableIndex> {
        if !self.keeps_layout || self.is_virtual || !self.mode.has_key() {
            return Vec::new();
        }
        if self.is_part() {
            let columns = format!("({FILE_COLUMN}, {LINE_COLUMN})");
            return vec![TableIndex::new("INDEX", index_name("rows", &self.table), table, &columns)];
        }
        let current = if self.mode == Mode::History {
            format!(" WHERE {VALID_TO_COLUMN} IS NULL")
        } else {
            String::new()
        };
        let columns = format!("{}{current}", self.key_list());
        vec![TableIndex::new("UNIQUE INDEX", index_name("key", &self.table), table, &columns)]
    }

    /// The columns of the key as they stand in statements, in brackets.
    fn key_list(&self) -> String {
        format!("({})", self.key.iter().map(|name| quote(name)).collect::<Vec<_>>().join(", "))
    }

    /// The index that finds all versions of a key of a table of ours; `None` where one index does.
    pub fn version_index(&self, table: &str) -> Option<TableIndex> {
        let is_wanted = self.mode == Mode::History && self.keeps_layout && !self.is_part();
        let name = || index_name("versions", &self.table);
        is_wanted.then(|| TableIndex::new("INDEX", name(), table, &self.key_list()))
    }

    /// Whether its rows are parts of the main table's records, and come and go with them.
    pub fn is_part(&self) -> bool {
        self.lineage == Lineage::Children && self.key.is_empty() && self.mode.has_key()
    }
}

/// What came of a file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Finished {
    /// Its number in the ledger.
    pub file: i64,
    /// What became of its rows.
    pub counts: Counts,
    /// A newer delivery is in the table.
    pub superseded: bool,
    /// The first keys that were left as somebody else has changed them, each as its columns and their values:
    /// `id 2`.
    pub left_keys: Vec<String>,
}

impl LoadPlan {
    /// What becomes of rows.
    pub fn mode(&self) -> Mode {
        self.rules.mode
    }

    /// Whether rows of a table are only ever added.
    pub fn appends_to(&self, table: &str) -> bool {
        self.tables.iter().any(|plan| plan.table == table && plan.mode == Mode::Append)
    }

    /// The table that the file is known by.
    pub fn table(&self) -> &str {
        self.tables.first().map_or("", |main| &main.table)
    }
}

/// What is known of one table when all the file's rows are in.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct PartSummary {
    /// Records read.
    pub read: u64,
    /// Rows loaded.
    pub loaded: u64,
    /// The layout as the file's values left it.
    pub layout: Layout,
    /// How the file differs in what its values come to, which is known when all of them are in.
    pub drift: Vec<Drift>,
}

/// What is known of a file when all its rows are in.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct FileSummary {
    /// The hash of its content.
    pub hash: String,
    /// Records read, what is nested in them not counted.
    pub read: u64,
    /// Rows loaded of them.
    pub loaded: u64,
    /// Rows rejected of them.
    pub rejected: u64,
    /// Records left out by rule.
    pub left_out: u64,
    /// What else there is to say of the file.
    pub message: Option<String>,
    /// What the file is warned of, as codes and their facts.
    pub reasons: Vec<Reason>,
    /// One for each table of the plan.
    pub parts: Vec<PartSummary>,
    /// When the load ended: microseconds since 1970.
    pub ended: i64,
    /// Rejects that are none any more, where the load resubmits some.
    pub resubmitted: Vec<CorrectedReject>,
    /// Where the file stands, where a column says it: as [`FileOrder::key`].
    pub order: Option<String>,
    /// What its columns hold, in figures, as JSON.
    pub figures: Option<String>,
}

/// A reject that is loaded with the values of a person.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CorrectedReject {
    /// The number of the reject.
    pub reject: i64,
    /// The values by the names of their columns, as JSON.
    pub values: String,
}

impl FileSummary {
    /// What there is to say of the file, with what is to be said of what became of its rows.
    pub(crate) fn message_with(&self, counts: &Counts) -> Option<String> {
        let all: Vec<String> = self.message.clone().into_iter().chain(counts.notes()).collect();
        (!all.is_empty()).then(|| all.join("\n"))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::sql::SqlConnection;
    use crate::testing::{database, load, plan};

    #[rstest]
    #[case::short("moves", "hd_key_moves")]
    #[case::just_as_long_as_may_be(&"m".repeat(56), &format!("hd_key_{}", "m".repeat(56)))]
    fn an_index_is_called_after_its_table(#[case] table: &str, #[case] expected: &str) {
        assert_eq!(index_name("key", table), expected);
    }

    #[rstest]
    #[case::of_letters(&"m".repeat(62), "a", "b")]
    #[case::of_wide_letters(&"ö".repeat(30), "ö", "ä")]
    fn indexes_of_tables_with_long_names_are_called_otherwise(
        #[case] start: &str,
        #[case] one: &str,
        #[case] other: &str,
    ) {
        let names = [one, other].map(|end| index_name("key", &format!("{start}{end}")));
        assert_ne!(names[0], names[1]);
        assert!(names.iter().all(|name| name.len() <= MAX_NAME && name.starts_with("hd_key_")), "{names:?}");
        assert_eq!(names[0], index_name("key", &format!("{start}{one}")), "the same each time");
    }

    #[test]
    fn each_of_two_tables_with_long_names_has_its_index() {
        let mut store = database();
        let tables = ["a", "b"].map(|end| format!("{}{end}", "m".repeat(62)));
        for table in &tables {
            let mut plan = plan(&format!("{table}.csv"), Mode::Upsert);
            plan.tables[0].table = table.clone();
            load(&mut store, &plan, &[("1", "N1")]);
        }
        let sql =
            "SELECT tbl_name FROM sqlite_master WHERE type = 'index' AND name LIKE 'hd_key_%' ORDER BY 1";
        let found = store.query(sql, &[]).expect("indexes");
        assert_eq!(found.iter().map(|row| row.text(0).expect("a name")).collect::<Vec<_>>(), tables);
    }
}
