//! How a server's words are shown.

/// The most of a server's words that is shown, in characters.
const SHOWN: usize = 200;

/// A server's words on one line, without what a terminal would obey.
pub fn one_line(words: &str) -> String {
    let plain = |c: char| if c.is_control() { ' ' } else { c };
    let text: String = words.chars().map(plain).collect();
    let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
    match text.char_indices().nth(SHOWN) {
        Some((end, _)) => format!("{}…", &text[..end]),
        None => text,
    }
}
