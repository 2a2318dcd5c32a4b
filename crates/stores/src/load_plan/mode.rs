//! The modes: what becomes of the rows of a file.

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
    /// The rights on a staging table that it needs: rows are also taken out again.
    pub fn rights(self) -> &'static [&'static str] {
        match self {
            Mode::Append | Mode::InsertNew | Mode::Replace => &["SELECT", "INSERT", "DELETE"],
            Mode::Upsert | Mode::History => &["SELECT", "INSERT", "UPDATE", "DELETE"],
        }
    }

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
    ///
    /// ```
    /// use hypodoke_stores::Mode;
    ///
    /// assert!(Mode::Upsert.has_key() && Mode::History.has_key());
    /// assert!(!Mode::Append.has_key() && !Mode::Replace.has_key());
    /// ```
    pub fn has_key(self) -> bool {
        matches!(self, Mode::Upsert | Mode::InsertNew | Mode::History)
    }
}
