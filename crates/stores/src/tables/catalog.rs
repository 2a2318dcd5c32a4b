//! What tables are there, what a load would change, and which rights are missing.

use hypodoke_core::cast::Limit;
use hypodoke_core::names::Lineage;
use hypodoke_core::types::Type;

use crate::error::StoreError;
use crate::load_plan::LoadPlan;
use crate::load_plan::Mode;

/// What a database says of itself and of the tables in it.
pub trait Catalog {
    /// The database in words for people, without secrets: `sqlite:harbour.db`.
    fn shown(&self) -> String;

    /// What the database says of itself: its version and the user it knows us as.
    fn about(&mut self) -> Result<About, StoreError>;

    /// A table as it is, if it is.
    fn table(&mut self, name: &str) -> Result<Option<TableShape>, StoreError>;

    /// The SQL that loading a file would run to make or change its tables.
    fn ddl(&mut self, plan: &LoadPlan) -> Result<Vec<String>, StoreError>;

    /// The rights that loading into these tables needs and that are not given, as the statements
    /// that would give them.
    fn missing_rights(&mut self, tables: &[(String, Mode)]) -> Result<Vec<String>, StoreError>;

    /// What a column of a table holds, so that another may be held against it.
    fn column_sample(&mut self, table: &str, column: &str) -> Result<ColumnSample, StoreError>;

    /// For each file whose rows are in a table: how many, and the exact sums of some columns of
    /// integers and decimals. The table has the column that names the file.
    fn file_figures(&mut self, table: &str, sums: &[(String, Type)]) -> Result<Vec<FileFigures>, StoreError>;

    /// How many rows a table has.
    fn count_rows(&mut self, table: &str) -> Result<u64, StoreError>;

    /// The columns of decimals in which some values are texts, because no number of the database holds
    /// them: there a text comes after every number.
    fn texts_among_numbers(&mut self, _table: &str) -> Result<Vec<String>, StoreError> {
        Ok(Vec::new())
    }

    /// The first rows of a table, every value as text, with the names of its columns.
    fn first_rows(&mut self, table: &str, most: usize) -> Result<SampleRows, StoreError>;
}

/// A column of a table as the database has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableColumn {
    /// Its name.
    pub name: String,
    /// The type its declaration comes to.
    pub ty: Type,
    /// It takes no null.
    pub required: bool,
    /// The database fills it where nothing is given.
    pub filled: bool,
    /// It always fills it itself, and takes no values.
    pub generated: bool,
    /// What it holds is narrower than its type.
    pub limit: Option<Limit>,
}

/// A table as the database has it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TableShape {
    /// Its name.
    pub name: String,
    /// Its columns, lineage columns left out.
    pub columns: Vec<TableColumn>,
    /// The lineage columns it has.
    pub lineage: Lineage,
    /// How rows get into it.
    pub takes: Takes,
}

/// How rows get into a table.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Takes {
    /// In bulk, like any table's.
    #[default]
    Rows,
    /// Only by the statements of the modes with a key: a view.
    Statements,
    /// Not at all: a view that cannot be written to, or one that keeps its rows.
    Nothing,
}

/// The most values of a column that are sampled: as many as evidence keeps apart.
pub(crate) const MOST_SAMPLED: usize = hypodoke_core::evidence::EXACT;

/// What a column holds, in the words of the database.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ColumnSample {
    /// Its least value.
    pub least: Option<String>,
    /// Its greatest value.
    pub greatest: Option<String>,
    /// Some of its values, each once.
    pub values: Vec<String>,
}

/// What of one file is in a table.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FileFigures {
    /// The file's number.
    pub file: i64,
    /// Its rows.
    pub rows: u64,
    /// The sums asked for, in units of the column's last digit; `None` where they cannot be told.
    pub sums: Vec<Option<i128>>,
}

/// What a database says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct About {
    /// Its program and version.
    pub version: String,
    /// The user it knows us as, where it knows users.
    pub user: Option<String>,
    /// The schema that is used, where it has schemas.
    pub schema: Option<String>,
    /// What time it is by its clock, where that is another than this machine's: microseconds since 1970.
    pub clock: Option<i64>,
    /// How it is set, where that matters to whoever loads.
    pub settings: Vec<ServerSetting>,
}

/// How a server is set.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ServerSetting {
    /// Rows cannot be streamed to it, and go by slower statements.
    NoStreaming,
    /// The largest record that it takes, in bytes, where that is not much.
    SmallRecords(usize),
    /// It is one of several that hold the same, and its locks are its own only.
    Cluster,
}

/// Rows of a table as people are shown them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SampleRows {
    /// The columns.
    pub columns: Vec<String>,
    /// The rows; `None` is null.
    pub rows: Vec<Vec<Option<String>>>,
}
