//! Files that are for their owner alone.

use std::fs::OpenOptions;
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::Path;

/// Options by which a file is made that only its owner reads and writes. One that is there keeps its rights.
pub fn private() -> OpenOptions {
    let mut options = OpenOptions::new();
    options.mode(0o600);
    options
}

/// Makes a folder, and those it stands in, that only their owner looks into.
///
/// # Errors
///
/// It cannot be made.
pub fn private_folder(path: &Path) -> std::io::Result<()> {
    std::fs::DirBuilder::new().recursive(true).mode(0o700).create(path)
}
