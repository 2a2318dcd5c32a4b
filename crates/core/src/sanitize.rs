//! Text from outside, made safe to show.

/// The text with its control characters written as escapes, and with those that turn the direction of writing:
/// a file name must neither move the cursor of the terminal that it is printed on, nor look like another.
///
/// ```
/// assert_eq!(hypodoke_core::sanitize::clean("a\u{1b}[2J.csv"), "a\\u{1b}[2J.csv");
/// assert_eq!(hypodoke_core::sanitize::clean("a\u{202e}vsc.exe"), "a\\u{202e}vsc.exe");
/// ```
pub fn clean(text: &str) -> String {
    if text.chars().any(is_unsafe) {
        let escaped = |c: char| if is_unsafe(c) { c.escape_default().to_string() } else { c.to_string() };
        return text.chars().map(escaped).collect();
    }
    text.to_owned()
}

/// Control characters, and the marks, embeddings, overrides and isolates of the Unicode Bidirectional Algorithm
/// (UAX 9, table "Bidirectional Character Types").
fn is_unsafe(c: char) -> bool {
    let turns = ['\u{61c}', '\u{200e}', '\u{200f}'];
    let ranges = ['\u{202a}'..='\u{202e}', '\u{2066}'..='\u{2069}', '\u{2028}'..='\u{2029}'];
    c.is_control() || turns.contains(&c) || ranges.iter().any(|range| range.contains(&c))
}
