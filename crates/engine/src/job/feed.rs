//! A feed as the engine needs it: what its files are, where they go and by which rules.

use hypodoke_core::drift::Policy;
use hypodoke_core::layout::{ColumnRule, Layout};
use hypodoke_core::names::{MAX_NAME, Namer, cut, match_key};
use hypodoke_core::pattern::{Part, PartValue};
use hypodoke_formats::FormatOptions;
use hypodoke_stores::Mode;

use super::expectations::Expectations;

/// A feed.
#[derive(Clone, Debug, Default)]
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
    pub format_options: FormatOptions,
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
    /// What becomes of files that are not what they were.
    pub policy: Policy,
    /// What is expected of its files.
    pub expect: Expectations,
    /// Conditions that rows have to meet to be kept.
    pub keep: Vec<KeepRule>,
    /// Columns that hold the same in every row: their names and values.
    pub constants: Vec<(String, String)>,
    /// What becomes of content that was loaded under another name.
    pub same_content: SameContent,
    /// What becomes of a file whose content is new.
    pub changed_file: ChangedFile,
    /// Sheets and lists under new names: the new name, the one they are known by.
    pub part_names: Vec<(String, String)>,
}

/// What becomes of content that was loaded under another name.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum SameContent {
    /// It is not loaded again.
    #[default]
    Skip,
    /// It is.
    Load,
}

/// What becomes of a file that has changed since it was loaded.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum ChangedFile {
    /// Its rows take the place of the earlier ones.
    #[default]
    Replace,
    /// They are added to them.
    Append,
    /// It is held.
    Hold,
    /// It stays as it was loaded.
    Ignore,
}

/// A condition on a column, as the configuration writes it.
#[derive(Clone, Debug)]
pub struct KeepRule {
    /// The column, by its name in the file or the table.
    pub column: String,
    /// What is asked of it.
    pub test: KeepTest,
}

/// What may be asked of a column.
#[derive(Clone, Debug)]
pub enum KeepTest {
    /// It is one of these.
    OneOf(Vec<String>),
    /// It is not less.
    AtLeast(String),
    /// It is not greater.
    AtMost(String),
    /// Its text matches.
    Matches(regex::bytes::Regex),
    /// It is null, or is not.
    IsNull(bool),
}

impl Feed {
    /// A feed of which only the table is known.
    pub fn plain(table: String, format_options: FormatOptions, rules: Vec<ColumnRule>) -> Feed {
        Feed { table, format_options, rules, ..Feed::default() }
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

    /// What becomes of changes of one of a file's tables: columns that are to be skipped are
    /// left out of it.
    pub fn policy_of(&self, path: &str) -> Policy {
        let mut policy = self.policy.clone();
        let skipped = self.rules_of(path).into_iter().filter(|rule| rule.skip).map(|rule| rule.source);
        policy.ignore.extend(skipped);
        policy
    }

    /// A file's layout without the columns that are to be left out.
    pub fn wanted(&self, path: &str, layout: &Layout) -> Layout {
        let policy = self.policy_of(path);
        let mut layout = layout.clone();
        if !policy.ignore.is_empty() {
            let is_ignored =
                |source: &str| policy.ignore.iter().any(|name| match_key(name) == match_key(source));
            layout.columns.retain(|column| !is_ignored(&column.source));
        }
        layout
    }

    /// Columns that hold the same in every row, as parts of a file's path are given.
    pub fn constant_parts(&self) -> impl Iterator<Item = (Part, PartValue)> {
        self.constants.iter().map(|(name, value)| (Part::plain(name), PartValue::Text(value.clone())))
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
