//! JSON: lines, arrays and documents, their records found and made flat.
//!
//! `walk` finds where records begin and end in a text of any size; `tree` knows which
//! columns and child tables the keys met so far make; `flatten` puts the values of a record
//! into their places. Tokens are read by a library; which of them make a row is decided here.

mod find;
mod flatten;
pub mod path;
mod reader;
mod tree;
mod walk;

pub use find::looks_like_json;
pub use path::{JsonPath, objects_in};
pub use reader::{JsonFile, JsonReader};

/// What becomes of nested objects and lists of objects.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Nested {
    /// Objects become columns, lists of objects child tables.
    #[default]
    Tables,
    /// They stay JSON.
    Json,
}

/// What becomes of lists of plain values.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum PlainLists {
    /// They stay JSON.
    #[default]
    Json,
    /// They become child tables with a column `value`.
    Tables,
}

/// What the user says of a JSON file; the rest is found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct JsonOptions {
    /// Where the rows are.
    pub rows_at: Option<JsonPath>,
    /// What becomes of nested objects.
    pub nested: Nested,
    /// What becomes of lists of plain values.
    pub plain_lists: PlainLists,
    /// The whole record is kept beside its columns.
    pub raw: bool,
    /// Strings are text, whatever they say.
    pub strings_are_text: bool,
}
