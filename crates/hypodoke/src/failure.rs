//! What goes wrong, as people are told: what, where, why, and what to do next.

use hypodoke_formats::ReadError;
use hypodoke_places::PlaceError;
use hypodoke_stores::{StoreError, UrlError};

use crate::exit::Exit;

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

    /// A place that could not be looked at.
    pub fn of_place(name: &str, error: PlaceError) -> Failure {
        let failure = Failure::from(error);
        Failure {
            message: format!("place `{name}`: {}", failure.message),
            // Which place it is, is not known where files are fetched.
            advice: failure.advice.map(|advice| advice.replace("PLACE", name)),
            exit: Exit::Unreachable,
        }
    }

    /// A file that could not be read: one of many, or the only one.
    pub fn reading(path: &str, error: &ReadError) -> Failure {
        Failure {
            message: format!("{}: {error}", clean(path)),
            advice: error.advice().map(str::to_owned),
            exit: Exit::Failed,
        }
    }
}

impl From<StoreError> for Failure {
    fn from(error: StoreError) -> Failure {
        let exit = if error.is_unreachable() { Exit::Unreachable } else { Exit::Failed };
        Failure { message: error.to_string(), advice: error.advice().map(str::to_owned), exit }
    }
}

impl From<PlaceError> for Failure {
    fn from(error: PlaceError) -> Failure {
        let advice = match &error {
            PlaceError::Missing { .. } => Some("check the spelling of the path".to_owned()),
            PlaceError::Forbidden { .. } => Some("give yourself the right to read it".to_owned()),
            PlaceError::Changed { .. } => Some("load again once the file is complete".to_owned()),
            PlaceError::Remote { trouble, .. } => trouble.advice().map(str::to_owned),
            PlaceError::Io { .. } => None,
        };
        let exit = match &error {
            PlaceError::Remote { trouble, .. } if trouble.is_of_server() => Exit::Unreachable,
            _ => Exit::Failed,
        };
        Failure { message: clean(&error.to_string()), advice, exit }
    }
}

impl From<UrlError> for Failure {
    fn from(error: UrlError) -> Failure {
        Failure::usage(error.to_string())
    }
}

/// A name from outside, safe to print: control characters are written as escapes.
pub fn clean(name: &str) -> String {
    if name.chars().any(|c| c.is_control()) {
        let spell = |c: char| if c.is_control() { c.escape_default().to_string() } else { c.to_string() };
        return name.chars().map(spell).collect();
    }
    name.to_owned()
}
