//! What goes wrong, as people are told: what, where, why, and what to do next.

use hypodoke_core::sanitize::clean;
use hypodoke_engine::error::{EngineError, ResubmitProblem};
use hypodoke_places::PlaceError;
use hypodoke_stores::{StoreError, UrlError};

use crate::exit::Exit;
use crate::wording;

/// A failure on its way to the person at the terminal.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failure {
    /// What went wrong, where and why.
    pub message: String,
    /// What to do next.
    pub advice: Option<String>,
    /// How the process ends because of it.
    pub exit: Exit,
}

impl Failure {
    /// Something that failed to load.
    pub fn load(message: impl Into<String>) -> Failure {
        Failure { message: message.into(), advice: None, exit: Exit::Failed }
    }

    /// A wrong command line or configuration.
    pub fn usage(message: impl Into<String>) -> Failure {
        Failure { message: message.into(), advice: None, exit: Exit::Usage }
    }

    /// The same with something to do next.
    pub fn advise(mut self, advice: impl Into<String>) -> Failure {
        self.advice = Some(advice.into());
        self
    }
}

impl From<EngineError> for Failure {
    fn from(error: EngineError) -> Failure {
        let is_usage = match &error {
            EngineError::Resubmit(problem) => !matches!(
                problem,
                ResubmitProblem::NestedLists { .. }
                    | ResubmitProblem::OtherColumns { .. }
                    | ResubmitProblem::NotWritten(_)
            ),
            _ => false,
        };
        let exit = match is_usage {
            true => Exit::Usage,
            false if error.is_unreachable() => Exit::Unreachable,
            false => Exit::Failed,
        };
        Failure { message: wording::reasons::of_error(&error), advice: wording::advice(&error), exit }
    }
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Failure {
        let exit = match error {
            StoreError::NotPaired { .. } => Exit::Usage,
            _ if error.is_unreachable() => Exit::Unreachable,
            _ => Exit::Failed,
        };
        Failure { message: error.to_string(), advice: wording::store_advice(&error).map(str::to_owned), exit }
    }
}

impl From<PlaceError> for Failure {
    fn from(error: PlaceError) -> Failure {
        let exit = match &error {
            PlaceError::Remote { trouble, .. } if trouble.is_of_server() => Exit::Unreachable,
            _ => Exit::Failed,
        };
        let advice = wording::place_advice(&error).map(str::to_owned);
        Failure { message: clean(&error.to_string()), advice, exit }
    }
}

impl From<UrlError> for Failure {
    fn from(error: UrlError) -> Failure {
        Failure::usage(error.to_string())
    }
}
