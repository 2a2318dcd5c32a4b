//! What became of an arrival.

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
