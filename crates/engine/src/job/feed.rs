//! A feed as the engine needs it: what its files are, where they go and by which rules.

use hypodoke_core::drift::Policy;
use hypodoke_core::layout::{ColumnRule, Layout, UnusualValues, rule_for};
use hypodoke_core::names::{MAX_NAME, Namer, cut, is_reserved_table, match_key};
use hypodoke_core::pattern::{Part, PartValue};
use hypodoke_core::template::Template;
use hypodoke_formats::FormatOptions;
use hypodoke_stores::{FileEntry, Mode, Vanished};

use super::expectations::Expectations;

/// A feed.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Feed {
    /// Its name, where the configuration gives one.
    pub name: Option<String>,
    /// The table its rows go to.
    pub table: String,
    /// What the table is called, where parts of a file's path stand in its name.
    pub table_name: Option<Template>,
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
    /// The columns that tell rows apart of sheets and lists, by their paths, where they have their own.
    pub keys: Vec<(String, Vec<String>)>,
    /// Every snapshot of what is nested in records is added, whatever becomes of the records.
    pub appends_children: bool,
    /// What tells deliveries apart, by the named parts of its pattern: files of which it is the same are
    /// one delivery.
    pub delivery: Option<Template>,
    /// The column whose greatest value says where a file stands among the others.
    pub order: Option<String>,
    /// The named part, or the column, that says from when on a row holds.
    pub valid_from: Option<String>,
    /// What becomes of keys that a file no longer holds.
    pub vanished: Vanished,
    /// The most keys that may vanish with one file, as a share of those there are.
    pub vanished_at_most: Option<f64>,
    /// For how many days the rows of its files are kept in the ledger, so that later changes among the
    /// files can be worked out; as long as is usual if unsaid.
    pub keep_superseded: Option<u64>,
    /// It takes files that an earlier feed has taken, too.
    pub also: bool,
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
    pub constants: Vec<(String, Template)>,
    /// What becomes of content that was loaded under another name.
    pub same_content: SameContent,
    /// What becomes of a file whose content is new.
    pub changed_file: ChangedFile,
    /// What becomes of a file with nothing in it.
    pub empty_file: EmptyFile,
    /// What becomes of a table that somebody has dropped or emptied.
    pub missing_table: MissingTable,
    /// Sheets and lists under new names: the new name, the one they are known by.
    pub part_names: Vec<(String, String)>,
}

/// What becomes of content that was loaded under another name.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum SameContent {
    /// Where rows are only added, it is not loaded again, unless the named parts of the paths differ: then
    /// it is another delivery. In the other modes it is a state like any other, and loaded.
    #[default]
    ByMode,
    /// It is not loaded again.
    Skip,
    /// It is.
    Load,
}

/// What becomes of a file with nothing in it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum EmptyFile {
    /// Where files of the feed were empty before, it is left out; else it is held.
    #[default]
    ByHistory,
    /// It is left out.
    Skip,
    /// It is held.
    Hold,
    /// It fails.
    Fail,
}

/// What becomes of a table that somebody has dropped or emptied.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum MissingTable {
    /// It is told.
    #[default]
    Tell,
    /// Its files are loaded again.
    Replay,
    /// Nothing: somebody empties it on purpose.
    Ignore,
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

    /// A feed as the ledger tells of it: what was recorded with one of its files, without a configuration.
    pub fn recorded(entry: &FileEntry) -> Feed {
        let table = entry.table.clone().unwrap_or_default();
        let mut feed = Feed { name: entry.feed.clone(), table, ..Feed::default() };
        let Some(rules) = &entry.rules else { return feed };
        feed.mode = rules.mode;
        (feed.vanished, feed.vanished_at_most) = (rules.vanished, rules.vanished_at_most);
        (feed.order, feed.valid_from) = (rules.order.clone(), rules.valid_from.clone());
        feed.keep_superseded = (!rules.keeps_rows).then_some(0);
        for part in rules.tables.iter().filter(|table| !table.key.is_empty()) {
            match part.path.is_empty() {
                true => feed.key.clone_from(&part.key),
                false => feed.keys.push((part.path.clone(), part.key.clone())),
            }
        }
        feed.appends_children = rules.tables.iter().any(|table| table.mode != rules.mode);
        feed
    }

    /// Whether figures are taken of its files' values.
    pub fn looks_at_values(&self) -> bool {
        let is_wanted = |values: UnusualValues| values != UnusualValues::Off;
        is_wanted(self.expect.values) || self.rules.iter().filter_map(|rule| rule.values).any(is_wanted)
    }

    /// What becomes of a file in which the figures of a column are unusual, by its name in the file.
    pub fn unusual_values(&self, path: &str, source: &str) -> UnusualValues {
        let rules = self.rules_of(path);
        rule_for(&rules, source).and_then(|rule| rule.values).unwrap_or(self.expect.values)
    }

    /// The columns that tell rows apart in one of a file's tables: what is nested in records has none,
    /// unless they are said for it.
    pub fn key_of(&self, path: &str, is_child: bool) -> &[String] {
        match self.keys.iter().find(|(known, _)| known == path) {
            Some((_, key)) => key,
            None if is_child => &[],
            None => &self.key,
        }
    }

    /// What becomes of the rows of one of a file's tables.
    pub fn mode_of(&self, path: &str, is_child: bool) -> Mode {
        let has_own_key = self.keys.iter().any(|(known, _)| known == path);
        if is_child && self.appends_children && !has_own_key { Mode::Append } else { self.mode }
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

    /// The named parts of a file's path, and columns that hold the same in every row, given as such parts.
    pub fn with_constants(&self, mut parts: Vec<(Part, PartValue)>) -> Vec<(Part, PartValue)> {
        let constant =
            |(name, value): &(String, Template)| (Part::plain(name), PartValue::Text(value.fill(&parts)));
        let constants: Vec<(Part, PartValue)> = self.constants.iter().map(constant).collect();
        parts.extend(constants);
        parts
    }

    /// The feed as it is for a file with these named parts in its path: they may stand in the table's name.
    pub fn for_parts(&self, parts: &[(Part, PartValue)]) -> Feed {
        let Some(template) = &self.table_name else { return self.clone() };
        let name = self.namer.name(&template.fill(parts));
        let name = if is_reserved_table(&name) { format!("t_{name}") } else { name };
        Feed { table: cut(name, MAX_NAME), ..self.clone() }
    }

    /// The table that a part of its files goes to.
    pub fn table_of(&self, path: &str) -> String {
        if path.is_empty() {
            return self.table.clone();
        }
        let name = format!("{}_{}", self.table, self.namer.name(path));
        let name = if is_reserved_table(&name) { format!("t_{name}") } else { name };
        cut(name, MAX_NAME)
    }
}
