//! Where the staging database is: `sqlite:harbour.db`.

use std::path::{Path, PathBuf};
use std::time::Duration;

/// How long a lock of somebody else's is waited for unless said otherwise.
pub const DEFAULT_WAIT: Duration = Duration::from_secs(10);

/// Where a staging database is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum StoreUrl {
    /// A file.
    Sqlite {
        /// The file.
        path: PathBuf,
        /// How long a lock is waited for.
        wait: Duration,
    },
}

/// What is wrong with a database's address.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum UrlError {
    /// No store is of that kind.
    #[error("`{0}:` is no database that is known; use sqlite:FILE")]
    Scheme(String),
    /// Nothing before a colon.
    #[error("`{0}` does not say which kind of database it is; for a file write sqlite:{0}")]
    NoScheme(String),
    /// No file is named.
    #[error("`sqlite:` needs the name of a file behind it")]
    NoFile,
}

impl StoreUrl {
    /// Reads an address; a relative file is meant from `base`.
    pub fn parse(text: &str, base: &Path) -> Result<StoreUrl, UrlError> {
        let (scheme, rest) = text.split_once(':').ok_or_else(|| UrlError::NoScheme(text.to_owned()))?;
        match scheme {
            "sqlite" => {
                let file = rest.strip_prefix("//").unwrap_or(rest);
                if file.is_empty() {
                    return Err(UrlError::NoFile);
                }
                Ok(StoreUrl::Sqlite { path: base.join(file), wait: DEFAULT_WAIT })
            }
            _ => Err(UrlError::Scheme(scheme.to_owned())),
        }
    }

    /// The same address with another patience for locks.
    pub fn waiting(self, wait: Duration) -> StoreUrl {
        match self {
            StoreUrl::Sqlite { path, .. } => StoreUrl::Sqlite { path, wait },
        }
    }

    /// The files that the database is kept in, journals included; none if it is a server.
    pub fn files(&self) -> Vec<PathBuf> {
        match self {
            StoreUrl::Sqlite { path, .. } => ["", "-journal", "-wal", "-shm"]
                .iter()
                .map(|ending| {
                    let mut file = path.as_os_str().to_owned();
                    file.push(ending);
                    PathBuf::from(file)
                })
                .collect(),
        }
    }

    /// Whether a database is there already.
    pub fn exists(&self) -> bool {
        match self {
            StoreUrl::Sqlite { path, .. } => path.exists(),
        }
    }
}

impl std::fmt::Display for StoreUrl {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            StoreUrl::Sqlite { path, .. } => write!(f, "sqlite:{}", path.display()),
        }
    }
}
