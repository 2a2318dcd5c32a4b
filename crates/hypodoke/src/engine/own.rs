//! Hypodoke's own files, which are no arrivals even where they stand among them.

use std::path::Path;

use hypodoke_stores::StoreUrl;

use crate::settings::{DEFAULT_DATABASE, FILE_NAME};

/// The files that are not to be taken for arrivals.
pub struct Own {
    stores: Vec<StoreUrl>,
}

impl Own {
    /// The configuration and the database, as far as they are there.
    pub fn of(store: Option<&StoreUrl>) -> Own {
        let default = StoreUrl::parse(DEFAULT_DATABASE, Path::new("")).ok();
        let stores = store.into_iter().chain(&default).filter(|store| !store.files().is_empty());
        Own { stores: stores.map(|store| store.clone().canonical()).collect() }
    }

    /// Whether a file is one of them.
    pub fn holds(&self, file: &Path) -> bool {
        file.file_name().is_some_and(|name| name == FILE_NAME)
            || self.bears_a_name(file)
                && file.canonicalize().is_ok_and(|file| self.stores.iter().any(|store| store.is_own(&file)))
    }

    /// Whether its name is like one of theirs: to find the true paths of thousands of files takes its
    /// time.
    fn bears_a_name(&self, file: &Path) -> bool {
        let Some(name) = file.file_name().map(|name| name.to_string_lossy()) else { return false };
        let names = self.stores.iter().flat_map(StoreUrl::files);
        names
            .into_iter()
            .any(|own| own.file_name().is_some_and(|own| name.starts_with(own.to_string_lossy().as_ref())))
    }
}
