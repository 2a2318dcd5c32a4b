//! JSON documents on standard output.

use serde::Serialize;

/// Prints one document, in lines a person can read too.
pub fn print(document: &impl Serialize) {
    let text = serde_json::to_string_pretty(document).unwrap_or_default();
    super::print(&(text + "\n"));
}
