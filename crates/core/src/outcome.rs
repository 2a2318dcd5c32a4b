//! What became of an arrival.

use std::fmt;

/// What became of an arrival in a batch.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Outcome {
    /// Its rows are in the table.
    #[default]
    Loaded,
    /// A newer delivery is in the table: its rows are kept, and would be again without that one.
    Superseded,
    /// The ledger knows it: nothing to do.
    Known,
    /// The same content is loaded already, under another name or time.
    Same,
    /// It could not be loaded; nothing of it is in the table.
    Failed,
    /// It changed while it was read, or was gone: what there is of it is looked at again later.
    Waiting,
    /// It is set aside until a person settles it; nothing of it is in the table.
    Held,
    /// A person decided that it is not to be loaded.
    Discarded,
    /// Its rows were taken out of the table again.
    Retracted,
    /// No feed wants it.
    Unmatched,
}

impl Outcome {
    /// Whether its rows count: they are in the table, or would be without a newer delivery.
    ///
    /// ```
    /// use hypodoke_core::outcome::Outcome;
    ///
    /// assert!(Outcome::Loaded.counts() && Outcome::Superseded.counts());
    /// assert!(!Outcome::Held.counts());
    /// ```
    pub fn counts(self) -> bool {
        matches!(self, Outcome::Loaded | Outcome::Superseded)
    }

    /// The outcome in one word.
    pub fn word(self) -> &'static str {
        match self {
            Outcome::Loaded => "loaded",
            Outcome::Superseded => "superseded",
            Outcome::Known => "known",
            Outcome::Same => "same",
            Outcome::Failed => "failed",
            Outcome::Waiting => "waiting",
            Outcome::Held => "held",
            Outcome::Discarded => "discarded",
            Outcome::Retracted => "retracted",
            Outcome::Unmatched => "unmatched",
        }
    }

    /// The outcome of that word.
    ///
    /// ```
    /// use hypodoke_core::outcome::Outcome;
    ///
    /// assert_eq!(Outcome::from_word("held"), Some(Outcome::Held));
    /// assert_eq!(Outcome::from_word(Outcome::Loaded.word()), Some(Outcome::Loaded));
    /// assert_eq!(Outcome::from_word("sunk"), None);
    /// ```
    pub fn from_word(word: &str) -> Option<Outcome> {
        let all = [
            Outcome::Loaded,
            Outcome::Superseded,
            Outcome::Known,
            Outcome::Same,
            Outcome::Failed,
            Outcome::Waiting,
            Outcome::Held,
            Outcome::Discarded,
            Outcome::Retracted,
            Outcome::Unmatched,
        ];
        all.into_iter().find(|outcome| outcome.word() == word)
    }
}

/// Why a file was held, failed or was skipped, as data: a code that programs may rely on, and the facts of the case.
/// The program makes the sentences that people read of the code and the facts.
#[derive(Clone, Debug, Default, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct Reason {
    /// The outcome and the case, as in `held.truncated`.
    pub code: String,
    /// The facts of the case, by their names.
    #[serde(default)]
    pub facts: serde_json::Value,
}

impl Reason {
    /// A reason with facts.
    ///
    /// ```
    /// use hypodoke_core::outcome::Reason;
    ///
    /// let reason = Reason::new("held.truncated", serde_json::json!({ "line": 130 }));
    /// assert!(reason.is("held.truncated"));
    /// assert_eq!(reason.facts["line"], 130);
    /// ```
    pub fn new(code: impl Into<String>, facts: serde_json::Value) -> Reason {
        Reason { code: code.into(), facts }
    }

    /// Whether the reason has a code, or one of a group: `held` is the group of all codes that begin with `held.`.
    ///
    /// ```
    /// use hypodoke_core::outcome::Reason;
    ///
    /// let reason = Reason::new("failed.password", serde_json::Value::Null);
    /// assert!(reason.is("failed") && !reason.is("fail"));
    /// ```
    pub fn is(&self, code: &str) -> bool {
        self.code.strip_prefix(code).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
    }
}

/// The code and the facts as JSON: `held.truncated {"line":130}`.
impl fmt::Display for Reason {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.facts {
            serde_json::Value::Null => out.write_str(&self.code),
            facts => write!(out, "{} {facts}", self.code),
        }
    }
}

/// Whether any of the reasons has a code, or one of a group: see [`Reason::is`].
///
/// ```
/// use hypodoke_core::outcome::{Reason, has_code};
///
/// let reasons = [Reason::new("held.new_column", serde_json::json!({ "column": "tugs" }))];
/// assert!(has_code(&reasons, "held.new_column") && has_code(&reasons, "held"));
/// assert!(!has_code(&reasons, "failed"));
/// ```
pub fn has_code(reasons: &[Reason], code: &str) -> bool {
    reasons.iter().any(|reason| reason.is(code))
}
