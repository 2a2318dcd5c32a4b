//! Why a place or a file in it could not be looked at.

use std::io;
use std::path::PathBuf;

/// Why a place or a file in it could not be looked at.
#[derive(Debug, thiserror::Error)]
pub enum PlaceError {
    /// There is nothing of that name.
    #[error("there is no `{}`", path.display())]
    Missing {
        /// What was looked for.
        path: PathBuf,
    },
    /// The system does not let us.
    #[error("no right to read `{}`", path.display())]
    Forbidden {
        /// What was to be read.
        path: PathBuf,
    },
    /// The file is not what it was when it was begun.
    #[error("`{}` changed while it was read", path.display())]
    Changed {
        /// The file.
        path: PathBuf,
    },
    /// Anything else the system says.
    #[error("`{}` could not be read: {error}", path.display())]
    Io {
        /// What was being read.
        path: PathBuf,
        /// The system's own words.
        error: io::Error,
    },
}

impl PlaceError {
    /// The error for what the system said of a path.
    pub fn of(path: impl Into<PathBuf>, error: io::Error) -> PlaceError {
        let path = path.into();
        match error.kind() {
            io::ErrorKind::NotFound => PlaceError::Missing { path },
            io::ErrorKind::PermissionDenied => PlaceError::Forbidden { path },
            _ => PlaceError::Io { path, error },
        }
    }
}
