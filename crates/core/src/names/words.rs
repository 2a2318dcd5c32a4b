//! The words of a header, and what names are made of them.

use std::borrow::Cow;

/// Words that stand in small letters behind an acronym: `UNcode`. Elsewhere its last capital is the first
/// of the next word: `HTTPStatus`.
const BEHIND_ACRONYMS: &[&str] = &[
    "code", "codes", "number", "numeric", "num", "no", "nr", "name", "names", "id", "ids", "key", "type",
    "date", "time", "year", "value", "values", "rate", "index", "class", "level", "flag", "group", "count",
    "status", "ref", "alpha", "lat", "lon", "size", "sum", "total", "unit", "units", "of", "and", "per",
    "in", "to", "for", "by", "data", "file", "list", "text", "version", "rank", "area", "zone", "region",
    "score", "price", "tax",
];

/// `BerthNo (new)` becomes `berth_no_new`; letters of any script stay, `%` and `#` are spelled.
pub fn snake_case(text: &str) -> String {
    let text = text.trim();
    let mut out = String::with_capacity(text.len() + 4);
    let mut previous = ' ';
    let mut chars = text.char_indices().peekable();
    while let Some((at, c)) = chars.next() {
        let spelled = match c {
            '%' => Some("pct"),
            '#' => Some("no"),
            _ => None,
        };
        let next = chars.peek().map(|(_, next)| *next);
        if let Some(word) = spelled {
            push_gap(&mut out);
            out.push_str(word);
            if next.is_some() {
                push_gap(&mut out);
            }
        } else if c.is_alphanumeric() {
            if begins_word(text, at, c, previous, next) {
                push_gap(&mut out);
            }
            out.extend(fold(c));
        } else {
            push_gap(&mut out);
        }
        previous = c;
    }
    while out.ends_with('_') {
        out.pop();
    }
    if out.starts_with(|c: char| c.is_numeric()) {
        out.insert(0, '_');
    }
    out
}

/// Whether a letter begins a word though no gap stands before it.
fn begins_word(text: &str, at: usize, c: char, previous: char, next: Option<char>) -> bool {
    let (before, from) = (text.get(..at).unwrap_or_default(), text.get(at..).unwrap_or_default());
    if c.is_lowercase() {
        // The word behind an acronym of two capitals or more.
        let capitals = before.chars().rev().take_while(|c| c.is_uppercase()).count();
        return capitals > 1 && stands_behind_acronyms(from);
    }
    if !c.is_uppercase() {
        return false;
    }
    let behind = from.get(c.len_utf8()..).unwrap_or_default();
    let begins_next = previous.is_uppercase()
        && next.is_some_and(char::is_lowercase)
        && !stands_behind_acronyms(behind)
        // `URLs`, `MWh`: one small letter is no word of its own.
        && small_letters(behind).chars().nth(1).is_some();
    previous.is_lowercase() || previous.is_numeric() || begins_next
}

fn small_letters(text: &str) -> &str {
    let end = text.find(|c: char| !c.is_lowercase()).unwrap_or(text.len());
    text.get(..end).unwrap_or_default()
}

fn stands_behind_acronyms(text: &str) -> bool {
    BEHIND_ACRONYMS.contains(&small_letters(text))
}

/// The words of a header run together, each but perhaps the first with a capital.
pub fn camel_case(text: &str, with_first: bool) -> String {
    let snake = snake_case(text);
    let mut out = String::with_capacity(snake.len());
    for (at, word) in snake.split('_').filter(|word| !word.is_empty()).enumerate() {
        let mut chars = word.chars();
        match chars.next() {
            Some(first) if at > 0 || with_first => out.extend(first.to_uppercase()),
            Some(first) => out.push(first),
            None => {}
        }
        out.push_str(chars.as_str());
    }
    if out.starts_with(|c: char| c.is_numeric()) {
        out.insert(0, '_');
    }
    out
}

/// A header with words replaced, in any case.
pub fn replaced<'t>(text: &'t str, replacements: &[(String, String)]) -> Cow<'t, str> {
    let mut found = Cow::Borrowed(text);
    for (word, by) in replacements.iter().filter(|(word, _)| !word.is_empty()) {
        if let Some(changed) = with_word(&found, word, by) {
            found = Cow::Owned(changed);
        }
    }
    found
}

/// A text with every whole word like this one replaced; nothing where it has none.
fn with_word(text: &str, word: &str, by: &str) -> Option<String> {
    let wanted = word.to_lowercase();
    let (mut out, mut at, mut is_changed) = (String::new(), 0, false);
    while let Some(rest) = text.get(at..).filter(|rest| !rest.is_empty()) {
        let is_free = |c: Option<char>| c.is_none_or(|c| !c.is_alphanumeric());
        let end = rest.char_indices().map(|(at, c)| at + c.len_utf8()).take(word.chars().count()).last();
        let end = end.unwrap_or(rest.len());
        let (here, behind) = rest.split_at(end);
        let before = text.get(..at).and_then(|before| before.chars().next_back());
        if here.to_lowercase() == wanted && is_free(before) && is_free(behind.chars().next()) {
            out.push_str(by);
            at += end;
            is_changed = true;
            continue;
        }
        let Some(first) = rest.chars().next() else { break };
        out.push(first);
        at += first.len_utf8();
    }
    is_changed.then_some(out)
}

fn push_gap(out: &mut String) {
    if !out.is_empty() && !out.ends_with('_') {
        out.push('_');
    }
}

/// Lower case, and the accents of Latin letters taken off, so that a name can be typed.
pub fn fold(c: char) -> impl Iterator<Item = char> {
    let plain = match c.to_lowercase().next().unwrap_or(c) {
        'à' | 'á' | 'â' | 'ã' | 'å' | 'ā' | 'ą' => "a",
        'ä' | 'æ' => "ae",
        'ç' | 'ć' | 'č' => "c",
        'ď' | 'đ' | 'ð' => "d",
        'è' | 'é' | 'ê' | 'ë' | 'ē' | 'ę' | 'ě' => "e",
        'ì' | 'í' | 'î' | 'ï' | 'ī' => "i",
        'ł' => "l",
        'ñ' | 'ń' | 'ň' => "n",
        'ò' | 'ó' | 'ô' | 'õ' | 'ō' => "o",
        'ö' | 'ø' | 'œ' => "oe",
        'ř' => "r",
        'ś' | 'š' | 'ş' => "s",
        'ß' => "ss",
        'ť' => "t",
        'ù' | 'ú' | 'û' | 'ū' | 'ů' => "u",
        'ü' => "ue",
        'ý' | 'ÿ' => "y",
        'ź' | 'ż' | 'ž' => "z",
        _ => "",
    };
    let kept = if plain.is_empty() { Some(c.to_lowercase()) } else { None };
    plain.chars().chain(kept.into_iter().flatten())
}
