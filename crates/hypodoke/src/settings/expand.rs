//! Values that stand elsewhere: in the environment, or in files of secrets.

use std::path::Path;

use hypodoke_places::Secret;

use super::reader::{Placed, Section};
use crate::failure::Failure;

/// Puts environment variables in: `${NAME}`.
pub fn expand(section: &Section<'_>, found: &Placed<String>) -> Result<String, Failure> {
    let mut out = String::new();
    let mut rest = found.value.as_str();
    while let Some(at) = rest.find("${") {
        out.push_str(&rest[..at]);
        let after = &rest[at + 2..];
        let end = after.find('}').ok_or_else(|| section.wrong(found, "`${` is not closed"))?;
        let name = &after[..end];
        let value = std::env::var(name).map_err(|_| {
            section.wrong(found, format!("the environment has no `{name}`, which `${{{name}}}` asks for"))
        })?;
        out.push_str(&value);
        rest = &after[end + 1..];
    }
    out.push_str(rest);
    Ok(out)
}

/// A secret: from the environment, or from a file beside the configuration.
pub fn secret(section: &mut Section<'_>, key: &'static str, base: &Path) -> Result<Option<Secret>, Failure> {
    let Some(text) = section.text(key)? else { return Ok(None) };
    if let Some(file) = text.value.strip_prefix('@') {
        let path = base.join(file);
        let read = std::fs::read_to_string(&path);
        let secret = read.map_err(|error| section.wrong(&text, format!("{}: {error}", path.display())))?;
        return Ok(Some(Secret::new(secret.trim_end_matches(['\r', '\n']))));
    }
    if !text.value.contains("${") {
        let what = format!(
            "`{key}` stands here for all to read; take it from the environment, {key} = \"${{NAME}}\", or a file, \"@FILE\""
        );
        return Err(section.wrong(&text, what));
    }
    Ok(Some(Secret::new(expand(section, &text)?)))
}
