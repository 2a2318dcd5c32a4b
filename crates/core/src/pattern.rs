//! Name patterns: globs with named parts, `movements_{day:%Y%m%d}*.csv`.
//!
//! `*` and `?` stand for any characters but `/`, `**` for any folders, `[ab]` for one of a
//! set and `{a,b}` for one of several words. `{name}` and `{name:FORMAT}` match a part of
//! the name and make a column of it; FORMAT is written with the fields of `strptime`. Behind an equals
//! sign, as in `country={country}`, a value is taken as folders write it that are named so.

use std::fmt;

use regex::Regex;

use crate::partition;
use crate::spelling::temporal;
use crate::types::Domain;

/// A pattern for the paths of a feed's files, relative to their place.
#[derive(Clone, Debug)]
pub struct Pattern {
    text: String,
    regex: Regex,
    parts: Vec<Part>,
}

/// A named part of a pattern.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Part {
    /// The column's name.
    pub name: String,
    format: Option<String>,
    /// It stands behind an equals sign, as in `country={country}`.
    is_partition: bool,
}

/// What a named part held in one path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PartValue {
    /// Days since 1970-01-01.
    Date(i32),
    /// Microseconds since 1970-01-01.
    Timestamp(i64),
    /// The text as it stands.
    Text(String),
}

impl PartValue {
    /// The value as a text: days and moments in ISO 8601.
    pub fn text(&self) -> String {
        let mut out = Vec::new();
        match self {
            PartValue::Date(days) => temporal::write_date(*days, &mut out),
            PartValue::Timestamp(micros) => temporal::write_timestamp(*micros, &mut out),
            PartValue::Text(text) => return text.clone(),
        }
        String::from_utf8(out).unwrap_or_default()
    }
}

impl Part {
    /// A part that holds text.
    pub fn plain(name: &str) -> Part {
        Part { name: name.to_owned(), format: None, is_partition: false }
    }

    /// What the column holds.
    pub fn domain(&self) -> Domain {
        match &self.format {
            None => Domain::Text,
            Some(format) if ["%H", "%M", "%S"].iter().any(|field| format.contains(field)) => {
                Domain::Timestamp
            }
            Some(_) => Domain::Date,
        }
    }
}

impl fmt::Display for Pattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

impl Pattern {
    /// Reads a pattern. The error says what is wrong with it.
    pub fn parse(text: &str) -> Result<Pattern, String> {
        let mut parts = Vec::new();
        let regex = translate(text, &mut parts)?;
        let regex = Regex::new(&regex).map_err(|_| format!("`{text}` is not a pattern"))?;
        Ok(Pattern { text: text.to_owned(), regex, parts })
    }

    /// The named parts, in order.
    ///
    /// ```
    /// use hypodoke_core::pattern::Pattern;
    ///
    /// let pattern = Pattern::parse("{quay}/berths_{day:%Y%m%d}.csv")?;
    /// let names: Vec<&str> = pattern.parts().iter().map(|part| part.name.as_str()).collect();
    /// assert_eq!(names, ["quay", "day"]);
    /// # Ok::<(), String>(())
    /// ```
    pub fn parts(&self) -> &[Part] {
        &self.parts
    }

    /// The values of the named parts, if the path matches; `None` if it does not.
    ///
    /// ```
    /// use hypodoke_core::pattern::Pattern;
    ///
    /// let pattern = Pattern::parse("berths_{day:%Y%m%d}.csv")?;
    /// let parts = pattern.matches("berths_20260302.csv").expect("it fits");
    /// assert_eq!(parts[0].text(), "2026-03-02");
    /// // February has no 31st day, so the path does not match.
    /// assert!(pattern.matches("berths_20260231.csv").is_none());
    /// # Ok::<(), String>(())
    /// ```
    pub fn matches(&self, path: &str) -> Option<Vec<PartValue>> {
        let captures = self.regex.captures(path)?;
        self.parts
            .iter()
            .enumerate()
            .map(|(at, part)| {
                let written = captures.get(at + 1)?.as_str();
                let text = if part.is_partition { partition::meant(written) } else { written.into() };
                match &part.format {
                    None => Some(PartValue::Text(text.into_owned())),
                    Some(format) => read_moment(&text, format, part.domain() == Domain::Timestamp),
                }
            })
            .collect()
    }
}

fn translate(text: &str, parts: &mut Vec<Part>) -> Result<String, String> {
    let mut out = String::from("(?s)^");
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        if let Some(after) = rest.strip_prefix("**/") {
            out.push_str("(?:.*/)?");
            rest = after;
            continue;
        }
        rest = &rest[c.len_utf8()..];
        match c {
            '*' if rest.starts_with('*') => {
                rest = &rest[1..];
                out.push_str(".*");
            }
            '*' => out.push_str("[^/]*"),
            '?' => out.push_str("[^/]"),
            '[' => {
                let end = rest.find(']').ok_or_else(|| format!("`[` is not closed in `{text}`"))?;
                let (set, negated) = match rest[..end].strip_prefix('!') {
                    Some(set) => (set, "^"),
                    None => (&rest[..end], ""),
                };
                out.push_str(&format!("[{negated}{}]", set.replace('\\', r"\\").replace('[', r"\[")));
                rest = &rest[end + 1..];
            }
            '{' => {
                let end = rest.find('}').ok_or_else(|| format!("`{{` is not closed in `{text}`"))?;
                let before = text.get(..text.len() - rest.len() - 1).unwrap_or_default();
                out.push_str(&braces(&rest[..end], before.ends_with('='), text, parts)?);
                rest = &rest[end + 1..];
            }
            _ => out.push_str(&regex::escape(c.encode_utf8(&mut [0; 4]))),
        }
    }
    out.push('$');
    Ok(out)
}

fn braces(inner: &str, is_partition: bool, text: &str, parts: &mut Vec<Part>) -> Result<String, String> {
    let (name, format) = match inner.split_once(':') {
        Some((name, format)) => (name, Some(format)),
        None => (inner, None),
    };
    if format.is_none() && inner.contains(',') {
        let words: Vec<String> = inner.split(',').map(regex::escape).collect();
        return Ok(format!("(?:{})", words.join("|")));
    }
    if name.is_empty() || !name.chars().all(|c| c.is_alphanumeric() || c == '_') {
        return Err(format!("`{{{inner}}}` in `{text}` needs a column name of letters, digits and _"));
    }
    if parts.iter().any(|part| part.name == name) {
        return Err(format!("`{{{name}}}` stands twice in `{text}`"));
    }
    parts.push(Part { name: name.to_owned(), format: format.map(str::to_owned), is_partition });
    match format {
        None => Ok("([^/]+?)".to_owned()),
        // What stands between figures may be written with percent signs there.
        Some(_) if is_partition => Ok("([^/]+?)".to_owned()),
        Some(format) => Ok(format!("({})", moment_regex(format, text)?)),
    }
}

fn moment_regex(format: &str, text: &str) -> Result<String, String> {
    let mut out = String::new();
    let mut chars = format.chars();
    let mut date = [false; 3];
    while let Some(c) = chars.next() {
        if c != '%' {
            out.push_str(&regex::escape(c.encode_utf8(&mut [0; 4])));
            continue;
        }
        out.push_str(match chars.next() {
            Some('Y') => {
                date[0] = true;
                r"[0-9]{4}"
            }
            Some('y') => {
                date[0] = true;
                r"[0-9]{2}"
            }
            Some('m') => {
                date[1] = true;
                r"[0-9]{2}"
            }
            Some('d') => {
                date[2] = true;
                r"[0-9]{2}"
            }
            Some('H' | 'M' | 'S') => r"[0-9]{2}",
            other => {
                let field = other.map(String::from).unwrap_or_default();
                return Err(format!("`%{field}` in `{text}` is not known; use %Y %y %m %d %H %M %S"));
            }
        });
    }
    if date != [true; 3] {
        return Err(format!("`{{…:{format}}}` in `{text}` needs a year, a month and a day"));
    }
    Ok(out)
}

/// Reads a moment by its format. `None` where there is no such day or hour.
fn read_moment(text: &str, format: &str, with_time: bool) -> Option<PartValue> {
    let (mut year, mut month, mut day, mut seconds) = (0i32, 0u32, 0u32, 0i64);
    let mut rest = text;
    let mut chars = format.chars();
    while let Some(c) = chars.next() {
        if c != '%' {
            rest = rest.strip_prefix(c)?;
            continue;
        }
        let field = chars.next()?;
        let width = if field == 'Y' { 4 } else { 2 };
        let value: u32 = rest.get(..width)?.parse().ok()?;
        rest = &rest[width..];
        match field {
            'Y' => year = value as i32,
            'y' => year = value as i32 + if value >= 69 { 1900 } else { 2000 },
            'm' => month = value,
            'd' => day = value,
            'H' if value < 24 => seconds += value as i64 * 3600,
            'M' if value < 60 => seconds += value as i64 * 60,
            'S' if value < 60 => seconds += value as i64,
            _ => return None,
        }
    }
    let days = temporal::days(year, month, day).filter(|_| rest.is_empty())?;
    Some(if with_time {
        PartValue::Timestamp(days as i64 * temporal::DAY + seconds * temporal::SECOND)
    } else {
        PartValue::Date(days)
    })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("*.csv", "a.csv", true)]
    #[case("*.csv", "in/a.csv", false)]
    #[case("**/*.csv", "in/deep/a.csv", true)]
    #[case("**/*.csv", "a.csv", true)]
    #[case("day?.{csv,txt}", "day1.txt", true)]
    #[case("[ab]*.csv", "c.csv", false)]
    #[case("[!ab]*.csv", "c.csv", true)]
    #[case("a+b (1).csv", "a+b (1).csv", true)]
    #[case("m_{day:%Y%m%d}*.csv", "m_20260302_2.csv", true)]
    #[case("m_{day:%Y%m%d}*.csv", "m_20261302.csv", false)]
    #[case("day={day:%Y-%m-%d}/*.csv", "day=2026-03-02/a.csv", true)]
    #[case("day={day:%Y-%m-%d}/*.csv", "day=2026-03-02x/a.csv", false)]
    #[case("at={at:%Y-%m-%d %H:%M}/*.csv", "at=2026-03-02%2006%3A00/a.csv", true)]
    fn globs_match_paths(#[case] pattern: &str, #[case] path: &str, #[case] fits: bool) {
        assert_eq!(Pattern::parse(pattern).unwrap().matches(path).is_some(), fits);
    }

    #[test]
    fn named_parts_become_values() {
        let pattern = Pattern::parse("{quay}/m_{day:%Y-%m-%d}.csv").unwrap();
        let values = pattern.matches("north/m_2026-03-02.csv").unwrap();
        assert_eq!(values, [PartValue::Text("north".into()), PartValue::Date(20_514)]);
    }

    #[rstest]
    #[case("{day:%Y}.csv", "needs a year, a month and a day")]
    #[case("{day:%Q}.csv", "`%Q`")]
    #[case("{a}{a}", "stands twice")]
    #[case("{a", "is not closed")]
    #[case("{a b}", "needs a column name")]
    fn wrong_patterns_say_why(#[case] pattern: &str, #[case] why: &str) {
        let error = Pattern::parse(pattern).unwrap_err();
        assert!(error.contains(why), "{error}");
    }
}
