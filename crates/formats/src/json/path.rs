//! Where the rows are: a JSONPath (RFC 9535) as far as a stream can be followed with it.

use std::fmt;

/// One step of a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// `.name` or `['name']`
    Name(String),
    /// `[3]`, counted from 0
    Index(u64),
    /// `[1:4]`: from, and up to but not including
    Slice(u64, Option<u64>),
    /// `[*]` or `.*`
    All,
}

/// A path from the top of a document to its rows.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct JsonPath {
    /// The steps after `$`.
    pub steps: Vec<Step>,
}

impl JsonPath {
    /// Reads a path. What a stream cannot follow (filters, descendants, steps counted from the
    /// end) is refused with the reason.
    pub fn parse(text: &str) -> Result<JsonPath, String> {
        let wrong = |why: &str| format!("`{text}` is not a usable path: {why}");
        let mut rest = text.trim().strip_prefix('$').ok_or_else(|| wrong("it has to begin with `$`"))?;
        let mut steps = Vec::new();
        while !rest.is_empty() {
            let (step, after) = if let Some(dotted) = rest.strip_prefix('.') {
                if dotted.starts_with('.') {
                    return Err(wrong("`..` is not possible, name every step"));
                }
                let end = dotted.find(['.', '[']).unwrap_or(dotted.len());
                let (name, after) = dotted.split_at(end);
                match name {
                    "" => return Err(wrong("a name is missing after `.`")),
                    "*" => (Step::All, after),
                    name => (Step::Name(name.to_owned()), after),
                }
            } else if let Some(inner) = rest.strip_prefix('[') {
                bracket(inner).map_err(|why| wrong(&why))?
            } else {
                return Err(wrong("after a step comes `.` or `[`"));
            };
            steps.push(step);
            rest = after;
        }
        Ok(JsonPath { steps })
    }
}

/// Reads what stands after `[`, the closing bracket included.
fn bracket(inner: &str) -> Result<(Step, &str), String> {
    if let Some(quote) = inner.chars().next().filter(|c| matches!(c, '\'' | '"')) {
        let mut name = String::new();
        let mut chars = inner[1..].char_indices();
        while let Some((at, c)) = chars.next() {
            match c {
                '\\' => name.extend(chars.next().map(|(_, c)| c)),
                c if c == quote => {
                    let after =
                        inner[1 + at + 1..].strip_prefix(']').ok_or("a name in quotes ends in `]`")?;
                    return Ok((Step::Name(name), after));
                }
                c => name.push(c),
            }
        }
        return Err("a quote is not closed".to_owned());
    }
    let (content, after) = inner.split_once(']').ok_or("`[` is not closed")?;
    let content = content.trim();
    let number = |text: &str| {
        text.trim().parse::<u64>().map_err(|_| {
            format!("`[{content}]` is neither a number, nor from:to, nor `*`, nor a name in quotes")
        })
    };
    if content == "*" {
        return Ok((Step::All, after));
    }
    match content.split_once(':') {
        Some((from, to)) => {
            let from = if from.trim().is_empty() { 0 } else { number(from)? };
            let to = if to.trim().is_empty() { None } else { Some(number(to)?) };
            Ok((Step::Slice(from, to), after))
        }
        None => Ok((Step::Index(number(content)?), after)),
    }
}

/// Whether a key may stand in a path without quotes.
pub fn is_plain(key: &str) -> bool {
    !key.is_empty()
        && !key.contains(['.', '[', ']', '\'', '"', '\\', '*'])
        && !key.contains(char::is_whitespace)
}

/// A key as a path has it, in quotes where it needs them.
pub fn quoted(key: &str) -> String {
    format!("['{}']", key.replace('\\', "\\\\").replace('\'', "\\'"))
}

impl fmt::Display for JsonPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("$")?;
        for step in &self.steps {
            match step {
                Step::Name(name) if is_plain(name) => write!(f, ".{name}")?,
                Step::Name(name) => f.write_str(&quoted(name))?,
                Step::Index(index) => write!(f, "[{index}]")?,
                Step::Slice(from, None) => write!(f, "[{from}:]")?,
                Step::Slice(from, Some(to)) => write!(f, "[{from}:{to}]")?,
                Step::All => f.write_str("[*]")?,
            }
        }
        Ok(())
    }
}

/// Splits the name of a column, as `super::tree` makes them, into its keys.
pub fn keys(name: &str) -> Vec<String> {
    let mut keys = Vec::new();
    let mut rest = name;
    while !rest.is_empty() {
        if let Some(inner) = rest.strip_prefix('[')
            && let Ok((Step::Name(key), after)) = bracket(inner)
        {
            keys.push(key);
            rest = after.strip_prefix('.').unwrap_or(after);
            continue;
        }
        let end = rest.find(['.', '[']).filter(|at| *at > 0).unwrap_or(rest.len());
        keys.push(rest[..end].to_owned());
        rest = rest[end..].strip_prefix('.').unwrap_or(&rest[end..]);
    }
    keys
}

/// Joins a key to the name of what it stands in.
pub fn join(name: &str, key: &str) -> String {
    match (name.is_empty(), is_plain(key)) {
        (true, true) => key.to_owned(),
        (false, true) => format!("{name}.{key}"),
        (_, false) => format!("{name}{}", quoted(key)),
    }
}

/// The paths of the objects that columns of these names stand in.
pub fn objects_in(names: &[String]) -> Vec<String> {
    let mut found = std::collections::BTreeSet::new();
    for keys in names.iter().map(|name| keys(name)) {
        let mut path = String::new();
        for key in keys.iter().take(keys.len().saturating_sub(1)) {
            path = join(&path, key);
            found.insert(path.clone());
        }
    }
    found.into_iter().collect()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("$", &[])]
    #[case("$.result.logs[*]", &[Step::Name("result".into()), Step::Name("logs".into()), Step::All])]
    #[case("$['a b'][2].*", &[Step::Name("a b".into()), Step::Index(2), Step::All])]
    #[case("$[1:4]", &[Step::Slice(1, Some(4))])]
    #[case("$[2:]", &[Step::Slice(2, None)])]
    fn paths_are_read(#[case] text: &str, #[case] steps: &[Step]) {
        assert_eq!(JsonPath::parse(text).expect("a path").steps, steps);
    }

    #[rstest]
    #[case("result", "begin with `$`")]
    #[case("$..logs", "`..`")]
    #[case("$[?(@.a>1)]", "neither a number")]
    #[case("$[-1]", "neither a number")]
    #[case("$.a[", "not closed")]
    #[case("$.", "a name is missing")]
    fn what_cannot_be_followed_is_refused(#[case] text: &str, #[case] why: &str) {
        let error = JsonPath::parse(text).expect_err("no path");
        assert!(error.contains(why), "{error}");
    }

    #[rstest]
    #[case("a.b.c", &["a", "b", "c"])]
    #[case("a['b.c'].d", &["a", "b.c", "d"])]
    #[case("['it\\'s']", &["it's"])]
    #[case("['']", &[""])]
    fn names_are_split_into_the_keys_they_were_joined_of(#[case] name: &str, #[case] expected: &[&str]) {
        assert_eq!(keys(name), expected);
        let joined = expected.iter().fold(String::new(), |name, key| join(&name, key));
        assert_eq!(keys(&joined), expected);
    }
}
