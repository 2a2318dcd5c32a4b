//! Companion files: what a sender states about a file in another file beside it.

use std::path::Path;

use hypodoke_places::{Digest, PlaceError, beside};

use crate::decide::{ControlLine, DigestFacts};
use crate::error::EngineError;
use crate::job::{Candidate, Control, Expectations};

/// The most of a companion file that is read, in bytes.
const MOST_READ: u64 = 64 * 1024;

/// The path of a file's companion.
pub fn companion_path(file: &Candidate, pattern: &str) -> String {
    beside(&file.container().arrival.path, pattern)
}

/// The digest that the sender states and that of the content; `None` where none is expected.
///
/// # Errors
///
/// The file itself cannot be fetched or read.
pub fn digest_facts(file: &Candidate, expect: &Expectations) -> Result<Option<DigestFacts>, EngineError> {
    let Some(pattern) = expect.control_file.as_ref().filter(|_| expect.control.contains(&Control::Digest))
    else {
        return Ok(None);
    };
    let companion = companion_path(file, pattern);
    let text = match read_companion(file, pattern) {
        Ok(text) => text,
        Err(why) => return Ok(Some(DigestFacts { companion, digests: Err(why) })),
    };
    let digests = match Digest::stated(&text, file.container().arrival.file_name()) {
        None => None,
        Some(stated) => {
            let fetched = file.seen.fetched()?;
            let found = stated.of_file(&fetched).map_err(|error| PlaceError::of(&*fetched, error))?;
            Some((stated.to_string(), found.to_string()))
        }
    };
    Ok(Some(DigestFacts { companion, digests: Ok(digests) }))
}

/// The line that control figures stand on, with the companion it is in; without one it is the last line of the
/// `footer`. `None` where there is no such line, an error where the companion cannot be read.
pub fn control_line(file: &Candidate, expect: &Expectations, footer: &[String]) -> ControlLine {
    if !expect.control.iter().any(|control| *control != Control::Digest) {
        return Ok(None);
    }
    let Some(pattern) = &expect.control_file else {
        return Ok(footer.last().map(|line| (line.clone(), None)));
    };
    let companion = companion_path(file, pattern);
    match read_companion(file, pattern) {
        Ok(text) => Ok(Some((Digest::taken_out(&text), Some(companion)))),
        Err(why) => Err((companion, why)),
    }
}

/// Reads the companion of a file: beside it, or fetched from the server that it stands on.
fn read_companion(file: &Candidate, pattern: &str) -> Result<String, String> {
    let Some(control) = &file.control else {
        if !file.seen.is_local() {
            return Err("it is not there".to_owned());
        }
        let name = file.seen.file.file_name().map(|name| name.to_string_lossy().into_owned());
        return read_text(&file.seen.file.with_file_name(beside(&name.unwrap_or_default(), pattern)));
    };
    check_size(control.arrival.bytes)?;
    control.check().map_err(|error| error.to_string())?;
    let text = control.fetched().map_err(|error| error.to_string()).and_then(|fetched| read_text(&fetched));
    control.release();
    text
}

fn read_text(path: &Path) -> Result<String, String> {
    check_size(std::fs::metadata(path).map_err(|error| error.to_string())?.len())?;
    let bytes = std::fs::read(path).map_err(|error| error.to_string())?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

fn check_size(bytes: u64) -> Result<(), String> {
    match bytes {
        0..=MOST_READ => Ok(()),
        _ => Err(format!("{bytes} bytes are too many for control figures")),
    }
}
