//! JSON documents on standard output.

use serde::Serialize;

use crate::failure::Failure;

/// Prints one document, in lines a person can read too.
///
/// # Errors
///
/// The document cannot be written as JSON; nothing is printed.
pub fn print(document: &impl Serialize) -> Result<(), Failure> {
    let text = serde_json::to_string_pretty(document)
        .map_err(|error| Failure::load(format!("the result cannot be written as JSON: {error}")))?;
    super::print(&(text + "\n"));
    Ok(())
}
