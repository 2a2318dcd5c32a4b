//! The SQL by which a file's rows, staged beside a table, are brought into it by key. It is the
//! same for every database that has a standard `IS DISTINCT FROM`.

use hypodoke_core::names::{VALID_FROM_COLUMN, VALID_TO_COLUMN};

use crate::sql::quote;

/// What becomes of the rows of a file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Mode {
    /// They are added.
    #[default]
    Append,
    /// They are all that the table holds from now on.
    Replace,
    /// By key: new ones are added, others take the place of the row that is there.
    Upsert,
    /// By key: new ones are added, others are left out.
    InsertNew,
    /// By key: a row that differs from the current one is a new version of it.
    History,
}

impl Mode {
    /// The modes and their words.
    pub const WORDS: [(&str, Mode); 5] = [
        ("append", Mode::Append),
        ("replace", Mode::Replace),
        ("upsert", Mode::Upsert),
        ("insert-new", Mode::InsertNew),
        ("history", Mode::History),
    ];

    /// All modes.
    pub const ALL: &'static [Mode] =
        &[Mode::Append, Mode::Replace, Mode::Upsert, Mode::InsertNew, Mode::History];

    /// The mode in a word.
    pub fn word(self) -> &'static str {
        Mode::WORDS.iter().find(|(_, mode)| *mode == self).map_or("", |(word, _)| word)
    }

    /// Whether rows are told apart by a key.
    pub fn has_key(self) -> bool {
        matches!(self, Mode::Upsert | Mode::InsertNew | Mode::History)
    }
}

/// What became of the rows of a file in its table.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// Rows added.
    pub inserted: u64,
    /// Rows that took the place of others, or a new version of them.
    pub updated: u64,
    /// Rows that were there just so.
    pub unchanged: u64,
    /// Rows taken out.
    pub deleted: u64,
    /// Rows of the file that a later one of the same file, the mode, or the table leaves out.
    pub left_out: u64,
    /// How many of these a trigger of the table left out.
    pub by_trigger: u64,
}

impl Counts {
    /// What is to be said of them.
    pub fn note(&self) -> Option<String> {
        let rows = if self.by_trigger == 1 { "row" } else { "rows" };
        (self.by_trigger > 0)
            .then(|| format!("{} {rows} left out by a trigger of the table", self.by_trigger))
    }
}

/// The table that rows are staged in.
pub const STAGE: &str = "hd_stage";

/// The column that numbers staged rows in the order they came.
pub const SEQUENCE: &str = "hd_sequence";

/// A file's rows in the stage, and the table they go to.
pub struct Merge {
    table: String,
    columns: Vec<String>,
    values: Vec<String>,
    key: Vec<String>,
}

impl Merge {
    /// `table` is quoted already; `columns` are those of the file, `lineage` those that lead back
    /// to it, and `of_file` says something of the file only.
    pub fn new(
        table: String,
        columns: &[String],
        lineage: &[&str],
        key: &[String],
        of_file: &[String],
    ) -> Merge {
        let all = columns.iter().map(String::as_str).chain(lineage.iter().copied()).map(quote).collect();
        let key: Vec<String> = key.iter().map(|name| quote(name)).collect();
        let values = columns.iter().filter(|name| !of_file.contains(name)).map(|name| quote(name));
        let values = values.filter(|name| !key.contains(name)).collect();
        Merge { table, columns: all, values, key }
    }

    fn same_key(&self, a: &str, b: &str) -> String {
        let pairs: Vec<String> = self.key.iter().map(|key| format!("{a}.{key} = {b}.{key}")).collect();
        pairs.join(" AND ")
    }

    /// The condition that a row of `a` differs from one of `b`.
    pub fn differs(&self, a: &str, b: &str) -> String {
        let pairs: Vec<String> =
            self.values.iter().map(|name| format!("{a}.{name} IS DISTINCT FROM {b}.{name}")).collect();
        if pairs.is_empty() { "FALSE".to_owned() } else { format!("({})", pairs.join(" OR ")) }
    }

    /// Takes out of the stage what a later row of the same key takes the place of.
    pub fn drop_doubles(&self) -> String {
        let key = self.key.join(", ");
        format!(
            "DELETE FROM {STAGE} WHERE {SEQUENCE} NOT IN (SELECT max({SEQUENCE}) FROM {STAGE} GROUP BY {key})"
        )
    }

    /// Brings what differs into the rows that are there.
    pub fn update(&self) -> String {
        let sets: Vec<String> = self.columns.iter().map(|name| format!("{name} = s.{name}")).collect();
        format!(
            "UPDATE {} AS t SET {} FROM {STAGE} s WHERE {} AND {}",
            self.table,
            sets.join(", "),
            self.same_key("t", "s"),
            self.differs("t", "s"),
        )
    }

    /// Adds the rows whose keys are not there.
    pub fn insert_new(&self) -> String {
        let columns = self.columns.join(", ");
        format!(
            "INSERT INTO {table} ({columns}) SELECT {columns} FROM {STAGE} s WHERE NOT EXISTS (SELECT 1 FROM {table} t WHERE {}) ORDER BY {SEQUENCE}",
            self.same_key("t", "s"),
            table = self.table,
        )
    }

    /// The table's name, quoted.
    pub fn table(&self) -> &str {
        &self.table
    }

    /// The columns that are written, quoted.
    pub fn columns(&self) -> &[String] {
        &self.columns
    }

    /// The columns of the key, quoted.
    pub fn key(&self) -> &[String] {
        &self.key
    }

    /// Ends the current versions of rows that differ; `moment` is a parameter or a literal.
    pub fn end_versions(&self, moment: &str) -> String {
        format!(
            "UPDATE {} AS t SET {VALID_TO_COLUMN} = {moment} FROM {STAGE} s WHERE t.{VALID_TO_COLUMN} IS NULL AND {} AND {}",
            self.table,
            self.same_key("t", "s"),
            self.differs("t", "s"),
        )
    }

    /// Adds versions where there is no current one.
    pub fn begin_versions(&self, moment: &str) -> String {
        let columns = self.columns.join(", ");
        format!(
            "INSERT INTO {table} ({columns}, {VALID_FROM_COLUMN}) SELECT {columns}, {moment} FROM {STAGE} s
             WHERE NOT EXISTS (SELECT 1 FROM {table} t WHERE t.{VALID_TO_COLUMN} IS NULL AND {}) ORDER BY {SEQUENCE}",
            self.same_key("t", "s"),
            table = self.table,
        )
    }

    /// The unique index that the key of a table of ours has.
    pub fn index(&self, name: &str, mode: Mode) -> String {
        let only =
            if mode == Mode::History { format!(" WHERE {VALID_TO_COLUMN} IS NULL") } else { String::new() };
        format!("CREATE UNIQUE INDEX IF NOT EXISTS {name} ON {} ({}){only}", self.table, self.key.join(", "))
    }
}

/// The name of the index on a table's key.
pub fn index_name(table: &str) -> String {
    hypodoke_core::names::cut(format!("hd_key_{table}"), hypodoke_core::names::MAX_NAME)
}
