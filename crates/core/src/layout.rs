//! Layouts: the columns of a file, a feed or a table.

use serde::{Deserialize, Serialize};

use crate::evidence::{Decision, Forced};
pub use crate::format::{Format, Reading};
use crate::names::Namer;
use crate::spelling::NullSet;
use crate::types::{Domain, Type};

/// A column of a layout.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Column {
    /// Its name in the staging table.
    pub name: String,
    /// Its name in the file.
    pub source: String,
    /// What its values are; the column's type follows from it.
    pub domain: Domain,
    /// How they are written.
    pub format: Format,
    /// What that is known from.
    #[serde(default, skip_serializing_if = "Reading::is_shown")]
    pub reading: Reading,
    /// Whether a record without a value was seen.
    pub nullable: bool,
    /// The type was given by the user: it does not widen, and what does not fit is a reject.
    #[serde(default)]
    pub pinned: Option<Type>,
}

impl Column {
    /// Whether the column has held no values except words that may stand for null, such as `NA`. These are null
    /// while the column has no type, and values once it is text.
    ///
    /// ```
    /// use hypodoke_core::layout::{Format, Layout};
    /// use hypodoke_core::names::Namer;
    ///
    /// let mut layout = Layout::named(&["berth".to_owned()], &Namer::default(), &[]);
    /// assert!(!layout.columns[0].holds_only_words());
    /// layout.columns[0].format = Format::default();
    /// assert!(layout.columns[0].holds_only_words());
    /// ```
    pub fn holds_only_words(&self) -> bool {
        self.ty() == Type::Unknown && self.format.nulls != NullSet::ALWAYS
    }

    /// The column's type.
    pub fn ty(&self) -> Type {
        self.pinned.unwrap_or_else(|| self.domain.ty())
    }
}

/// What a user says of a column in the configuration.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ColumnRule {
    /// The name in the file, as written there.
    pub source: String,
    /// The name in the table.
    pub name: Option<String>,
    /// The type.
    pub ty: Option<Type>,
    /// How its values are written.
    pub forced: Forced,
    /// Words that are null in it.
    pub also_null: Vec<String>,
    /// The column is left out.
    pub skip: bool,
    /// Blanks around its texts are cut off.
    pub trim: bool,
    /// What stands for null.
    pub default: Option<String>,
    /// What is expected of its values.
    pub expected: Expected,
    /// What becomes of files in which its figures are unusual, where it is another thing than for the others.
    pub values: Option<UnusualValues>,
}

/// What becomes of a file whose values are unusual.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum UnusualValues {
    /// It is loaded, and that is told.
    #[default]
    Warn,
    /// It is held.
    Hold,
    /// Nobody looks.
    Off,
}

impl UnusualValues {
    /// The words of the configuration.
    pub const WORDS: [(&str, UnusualValues); 3] =
        [("warn", UnusualValues::Warn), ("hold", UnusualValues::Hold), ("off", UnusualValues::Off)];
}

/// The column that values of columns without one are kept in.
pub(crate) const EXTRAS_COLUMN: &str = "extras";

/// What that column is made of, in place of a name in a file: nothing that a header can say.
pub(crate) const EXTRAS_SOURCE: &str = "\u{1}extras";

impl Column {
    /// Whether it holds the values of columns that the table has not. In earlier versions its source was its
    /// name; a file may have such a column itself, which fills it then.
    pub fn holds_extras(&self) -> bool {
        let of_earlier = self.source == EXTRAS_COLUMN && self.name == EXTRAS_COLUMN;
        self.source == EXTRAS_SOURCE || of_earlier && self.domain == Domain::Json
    }
}

/// What a user expects of a column's values, as the configuration writes it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Expected {
    /// None is null.
    pub not_null: bool,
    /// None comes twice in a file.
    pub unique: bool,
    /// They are among these.
    pub one_of: Vec<String>,
    /// None is less, none is greater.
    pub between: Option<(String, String)>,
    /// What becomes of what does not meet it.
    pub otherwise: Otherwise,
}

/// What becomes of rows, or of a file, that are not as expected.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Otherwise {
    /// The rows are rejects.
    #[default]
    Reject,
    /// The file is held.
    Hold,
    /// The file fails.
    Fail,
    /// It is said, and nothing else.
    Warn,
}

impl Expected {
    /// Whether anything is expected.
    pub fn is_any(&self) -> bool {
        self.not_null || self.unique || !self.one_of.is_empty() || self.between.is_some()
    }
}

/// A table that comes out of the same files as another: a sheet, or what is nested in a record.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Part {
    /// Where in the file its rows stand: the name of a sheet, or the path of a nested list.
    pub path: String,
    /// The table.
    pub table: String,
}

/// The columns of a file or a table, in order.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Layout {
    /// The columns.
    pub columns: Vec<Column>,
    /// The other tables that its files fill. Only the layout of a main table has any.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<Part>,
}

impl Layout {
    /// The layout of a file: the names of its header with what its values were decided to be.
    pub fn observed(
        header: &[String],
        decisions: &[Decision],
        namer: &Namer,
        rules: &[ColumnRule],
    ) -> Layout {
        let names = namer.names(header.iter().map(|source| {
            rule_for(rules, source)
                .and_then(|rule| rule.name.clone())
                .map_or_else(|| crate::names::Wanted::Derived(source.clone()), crate::names::Wanted::Exact)
        }));
        let columns = header.iter().zip(decisions).zip(names).map(|((source, decision), name)| Column {
            name,
            source: source.clone(),
            domain: decision.domain,
            format: forced_format(decision.format, rule_for(rules, source)),
            reading: decision.reading,
            nullable: decision.nullable,
            pinned: rule_for(rules, source).and_then(|rule| rule.ty),
        });
        Layout { columns: columns.collect(), parts: Vec::new() }
    }

    /// The layout of a file of which only the header is known yet.
    pub fn named(header: &[String], namer: &Namer, rules: &[ColumnRule]) -> Layout {
        let unknown = Decision::of_domain(Domain::Unknown);
        Layout::observed(header, &vec![unknown; header.len()], namer, rules)
    }

    /// The column of that name, blanks, case and punctuation aside.
    ///
    /// ```
    /// use hypodoke_core::layout::Layout;
    /// use hypodoke_core::names::Namer;
    ///
    /// let header = ["Berth No.", "Draught"].map(str::to_owned);
    /// let layout = Layout::named(&header, &Namer::default(), &[]);
    /// assert_eq!(layout.find("BERTH no"), Some(0));
    /// assert_eq!(layout.find("tugs"), None);
    /// ```
    pub fn find(&self, name: &str) -> Option<usize> {
        let exact = self.columns.iter().position(|column| column.name == name);
        exact.or_else(|| {
            let key = crate::names::match_key(name);
            self.columns.iter().position(|column| crate::names::match_key(&column.name) == key)
        })
    }

    /// The column that files have under this name; or else the one that the table has.
    ///
    /// ```
    /// use hypodoke_core::layout::Layout;
    /// use hypodoke_core::names::Namer;
    ///
    /// let layout = Layout::named(&["Berth No.".to_owned()], &Namer::default(), &[]);
    /// assert_eq!(layout.find_as_in_files("Berth No."), Some(0));
    /// assert_eq!(layout.find_as_in_files("berth_no"), Some(0));
    /// ```
    pub fn find_as_in_files(&self, name: &str) -> Option<usize> {
        let by_source = self.columns.iter().position(|column| column.source == name);
        by_source.or_else(|| self.find(name))
    }
}

fn forced_format(format: Format, rule: Option<&ColumnRule>) -> Format {
    let forced = rule.map(|rule| rule.forced).unwrap_or_default();
    Format {
        number: forced.style.unwrap_or(format.number),
        date: forced.order.unwrap_or(format.date),
        ..format
    }
}

/// The rule for a column of the file, by its name there.
///
/// ```
/// use hypodoke_core::layout::{ColumnRule, rule_for};
/// use hypodoke_core::types::Type;
///
/// let rule = ColumnRule { source: "berth".into(), ty: Some(Type::Text), ..ColumnRule::default() };
/// assert_eq!(rule_for(std::slice::from_ref(&rule), "berth").and_then(|rule| rule.ty), Some(Type::Text));
/// assert!(rule_for(&[rule], "tugs").is_none());
/// ```
pub fn rule_for<'a>(rules: &'a [ColumnRule], source: &str) -> Option<&'a ColumnRule> {
    let key = crate::names::match_key(source);
    rules
        .iter()
        .find(|rule| rule.source == source)
        .or_else(|| rules.iter().find(|rule| !key.is_empty() && crate::names::match_key(&rule.source) == key))
}
