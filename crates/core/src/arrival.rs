//! Arrivals: files seen at a place.

use serde::{Deserialize, Serialize};

/// The content of a file as a BLAKE3 hash in 64 hexadecimal digits.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct ContentHash(pub String);

/// One file seen at a place.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Arrival {
    /// The name of its place.
    pub place: String,
    /// Its path in the place, with `/` between folders.
    pub path: String,
    /// Its size in bytes.
    pub bytes: u64,
    /// When it was last modified: microseconds since 1970-01-01T00:00:00Z.
    pub modified: i64,
    /// What the place itself calls this version, if it keeps such a thing: an entity tag, a number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub token: Option<String>,
}

impl Arrival {
    /// The last part of its path.
    ///
    /// ```
    /// use hypodoke_core::arrival::Arrival;
    ///
    /// let arrival = Arrival { path: "north/berths.csv".into(), ..Arrival::default() };
    /// assert_eq!(arrival.file_name(), "berths.csv");
    /// ```
    pub fn file_name(&self) -> &str {
        self.path.rsplit('/').next().unwrap_or("")
    }

    /// Whether a file seen earlier at the same path is this one, unchanged: of the same size and time,
    /// and called the same by the place, where it called both something.
    ///
    /// ```
    /// use hypodoke_core::arrival::Arrival;
    ///
    /// let earlier = Arrival { path: "berths.csv".into(), bytes: 812, modified: 1, ..Arrival::default() };
    /// let token = Some("v2".to_owned());
    /// // The place gave no token before, so size and time decide.
    /// assert!(Arrival { token, ..earlier.clone() }.looks_like(&earlier));
    /// assert!(!Arrival { bytes: 813, ..earlier.clone() }.looks_like(&earlier));
    /// ```
    pub fn looks_like(&self, earlier: &Arrival) -> bool {
        let is_called_alike = match (&self.token, &earlier.token) {
            (Some(token), Some(earlier)) => token == earlier,
            _ => true,
        };
        self.bytes == earlier.bytes && self.modified == earlier.modified && is_called_alike
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::same(7, 9, None, None, true)]
    #[case::longer(8, 9, None, None, false)]
    #[case::later(7, 10, None, None, false)]
    #[case::same_token(7, 9, Some("v1"), Some("v1"), true)]
    #[case::other_token(7, 9, Some("v2"), Some("v1"), false)]
    #[case::of_a_time_without_tokens(7, 9, Some("v2"), None, true)]
    fn a_version_is_told_by_size_time_and_token(
        #[case] bytes: u64,
        #[case] modified: i64,
        #[case] token: Option<&str>,
        #[case] earlier: Option<&str>,
        #[case] is_same: bool,
    ) {
        let version = |bytes, modified, token: Option<&str>| Arrival {
            path: "a.csv".into(),
            bytes,
            modified,
            token: token.map(str::to_owned),
            ..Arrival::default()
        };
        assert_eq!(version(bytes, modified, token).looks_like(&version(7, 9, earlier)), is_same);
    }
}
