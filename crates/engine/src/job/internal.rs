//! Files of the program's own, which are no arrivals even where they stand among them.

use std::path::{Path, PathBuf};

use hypodoke_places::Seen;
use hypodoke_stores::StoreUrl;

/// The files that are not to be taken for arrivals.
#[derive(Clone, Debug, Default)]
pub struct InternalFiles {
    names: Vec<String>,
    stores: Vec<StoreUrl>,
    folders: Vec<PathBuf>,
}

impl InternalFiles {
    /// Files of these `names`, the files of these `stores`, and whatever stands in these `folders`.
    pub fn new(names: Vec<String>, stores: Vec<StoreUrl>, folders: Vec<PathBuf>) -> InternalFiles {
        let in_files = stores.into_iter().filter(|store| !store.files().is_empty());
        InternalFiles { names, stores: in_files.map(StoreUrl::canonical).collect(), folders }
    }

    /// Whether a file is one of them.
    pub fn contains(&self, seen: &Seen) -> bool {
        let file = seen.file.as_path();
        file.file_name().is_some_and(|name| self.names.iter().any(|internal| name == internal.as_str()))
            || self.has_name_of_store(file)
                && file.canonicalize().is_ok_and(|file| self.stores.iter().any(|store| store.is_own(&file)))
            || seen.is_local() && self.is_in_folder(file)
    }

    fn is_in_folder(&self, file: &Path) -> bool {
        self.folders.iter().any(|own| file.starts_with(own))
    }

    /// Whether its name is like that of a store's file: to find the true paths of thousands of files
    /// takes its time.
    fn has_name_of_store(&self, file: &Path) -> bool {
        let Some(name) = file.file_name().map(|name| name.to_string_lossy()) else { return false };
        let files = self.stores.iter().flat_map(StoreUrl::files);
        files
            .into_iter()
            .any(|own| own.file_name().is_some_and(|own| name.starts_with(own.to_string_lossy().as_ref())))
    }
}
