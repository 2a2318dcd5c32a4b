//! What is other in a file than it was, and what is done about it.

use serde::{Deserialize, Serialize};

use crate::evidence::Example;
use crate::types::Type;

/// How a file differs from its table, or from the file before it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "change", rename_all = "snake_case")]
pub enum Change {
    /// The file has a column that the table had not.
    Added {
        /// Its name.
        column: String,
        /// Its type.
        to: Type,
    },
    /// A column needs a wider type. From `unknown` it is a column that gets its first values.
    Widened {
        /// Its name.
        column: String,
        /// Its type until now.
        from: Type,
        /// Its type from now on.
        to: Type,
    },
    /// A column has values of another kind than the table's.
    OtherKind {
        /// Its name.
        column: String,
        /// The table's type.
        from: Type,
    },
    /// The file lacks a column; its rows hold null there.
    Missing {
        /// Its name.
        column: String,
    },
    /// The file lacks a sheet that files before it had.
    MissingSheet {
        /// Its name.
        column: String,
    },
    /// A column of another name takes the place of one that is gone.
    Renamed {
        /// The table's column.
        column: String,
        /// What the file called it until now.
        from: String,
        /// What it calls it now.
        to: String,
    },
    /// The name is written another way: case, blanks or punctuation.
    Respelled {
        /// The table's column.
        column: String,
        /// How the file wrote it until now.
        from: String,
        /// How it writes it now.
        to: String,
    },
    /// Values are written another way: the order of day and month, the decimal mark.
    Format {
        /// The column.
        column: String,
        /// How they were written until now.
        from: String,
        /// How they are written now.
        to: String,
    },
    /// Values turn out to be written another way than was guessed while none of them told.
    Misread {
        /// The column.
        column: String,
        /// How they were read until now.
        from: String,
        /// How they are written.
        to: String,
    },
    /// The columns stand in another order.
    Reordered {
        /// The first column that stands elsewhere.
        column: String,
    },
    /// The file is written another way: its delimiter, its encoding, its header.
    Written {
        /// What of it: `delimiter`, `encoding`, `header`.
        column: String,
        /// How it was until now.
        from: String,
        /// How it is now.
        to: String,
    },
    /// Figures of a column's values, or the number of rows, are far outside what is usual.
    Unusual {
        /// The column; `rows` where it is their number.
        column: String,
        /// What is unusual, in words.
        what: String,
    },
    /// The file has a sheet or a nested list that had no table.
    Part {
        /// Its path.
        column: String,
        /// Its table.
        to: String,
    },
}

impl Change {
    /// What changed, the change in a word, and what was before and is now where there is such.
    pub fn parts(&self) -> (&str, &'static str, Option<String>, Option<String>) {
        let (column, word, from, to) = match self {
            Change::Added { column, to } => (column, "added", None, Some(to.to_string())),
            Change::Widened { column, from, to } => {
                (column, "widened", Some(from.to_string()), Some(to.to_string()))
            }
            Change::OtherKind { column, from } => (column, "other_kind", Some(from.to_string()), None),
            Change::Missing { column } => (column, "missing", None, None),
            Change::MissingSheet { column } => (column, "missing_sheet", None, None),
            Change::Renamed { column, from, to } => (column, "renamed", Some(from.clone()), Some(to.clone())),
            Change::Respelled { column, from, to } => {
                (column, "respelled", Some(from.clone()), Some(to.clone()))
            }
            Change::Format { column, from, to } => (column, "format", Some(from.clone()), Some(to.clone())),
            Change::Misread { column, from, to } => (column, "misread", Some(from.clone()), Some(to.clone())),
            Change::Reordered { column } => (column, "reordered", None, None),
            Change::Written { column, from, to } => (column, "written", Some(from.clone()), Some(to.clone())),
            Change::Unusual { column, what } => (column, "unusual", None, Some(what.clone())),
            Change::Part { column, to } => (column, "part", None, Some(to.clone())),
        };
        (column, word, from, to)
    }

    /// Whether values that are there are spelled anew by it, so that only their files tell how they were
    /// written.
    pub fn respells(&self) -> bool {
        match self {
            Change::Widened { from: Type::Unknown, .. } => false,
            Change::Widened { to: Type::Text, .. } => true,
            Change::Widened { from: Type::Float, to: Type::Decimal { .. }, .. } => true,
            // A day and midnight of that day are one timestamp, but had different digits in their files.
            Change::Widened { from: Type::Timestamp, to, .. } => {
                matches!(to, Type::Integer | Type::Decimal { .. } | Type::Float)
            }
            _ => false,
        }
    }

    /// The change in a sentence.
    pub fn words(&self) -> String {
        match self {
            Change::Added { column, to } => format!("new column `{column}` ({to})"),
            Change::Widened { column, from: Type::Unknown, to } => {
                format!("column `{column}` was empty until now and holds {to}")
            }
            Change::Widened { column, from, to } => format!("column `{column}` needs {to} instead of {from}"),
            Change::OtherKind { column, from } => format!("column `{column}` has values that are not {from}"),
            Change::Missing { column } => format!("column `{column}` is missing"),
            Change::MissingSheet { column } => format!("sheet `{column}` is missing"),
            Change::Renamed { column, from, to } if column == from => {
                format!("column `{column}` is called `{to}` now")
            }
            Change::Renamed { column, from, to } => {
                format!("column `{column}` is called `{to}`, until now `{from}`")
            }
            Change::Respelled { from, to, .. } => format!("column `{from}` is written `{to}` now"),
            Change::Format { column, from, to } => {
                format!("values of `{column}` are written {to}, until now {from}")
            }
            Change::Misread { column, from, to } => {
                format!(
                    "values of `{column}` turn out to be {to}: those loaded until now left it open, and were read as {from}"
                )
            }
            Change::Reordered { column } => {
                format!("the columns stand in another order, from `{column}` on")
            }
            Change::Written { column, from, to } => format!("its {column} is {to}, until now {from}"),
            Change::Unusual { what, .. } => what.clone(),
            Change::Part { column, to } => format!("`{column}` is new in it, and goes to the table `{to}`"),
        }
    }
}

/// What was done about a change.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Action {
    /// It was written down, and made no difference.
    #[default]
    Noted,
    /// The table got the column.
    Added,
    /// The table's column got the type.
    Widened,
    /// The table's column got the type, and the files before are still to be read again.
    Rereading,
    /// The rows hold null there.
    Nulled,
    /// The values were kept in the column of extras.
    KeptAsExtra,
    /// The column was left out.
    LeftOut,
    /// Rows whose values do not fit were rejected.
    Rejected,
    /// The column's values went where those of the old name were.
    Followed,
    /// The file was held.
    Held,
}

impl Action {
    const ALL: [Action; 10] = [
        Action::Noted,
        Action::Added,
        Action::Widened,
        Action::Rereading,
        Action::Nulled,
        Action::KeptAsExtra,
        Action::LeftOut,
        Action::Rejected,
        Action::Followed,
        Action::Held,
    ];

    /// The action in a word or two, as the ledger keeps it.
    pub fn word(self) -> &'static str {
        match self {
            Action::Noted => "noted",
            Action::Added => "added",
            Action::Widened => "widened",
            Action::Rereading => "rereading",
            Action::Nulled => "nulled",
            Action::KeptAsExtra => "kept_as_extra",
            Action::LeftOut => "left_out",
            Action::Rejected => "rejected",
            Action::Followed => "followed",
            Action::Held => "held",
        }
    }

    /// The action of that word.
    ///
    /// ```
    /// use hypodoke_core::drift::Action;
    ///
    /// assert_eq!(Action::from_word("nulled"), Some(Action::Nulled));
    /// assert_eq!(Action::from_word("sunk"), None);
    /// ```
    pub fn from_word(word: &str) -> Option<Action> {
        Action::ALL.into_iter().find(|action| action.word() == word)
    }

    /// What was done, in words that follow those of the change.
    pub fn words(self) -> &'static str {
        match self {
            Action::Noted => "",
            Action::Added => "added to the table",
            Action::Widened => "the table's column was widened",
            Action::Rereading => "the table's column was widened, and the files before are to be read again",
            Action::Nulled => "its rows hold null",
            Action::KeptAsExtra => "kept in the column `extras`",
            Action::LeftOut => "left out",
            Action::Rejected => "the type stays, rows that do not fit are rejected",
            Action::Followed => "followed",
            Action::Held => "held",
        }
    }
}

/// A change with what was done about it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Drift {
    /// The change.
    #[serde(flatten)]
    pub change: Change,
    /// What was done.
    #[serde(default)]
    pub action: Action,
    /// The value that forced it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cause: Option<Cause>,
}

/// The value of a file that forced a change.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cause {
    /// The line that it stands on.
    pub line: u64,
    /// The value, cut where it is long.
    pub value: String,
}

impl Cause {
    /// The value and its line, in words.
    pub fn words(&self) -> String {
        format!("`{}` on line {}", self.value, self.line)
    }
}

impl From<Example> for Cause {
    fn from(example: Example) -> Cause {
        Cause { line: example.spot.line, value: example.value.into() }
    }
}

impl Drift {
    /// A change with what is done about it.
    pub fn of(change: Change, action: Action) -> Drift {
        Drift { change, action, cause: None }
    }

    /// A change that makes no difference.
    ///
    /// ```
    /// use hypodoke_core::drift::{Action, Change, Drift};
    ///
    /// let drift = Drift::noted(Change::Missing { column: "tugs".into() });
    /// assert_eq!(drift.action, Action::Noted);
    /// ```
    pub fn noted(change: Change) -> Drift {
        Drift::of(change, Action::Noted)
    }

    /// Whether somebody should hear of it: something was done about it, or values are not what they were. That
    /// names are spelled another way or columns stand in another order is none.
    pub fn is_news(&self) -> bool {
        match (&self.change, self.action) {
            (Change::Unusual { .. } | Change::Misread { .. }, _) => true,
            (Change::Missing { .. }, Action::Nulled) => true,
            (_, Action::Noted) => false,
            _ => true,
        }
    }

    /// The change and what was done, in a sentence.
    pub fn words(&self) -> String {
        let mut words = self.change.words();
        if let Some(cause) = &self.cause {
            words.push_str(&format!(", {}", cause.words()));
        }
        match self.action {
            Action::Noted => words,
            action => format!("{words}: {}", action.words()),
        }
    }
}
