//! What is said where the demo cannot write.

use std::path::Path;

use crate::failure::Failure;

/// The demo could not write into a folder.
pub fn unwritable(folder: &Path, error: &std::io::Error) -> Failure {
    Failure::load(format!("the demo could not write into `{}`: {error}", folder.display()))
        .advise("name a folder that can be written: hypodoke demo DIR")
}
