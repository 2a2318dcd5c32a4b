//! What happens during a command, as data. The core and the engine emit events; every output
//! (terminal, JSON, receipt) is a renderer of them.

/// What became of an arrival in a batch.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Outcome {
    /// Its rows are in the table.
    #[default]
    Loaded,
    /// The ledger knows it: nothing to do.
    Known,
    /// The same content is loaded already, under another name or time.
    Same,
    /// It could not be loaded; nothing of it is in the table.
    Failed,
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
    /// The outcome in one word.
    pub fn word(self) -> &'static str {
        match self {
            Outcome::Loaded => "loaded",
            Outcome::Known => "known",
            Outcome::Same => "same",
            Outcome::Failed => "failed",
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
            Outcome::Known,
            Outcome::Same,
            Outcome::Failed,
            Outcome::Held,
            Outcome::Discarded,
            Outcome::Retracted,
            Outcome::Unmatched,
        ];
        all.into_iter().find(|outcome| outcome.word() == word)
    }
}

/// One thing that happened.
#[derive(Clone, Debug, PartialEq)]
pub enum Event {
    /// A batch begins: so many files, so many bytes to read.
    BatchBegan {
        /// Files that are new or changed.
        files: usize,
        /// Their bytes.
        bytes: u64,
        /// What all of them are for: a file that is to be loaded may be looked at besides.
        step: Step,
    },
    /// A file is begun.
    FileBegan {
        /// Its path, as shown to people.
        path: String,
        /// Whether it is read for evidence first, or loaded straight away.
        step: Step,
        /// Its size in bytes.
        bytes: u64,
    },
    /// So many more bytes of the file in hand were read.
    Progress {
        /// How many.
        bytes: u64,
    },
    /// A file is done with.
    FileEnded {
        /// Its path.
        path: String,
        /// What became of it.
        outcome: Outcome,
    },
    /// The batch is over.
    BatchEnded,
}

/// What is being done with a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Step {
    /// Looking at all its values.
    Looking,
    /// Loading its rows.
    Loading,
}

/// Takes events, on whatever thread they happen.
pub trait Listener: Sync {
    /// Takes one event.
    fn on(&self, event: Event);
}

/// A listener that does not listen.
#[derive(Clone, Copy, Debug, Default)]
pub struct Silent;

impl Listener for Silent {
    fn on(&self, _: Event) {}
}
