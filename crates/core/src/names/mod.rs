//! Names made safe, once and here: what a header says becomes a column name that is never
//! blank, never doubled, never too long and never takes a name that is spoken for.

mod words;

use std::collections::HashSet;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use words::{fold, snake_case};

/// The lineage column that holds a row's file, by its number in the ledger.
pub const FILE_COLUMN: &str = "hd_file";
/// The lineage column that holds the line a row's record starts on.
pub const LINE_COLUMN: &str = "hd_line";
/// The lineage column that numbers the rows of a child table, through each file.
pub const ROW_COLUMN: &str = "hd_row";
/// The lineage column that holds the number of a child's parent: the `hd_line` of a row of the
/// main table, or the `hd_row` of one of another child table.
pub const PARENT_COLUMN: &str = "hd_parent";
/// The lineage column that holds a child's place in its parent's list, counted from 1.
pub const POSITION_COLUMN: &str = "hd_position";

/// The column that says from when on a version of a row holds.
pub const VALID_FROM_COLUMN: &str = "hd_valid_from";
/// The column that says until when; null for the current one.
pub const VALID_TO_COLUMN: &str = "hd_valid_to";

/// The column that says since when a full delivery no longer holds a row; null while it does.
pub const GONE_COLUMN: &str = "hd_gone_since";

/// Whether a column is one of ours, and no column of any file.
pub fn is_own(name: &str) -> bool {
    Lineage::Children.columns().contains(&name)
        || [VALID_FROM_COLUMN, VALID_TO_COLUMN, GONE_COLUMN].contains(&name)
}

/// All names that begin so are the ledger's, or those of helpers: no file and no configuration has a say in
/// them.
pub const RESERVED: &str = "hd_";

/// Columns that some databases give every table by themselves.
const OF_DATABASES: [&str; 9] =
    ["rowid", "oid", "_rowid_", "ctid", "xmin", "xmax", "cmin", "cmax", "tableoid"];

/// Whether a table may not be called so, with or without its schema: the name is the ledger's.
///
/// ```
/// use hypodoke_core::names::is_reserved_table;
///
/// assert!(is_reserved_table("hd_files") && is_reserved_table("HD_FILES"));
/// assert!(!is_reserved_table("berths"));
/// ```
pub fn is_reserved_table(name: &str) -> bool {
    name.split('.').any(|part| {
        let part = part.trim_matches(['"', ' ']);
        part.get(..RESERVED.len()).is_some_and(|start| start.eq_ignore_ascii_case(RESERVED))
    })
}

/// Whether a column may not be called so: the name is the ledger's, or the databases' own.
pub fn is_reserved_column(name: &str) -> bool {
    is_reserved_table(name) || OF_DATABASES.iter().any(|own| own.eq_ignore_ascii_case(name))
}

/// Which lineage columns a table has.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Lineage {
    /// None: somebody else made it.
    None,
    /// File and line.
    #[default]
    Rows,
    /// File and line, and what ties a row to its parent.
    Children,
}

impl Lineage {
    /// The names of the columns.
    ///
    /// ```
    /// use hypodoke_core::names::Lineage;
    ///
    /// assert_eq!(Lineage::Rows.columns(), ["hd_file", "hd_line"]);
    /// assert!(Lineage::None.columns().is_empty());
    /// ```
    pub fn columns(self) -> &'static [&'static str] {
        const ALL: [&str; 5] = [FILE_COLUMN, LINE_COLUMN, ROW_COLUMN, PARENT_COLUMN, POSITION_COLUMN];
        match self {
            Lineage::None => &[],
            Lineage::Rows => &ALL[..2],
            Lineage::Children => &ALL,
        }
    }

    /// What the columns of these names are good for.
    pub fn of(names: &[&str]) -> Lineage {
        let has = |lineage: Lineage| lineage.columns().iter().all(|name| names.contains(name));
        if has(Lineage::Children) {
            Lineage::Children
        } else if has(Lineage::Rows) {
            Lineage::Rows
        } else {
            Lineage::None
        }
    }

    /// Whether rows lead back to their file.
    pub fn is_kept(self) -> bool {
        self != Lineage::None
    }
}

/// The longest name in bytes: one that every kind of staging database keeps as a whole, so that a file has the
/// same layout in all of them.
pub const MAX_NAME: usize = 63;

/// How names are made of what a header says.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Convention {
    /// `Berth No.` becomes `berth_no`.
    #[default]
    SnakeCase,
    /// Names stay as they are written, as far as that is possible.
    AsIs,
    /// `Berth No.` becomes `berthNo`.
    CamelCase,
    /// `Berth No.` becomes `BerthNo`.
    PascalCase,
    /// `Berth No.` becomes `BERTH_NO`.
    UpperCase,
}

impl Convention {
    /// The words of the conventions in the configuration.
    pub const WORDS: [(&str, Convention); 5] = [
        ("snake_case", Convention::SnakeCase),
        ("as-is", Convention::AsIs),
        ("camelCase", Convention::CamelCase),
        ("PascalCase", Convention::PascalCase),
        ("UPPER_CASE", Convention::UpperCase),
    ];
}

/// A name that is asked for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Wanted {
    /// Made from what a header says.
    Derived(String),
    /// Given by the user.
    Exact(String),
}

/// Makes the names of a table's columns.
#[derive(Clone, Debug, Default)]
pub struct Namer {
    convention: Convention,
    /// Words of headers, and what is written for them.
    replacements: Arc<[(String, String)]>,
}

impl Namer {
    /// One that makes names in this way, having put other words in the place of some.
    pub fn new(convention: Convention, replacements: impl Into<Arc<[(String, String)]>>) -> Namer {
        Namer { convention, replacements: replacements.into() }
    }

    /// One name for each that is wanted, all different, in the same order.
    ///
    /// ```
    /// use hypodoke_core::names::{Convention, Namer, Wanted};
    ///
    /// let namer = Namer::new(Convention::default(), Vec::new());
    /// let header = ["Berth No.", "berth no"].map(|name| Wanted::Derived(name.to_owned()));
    /// assert_eq!(namer.names(header), ["berth_no", "berth_no_2"]);
    /// ```
    pub fn names(&self, wanted: impl IntoIterator<Item = Wanted>) -> Vec<String> {
        let wanted: Vec<Wanted> = wanted.into_iter().collect();
        let mut taken: HashSet<String> = HashSet::new();
        for want in &wanted {
            if let Wanted::Exact(name) = want {
                taken.insert(name.to_lowercase());
            }
        }
        let make = |(at, want): (usize, Wanted)| match want {
            Wanted::Exact(name) => name,
            Wanted::Derived(text) => {
                let base = match self.derive(&text) {
                    base if base.is_empty() => format!("column_{}", at + 1),
                    base if is_reserved_column(&base) => cut(format!("c_{base}"), MAX_NAME),
                    base => base,
                };
                unique(base, &mut taken)
            }
        };
        wanted.into_iter().enumerate().map(make).collect()
    }

    /// Whether a header's name is one that no column may have, so that its column is called otherwise.
    pub fn renames(&self, text: &str) -> bool {
        is_reserved_column(&self.derive(text))
    }

    /// One name, as for a table.
    ///
    /// ```
    /// use hypodoke_core::names::Namer;
    ///
    /// assert_eq!(Namer::default().name("Gross tonnage (GT)"), "gross_tonnage_gt");
    /// ```
    pub fn name(&self, text: &str) -> String {
        self.derive(text)
    }

    fn derive(&self, text: &str) -> String {
        let text = &*words::replaced(text, &self.replacements);
        match self.convention {
            Convention::SnakeCase => cut(snake_case(text), MAX_NAME),
            Convention::UpperCase => cut(snake_case(text).to_uppercase(), MAX_NAME),
            Convention::CamelCase => cut(words::camel_case(text, false), MAX_NAME),
            Convention::PascalCase => cut(words::camel_case(text, true), MAX_NAME),
            Convention::AsIs => {
                let kept: String = text.trim().chars().filter(|c| !c.is_control()).collect();
                cut(kept, MAX_NAME)
            }
        }
    }
}

fn unique(base: String, taken: &mut HashSet<String>) -> String {
    if taken.insert(base.to_lowercase()) {
        return base;
    }
    let mut number = 2;
    loop {
        let name = numbered(&base, number);
        if taken.insert(name.to_lowercase()) {
            return name;
        }
        number += 1;
    }
}

/// A name with a number behind it, for where the name alone is taken: no longer than [`MAX_NAME`].
///
/// ```
/// use hypodoke_core::names::{MAX_NAME, numbered};
///
/// assert_eq!(numbered("berth", 2), "berth_2");
/// assert_eq!(numbered(&"m".repeat(MAX_NAME), 12).len(), MAX_NAME);
/// ```
pub fn numbered(base: &str, number: usize) -> String {
    let suffix = format!("_{number}");
    cut(base.to_owned(), MAX_NAME.saturating_sub(suffix.len())) + &suffix
}

/// Cuts a name to so many bytes, between characters.
///
/// ```
/// use hypodoke_core::names::cut;
///
/// assert_eq!(cut("harbour".into(), 4), "harb");
/// // The letter of two bytes is not cut in half.
/// assert_eq!(cut("süd".into(), 2), "s");
/// ```
pub fn cut(mut name: String, most: usize) -> String {
    let mut end = name.len().min(most);
    while !name.is_char_boundary(end) {
        end -= 1;
    }
    name.truncate(end);
    name
}

/// What two names must share to be the same name: letters and digits, in lower case.
///
/// ```
/// use hypodoke_core::names::match_key;
///
/// assert_eq!(match_key("Berth No."), match_key("berth_no"));
/// ```
pub fn match_key(name: &str) -> String {
    name.chars().filter(|c| c.is_alphanumeric()).flat_map(fold).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("hd_files", true)]
    #[case("HD_Files", true)]
    #[case("main.hd_files", true)]
    #[case("\"hd_files\"", true)]
    #[case("hd", false)]
    #[case("hdfiles", false)]
    #[case("public.berths", false)]
    fn names_of_the_ledger_are_out_of_reach(#[case] name: &str, #[case] is_reserved: bool) {
        assert_eq!(is_reserved_table(name), is_reserved);
    }

    #[rstest]
    #[case("rowid", "c_rowid")]
    #[case("CTID", "c_ctid")]
    #[case("hd_row", "c_hd_row")]
    #[case("HD valid from", "c_hd_valid_from")]
    fn names_that_databases_keep_are_no_columns(#[case] header: &str, #[case] name: &str) {
        assert_eq!(Namer::default().names([Wanted::Derived(header.into())]), [name]);
        assert!(Namer::default().renames(header));
    }

    #[rstest]
    #[case("Berth No.", "berth_no")]
    #[case("movementID", "movement_id")]
    #[case("HTTPStatus", "http_status")]
    #[case("ISOnumeric", "iso_numeric")]
    #[case("UNcode", "un_code")]
    #[case("FAOcode", "fao_code")]
    #[case("CC41", "cc41")]
    #[case("berthIDs", "berth_ids")]
    #[case("URLs", "urls")]
    #[case("myXMLFile", "my_xml_file")]
    #[case("ISO3166-1-Alpha-3", "iso3166_1_alpha_3")]
    #[case("MWh", "mwh")]
    #[case("  Draught (m) ", "draught_m")]
    #[case("Größe", "groesse")]
    #[case("Load %", "load_pct")]
    #[case("# of tugs", "no_of_tugs")]
    #[case("2026", "_2026")]
    #[case("select", "select")]
    #[case("港", "港")]
    fn headers_become_names(#[case] header: &str, #[case] name: &str) {
        assert_eq!(Namer::default().name(header), name);
    }

    #[rstest]
    #[case(Convention::CamelCase, "Berth No.", "berthNo")]
    #[case(Convention::CamelCase, "ISOnumeric", "isoNumeric")]
    #[case(Convention::CamelCase, "2026", "_2026")]
    #[case(Convention::PascalCase, "draught (m)", "DraughtM")]
    #[case(Convention::UpperCase, "berthNo", "BERTH_NO")]
    #[case(Convention::AsIs, "Berth No.", "Berth No.")]
    fn names_follow_a_convention(#[case] convention: Convention, #[case] header: &str, #[case] name: &str) {
        assert_eq!(Namer::new(convention, []).name(header), name);
    }

    #[rstest]
    #[case("Größe (m)", "size_m")]
    #[case("Liegeplatz-Nr.", "liegeplatz_number")]
    #[case("nrw", "nrw")]
    #[case("NR", "number")]
    fn words_are_replaced(#[case] header: &str, #[case] name: &str) {
        let replacements = [("Größe", "size"), ("nr", "number")].map(|(a, b)| (a.to_owned(), b.to_owned()));
        assert_eq!(Namer::new(Convention::SnakeCase, replacements).name(header), name);
    }

    #[test]
    fn blanks_and_doubles_are_made_unique() {
        let wanted = ["a", "", "A", "hd_file", "a_2", "b"].map(|s| Wanted::Derived(s.into()));
        assert_eq!(Namer::default().names(wanted), ["a", "column_2", "a_2", "c_hd_file", "a_2_2", "b"]);
    }

    proptest! {
        #[test]
        fn names_are_never_blank_doubled_or_long(texts in prop::collection::vec(".{0,90}", 1..12), convention in prop::sample::select(Convention::WORDS.map(|(_, convention)| convention).to_vec())) {
            let namer = Namer::new(convention, []);
            let names = namer.names(texts.into_iter().map(Wanted::Derived));
            let distinct: HashSet<String> = names.iter().map(|n| n.to_lowercase()).collect();
            prop_assert_eq!(distinct.len(), names.len());
            prop_assert!(names.iter().all(|n| !n.is_empty() && n.len() <= MAX_NAME));
        }
    }
}
