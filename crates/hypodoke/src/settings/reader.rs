//! Reading a TOML file with places: every complaint names file, line and column, what was
//! expected and the nearest right word.

use std::ops::Range;
use std::path::PathBuf;

use toml_edit::{Document, Item, TableLike};

use crate::failure::Failure;

/// A configuration file being read.
pub struct Text {
    /// Where it is.
    pub file: PathBuf,
    /// What it says.
    pub text: String,
}

impl Text {
    /// Parses it.
    pub fn parse(&self) -> Result<Document<String>, Failure> {
        Document::parse(self.text.clone())
            .map_err(|error| self.wrong(error.span(), error.message().trim().to_owned()))
    }

    /// A complaint about what stands at these bytes.
    pub fn wrong(&self, span: Option<Range<usize>>, what: impl std::fmt::Display) -> Failure {
        Failure::usage(format!("{}: {what}", self.position(span)))
    }

    /// File, line and column of what stands at these bytes.
    fn position(&self, span: Option<Range<usize>>) -> String {
        let at = span.map_or(0, |span| span.start).min(self.text.len());
        let before = &self.text.as_bytes()[..at];
        let line = before.iter().filter(|b| **b == b'\n').count() + 1;
        let start = before.iter().rposition(|b| *b == b'\n').map_or(0, |at| at + 1);
        let column = String::from_utf8_lossy(&before[start..]).chars().count() + 1;
        format!("{}:{line}:{column}", self.file.display())
    }

    /// A section of it.
    pub fn section<'a>(&'a self, name: &str, table: &'a dyn TableLike) -> Section<'a> {
        Section { text: self, name: name.to_owned(), table, known: Vec::new() }
    }
}

/// A value and where it stands.
#[derive(Clone, Debug)]
pub struct Placed<T> {
    /// The value.
    pub value: T,
    /// Where it stands.
    pub span: Option<Range<usize>>,
}

/// A list of texts, with where it stands.
pub type PlacedList = Placed<Vec<String>>;

/// A section: its keys are asked for by name, and those that were not are complained of.
pub struct Section<'a> {
    text: &'a Text,
    name: String,
    table: &'a dyn TableLike,
    known: Vec<&'static str>,
}

impl<'a> Section<'a> {
    fn take(&mut self, key: &'static str) -> Option<&'a Item> {
        self.known.push(key);
        self.table.get(key).filter(|item| !item.is_none())
    }

    fn expected(&self, key: &str, item: &Item, what: &str) -> Failure {
        let found = item.type_name();
        self.text.wrong(item.span(), format!("`{key}` in [{}] must be {what}, not {found}", self.name))
    }

    /// A text.
    pub fn text(&mut self, key: &'static str) -> Result<Option<Placed<String>>, Failure> {
        let Some(item) = self.take(key) else { return Ok(None) };
        let value = item.as_str().ok_or_else(|| self.expected(key, item, "a text in quotes"))?;
        Ok(Some(Placed { value: value.to_owned(), span: item.span() }))
    }

    /// A text that has to be there.
    pub fn required(&mut self, key: &'static str, example: &str) -> Result<Placed<String>, Failure> {
        match self.text(key)? {
            Some(found) => Ok(found),
            None => {
                let span = self.table.iter().next().and_then(|(_, item)| item.span());
                let what = format!("[{}] needs `{key}`, for instance {key} = {example}", self.name);
                Err(self.text.wrong(span.or_else(|| self.own_span()), what))
            }
        }
    }

    fn own_span(&self) -> Option<Range<usize>> {
        let at = self.text.text.find(&format!("[{}]", self.name))?;
        Some(at..at + self.name.len() + 2)
    }

    /// A whole number that is not negative.
    pub fn count(&mut self, key: &'static str) -> Result<Option<Placed<u64>>, Failure> {
        let Some(item) = self.take(key) else { return Ok(None) };
        let value = item.as_integer().and_then(|value| u64::try_from(value).ok());
        let value = value.ok_or_else(|| self.expected(key, item, "a whole number, 0 or more"))?;
        Ok(Some(Placed { value, span: item.span() }))
    }

    /// True or false.
    pub fn truth(&mut self, key: &'static str) -> Result<Option<bool>, Failure> {
        let Some(item) = self.take(key) else { return Ok(None) };
        item.as_bool().map(Some).ok_or_else(|| self.expected(key, item, "true or false"))
    }

    /// A list of texts, or one text.
    pub fn texts(&mut self, key: &'static str) -> Result<Option<Placed<Vec<String>>>, Failure> {
        let Some(item) = self.take(key) else { return Ok(None) };
        self.list(key, item).map(Some)
    }

    fn list(&self, key: &str, item: &Item) -> Result<Placed<Vec<String>>, Failure> {
        let wrong = || self.expected(key, item, "a list of texts, [\"…\"]");
        if let Some(one) = item.as_str() {
            return Ok(Placed { value: vec![one.to_owned()], span: item.span() });
        }
        let array = item.as_array().ok_or_else(wrong)?;
        let value: Option<Vec<String>> =
            array.iter().map(|value| value.as_str().map(str::to_owned)).collect();
        Ok(Placed { value: value.ok_or_else(wrong)?, span: item.span() })
    }

    /// All keys of a section whose values are lists of texts, or texts.
    pub fn lists(&self) -> Result<Vec<(String, PlacedList)>, Failure> {
        self.table.iter().map(|(key, item)| Ok((key.to_owned(), self.list(key, item)?))).collect()
    }

    /// A text, or a number or truth value as a text would write it.
    pub fn scalar(&mut self, key: &'static str) -> Result<Option<Placed<String>>, Failure> {
        let Some(item) = self.take(key) else { return Ok(None) };
        let value = scalar(item.as_value()).ok_or_else(|| self.expected(key, item, "a text or a number"))?;
        Ok(Some(Placed { value, span: item.span() }))
    }

    /// A list of texts and numbers, or one of them.
    pub fn scalars(&mut self, key: &'static str) -> Result<Option<Placed<Vec<String>>>, Failure> {
        let Some(item) = self.take(key) else { return Ok(None) };
        let wrong = || self.expected(key, item, "a list of texts or numbers, [\"…\"]");
        let value = match item.as_array() {
            Some(array) => array.iter().map(|value| scalar(Some(value))).collect::<Option<Vec<_>>>(),
            None => scalar(item.as_value()).map(|one| vec![one]),
        };
        Ok(Some(Placed { value: value.ok_or_else(wrong)?, span: item.span() }))
    }

    /// All keys of a section whose values are texts.
    pub fn pairs(self) -> Result<Vec<(String, String)>, Failure> {
        let pair = |(key, item): (&str, &Item)| match item.as_str() {
            Some(value) => Ok((key.to_owned(), value.to_owned())),
            None => Err(self.expected(key, item, "a text in quotes")),
        };
        self.table.iter().map(pair).collect()
    }

    /// One of some words.
    pub fn word<T: Copy>(&mut self, key: &'static str, words: &[(&str, T)]) -> Result<Option<T>, Failure> {
        let Some(found) = self.text(key)? else { return Ok(None) };
        match words.iter().find(|(word, _)| *word == found.value) {
            Some((_, value)) => Ok(Some(*value)),
            None => {
                let all: Vec<&str> = words.iter().map(|(word, _)| *word).collect();
                let what = format!(
                    "`{key}` in [{}] cannot be `{}`; it is one of {}",
                    self.name,
                    found.value,
                    all.join(", ")
                );
                Err(suggest(self.text.wrong(found.span, what), &found.value, &all))
            }
        }
    }

    /// A section inside this one.
    pub fn inner(&mut self, key: &'static str) -> Result<Vec<(String, Section<'a>)>, Failure> {
        let Some(item) = self.take(key) else { return Ok(Vec::new()) };
        let table = item.as_table_like().ok_or_else(|| self.expected(key, item, "a section"))?;
        let mut found = Vec::new();
        for (name, item) in table.iter() {
            let path = format!("{}.{key}.{name}", self.name).trim_start_matches('.').to_owned();
            let Some(inner) = item.as_table_like() else {
                let what = format!("[{path}] must be a section, not {}", item.type_name());
                return Err(self.text.wrong(item.span(), what));
            };
            found.push((name.to_owned(), self.text.section(&path, inner)));
        }
        Ok(found)
    }

    /// The section of that name itself.
    pub fn only(&mut self, key: &'static str) -> Result<Option<Section<'a>>, Failure> {
        let Some(item) = self.take(key) else { return Ok(None) };
        let table = item.as_table_like().ok_or_else(|| self.expected(key, item, "a section"))?;
        let path = format!("{}.{key}", self.name);
        Ok(Some(self.text.section(path.trim_start_matches('.'), table)))
    }

    /// A file beside the configuration.
    pub fn beside(&self, file: &str) -> PathBuf {
        self.text.file.parent().map(|folder| folder.join(file)).unwrap_or_else(|| PathBuf::from(file))
    }

    /// File, line and column of a value.
    pub fn position<T>(&self, found: &Placed<T>) -> String {
        self.text.position(found.span.clone())
    }

    /// Complains of a value.
    pub fn wrong<T>(&self, found: &Placed<T>, what: impl std::fmt::Display) -> Failure {
        self.text.wrong(found.span.clone(), what)
    }

    /// Complains of keys that nobody asked for.
    pub fn finish(self) -> Result<(), Failure> {
        for (key, item) in self.table.iter() {
            if !self.known.contains(&key) {
                let span = self.key_span(key).or_else(|| item.span());
                let place =
                    if self.name.is_empty() { "the file".to_owned() } else { format!("[{}]", self.name) };
                let mut known = self.known.clone();
                let mut met = std::collections::HashSet::new();
                known.retain(|key| met.insert(*key));
                let what = format!("{place} has no `{key}`; it may hold {}", known.join(", "));
                return Err(suggest(self.text.wrong(span, what), key, &self.known));
            }
        }
        Ok(())
    }

    fn key_span(&self, key: &str) -> Option<Range<usize>> {
        self.table.get_key_value(key).and_then(|(key, _)| key.span())
    }
}

fn scalar(value: Option<&toml_edit::Value>) -> Option<String> {
    use toml_edit::Value;
    match value? {
        Value::String(text) => Some(text.value().clone()),
        // As it is written: 0.10 is no other number than what its digits say.
        Value::Integer(_) | Value::Float(_) | Value::Boolean(_) | Value::Datetime(_) => {
            Some(value?.to_string().trim().to_owned())
        }
        Value::Array(_) | Value::InlineTable(_) => None,
    }
}

/// The nearest right word, where one is near.
pub fn nearest<'w>(wrong: &str, words: &[&'w str]) -> Option<&'w str> {
    let likeness = |word: &str| strsim::jaro_winkler(&wrong.to_lowercase(), &word.to_lowercase());
    let best = words.iter().max_by(|a, b| likeness(a).total_cmp(&likeness(b)))?;
    (likeness(best) > 0.75).then_some(best)
}

/// A complaint with the nearest right word, where one is near.
pub fn suggest(failure: Failure, wrong: &str, words: &[&str]) -> Failure {
    match nearest(wrong, words) {
        Some(word) => failure.advise(format!("did you mean `{word}`?")),
        None => failure,
    }
}
