//! What all connections share: threads, and how a server's words are shown.

use std::sync::OnceLock;

use tokio::runtime::Runtime;

/// The threads that all connections share.
static RUNTIME: OnceLock<Runtime> = OnceLock::new();

/// The runtime, made when it is first asked for.
pub fn runtime() -> Result<&'static Runtime, std::io::Error> {
    if let Some(runtime) = RUNTIME.get() {
        return Ok(runtime);
    }
    let made = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
    Ok(RUNTIME.get_or_init(|| made))
}

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
