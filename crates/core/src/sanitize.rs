//! Text from outside, made safe to show.

/// The text with its control characters written as escapes: a file name must not move the cursor of
/// the terminal that it is printed on.
///
/// ```
/// assert_eq!(hypodoke_core::sanitize::clean("a\u{1b}[2J.csv"), "a\\u{1b}[2J.csv");
/// ```
pub fn clean(text: &str) -> String {
    if text.chars().any(char::is_control) {
        let escaped = |c: char| if c.is_control() { c.escape_default().to_string() } else { c.to_string() };
        return text.chars().map(escaped).collect();
    }
    text.to_owned()
}
