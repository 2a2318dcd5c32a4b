//! What nobody is to see.

use std::fmt;

/// What nobody is to see.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret(String);

impl Secret {
    /// Keeps a secret.
    ///
    /// ```
    /// use hypodoke_places::Secret;
    ///
    /// let secret = Secret::new("herring");
    /// assert_eq!(secret.reveal(), "herring");
    /// assert!(!format!("{secret:?}").contains("herring"));
    /// ```
    pub fn new(text: impl Into<String>) -> Secret {
        Secret(text.into())
    }

    /// The secret, for whoever it is meant for.
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("(secret)")
    }
}
