//! Durations and sizes in the configuration.

use std::time::Duration;

use super::reader::Section;
use crate::failure::Failure;
use crate::values::duration;

/// Reads a duration.
pub fn span(section: &mut Section<'_>, key: &'static str) -> Result<Option<Duration>, Failure> {
    let Some(text) = section.text(key)? else { return Ok(None) };
    let wrong =
        || section.wrong(&text, format!("`{}` is not a duration; write \"30s\" or \"5m\"", text.value));
    duration(&text.value).ok_or_else(wrong).map(Some)
}

/// Reads `500MB` or `2GB`.
pub fn size(text: &str) -> Option<u64> {
    let at = text.find(|c: char| !c.is_ascii_digit())?;
    let (number, unit) = text.split_at(at);
    let times = match unit.trim().to_ascii_uppercase().as_str() {
        "KB" => 1_000,
        "MB" => 1_000_000,
        "GB" => 1_000_000_000,
        "TB" => 1_000_000_000_000,
        _ => return None,
    };
    number.parse::<u64>().ok()?.checked_mul(times).filter(|size| *size > 0)
}
