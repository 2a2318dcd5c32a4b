//! How a table follows from its files, in short.

use super::mode::Mode;

/// How a load treats keys that a full delivery no longer holds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Vanished {
    /// They stay: a file need not be a full delivery.
    #[default]
    Keep,
    /// Their current version ends.
    Close,
    /// They are taken out.
    Delete,
    /// They stay, with the moment since when they are gone.
    Mark,
}

/// How a table follows from its files.
#[derive(Clone, Copy, Debug, Default)]
pub struct FoldRules {
    /// The mode.
    pub mode: Mode,
    /// How a load treats keys that a file no longer holds.
    pub vanished: Vanished,
}
