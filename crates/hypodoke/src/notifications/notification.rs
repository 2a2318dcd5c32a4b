//! One thing that happened and that people are told of.

use hypodoke_core::outcome::Reason;

use crate::settings::notify::NotificationKind;

/// One thing that happened.
#[derive(Clone, Debug, PartialEq, serde::Serialize)]
pub struct Notification {
    /// What kind of thing.
    pub event: NotificationKind,
    /// What it is known by: the same thing again has the same, and is not told again.
    #[serde(skip)]
    pub key: String,
    /// The feed.
    pub feed: Option<String>,
    /// Other feeds that it is about, too.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub others: Vec<String>,
    /// The file, if it is about one.
    pub path: Option<String>,
    /// Why, as codes and their facts.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub reasons: Vec<Reason>,
    /// What happened, in words.
    pub what: String,
    /// What to do about it.
    pub advice: Option<String>,
}
