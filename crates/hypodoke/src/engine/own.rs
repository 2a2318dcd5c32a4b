//! Hypodoke's own files, which are no arrivals even where they stand among them.

use std::path::{Path, PathBuf};

use hypodoke_stores::StoreUrl;

use crate::settings::{DEFAULT_DATABASE, FILE_NAME};

/// The files that are not to be taken for arrivals.
pub struct Own {
    files: Vec<PathBuf>,
}

impl Own {
    /// The configuration and the database, as far as they are there.
    pub fn of(store: Option<&StoreUrl>) -> Own {
        let default = StoreUrl::parse(DEFAULT_DATABASE, Path::new("")).ok();
        let stores = store.into_iter().chain(&default).flat_map(StoreUrl::files);
        let files = stores.filter_map(|file| file.canonicalize().ok()).collect();
        Own { files }
    }

    /// Whether a file is one of them.
    pub fn holds(&self, file: &Path) -> bool {
        file.file_name().is_some_and(|name| name == FILE_NAME)
            || !self.files.is_empty() && file.canonicalize().is_ok_and(|file| self.files.contains(&file))
    }
}
