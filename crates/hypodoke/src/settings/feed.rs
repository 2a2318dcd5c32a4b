//! Feeds in the configuration.

use hypodoke_core::names::{Convention, Namer};
use hypodoke_core::pattern::Pattern;
use hypodoke_engine::job::{ChangedFile, Feed, FeedSource, SameContent};
use hypodoke_formats::FormatOptions;
use hypodoke_formats::bytes::Encoding;
use hypodoke_formats::text::{DialectOptions, Escape, TableOptions, TextOptions};

use hypodoke_stores::Mode;

use super::reader::{Section, suggest};
use super::{columns, drift, formats, schedule};
use crate::failure::Failure;
use crate::schedule::Schedule;
use crate::values::{delimiter, fixed_fields, mark};

/// A feed, with where its files land.
#[derive(Clone, Debug)]
pub struct FeedSettings {
    /// Its name.
    pub name: String,
    /// The place its files land in.
    pub place: String,
    /// The names of its files.
    pub files: Pattern,
    /// What the engine needs of it.
    pub feed: Feed,
    /// When it is loaded, and by when its files are due.
    pub schedule: Schedule,
}

impl FeedSettings {
    /// What the engine needs of it.
    pub fn source(&self) -> FeedSource {
        FeedSource { place: self.place.clone(), files: self.files.clone(), feed: self.feed.clone() }
    }
}

/// The words of `same_content` and `changed_file`.
const SAME_CONTENT: [(&str, SameContent); 2] = [("skip", SameContent::Skip), ("load", SameContent::Load)];
const CHANGED_FILE: [(&str, ChangedFile); 4] = [
    ("replace", ChangedFile::Replace),
    ("append", ChangedFile::Append),
    ("hold", ChangedFile::Hold),
    ("ignore", ChangedFile::Ignore),
];

/// Reads `[feed.NAME]`.
pub fn read(name: String, mut section: Section<'_>, places: &[&str]) -> Result<FeedSettings, Failure> {
    let place = section.required("place", "\"quay\"")?;
    if !places.contains(&place.value.as_str()) {
        let what = format!("there is no place `{}`; there are {}", place.value, places.join(", "));
        return Err(suggest(section.wrong(&place, what), &place.value, places));
    }
    let files = section.required("files", "\"movements_*.csv\"")?;
    let pattern = Pattern::parse(&files.value).map_err(|why| section.wrong(&files, why))?;
    let convention =
        section.word("names", &[("snake_case", Convention::SnakeCase), ("as-is", Convention::AsIs)])?;
    let namer = Namer { convention: convention.unwrap_or_default() };
    let table = match section.text("table")? {
        Some(table) if table.value.trim().is_empty() => return Err(section.wrong(&table, "`table` is blank")),
        Some(table) => table.value,
        None => namer.name(&name),
    };
    let (mode, key) = mode_and_key(&name, &mut section)?;
    let delivery = delivery(&mut section, &pattern)?;
    let sql_before = statements(&mut section, "sql_before")?;
    let sql_after = statements(&mut section, "sql_after")?;
    let format_options = FormatOptions {
        text: text_options(&mut section)?,
        json: formats::json_options(&mut section)?,
        workbook: formats::workbook_options(&mut section)?,
    };
    let same_content = section.word("same_content", &SAME_CONTENT)?;
    let changed_file = section.word("changed_file", &CHANGED_FILE)?;
    let (rules, constants) = columns::read(&mut section)?;
    let keep = columns::keep(&mut section)?;
    let part_names = match section.only("sheet_names")? {
        Some(inner) => inner.pairs()?,
        None => Vec::new(),
    };
    let policy = drift::policy(&mut section)?;
    let expect = drift::expectations(&mut section)?;
    let schedule = schedule::read(&mut section)?;
    section.finish()?;
    let feed = Feed {
        name: Some(name.clone()),
        table,
        rules,
        namer,
        format_options,
        mode,
        key,
        delivery,
        sql_before,
        sql_after,
        policy,
        expect,
        keep,
        constants,
        part_names,
        same_content: same_content.unwrap_or_default(),
        changed_file: changed_file.unwrap_or_default(),
    };
    Ok(FeedSettings { name, place: place.value, files: pattern, feed, schedule })
}

/// What becomes of rows in the table, and what tells them apart.
fn mode_and_key(name: &str, section: &mut Section<'_>) -> Result<(Mode, Vec<String>), Failure> {
    let mode_at = section.text("mode")?;
    let mode = section.word("mode", &Mode::WORDS)?.unwrap_or_default();
    let key = section.texts("key")?;
    if let Some(blank) =
        key.as_ref().filter(|key| key.value.is_empty() || key.value.iter().any(|k| k.trim().is_empty()))
    {
        return Err(section.wrong(blank, "`key` needs the names of one or more columns"));
    }
    if let (true, None, Some(mode_at)) = (mode.has_key(), &key, &mode_at) {
        let what = format!("mode `{}` tells rows apart by `key`, and [feed.{name}] has none", mode.word());
        return Err(section
            .wrong(mode_at, what)
            .advise("name the columns that tell rows apart, key = [\"movement_id\"]"));
    }
    Ok((mode, key.map(|key| key.value).unwrap_or_default()))
}

/// The named part of a path that tells deliveries apart.
fn delivery(section: &mut Section<'_>, pattern: &Pattern) -> Result<Option<String>, Failure> {
    match section.text("delivery")? {
        Some(part) if !pattern.parts().iter().any(|known| known.name == part.value) => {
            let names: Vec<&str> = pattern.parts().iter().map(|known| known.name.as_str()).collect();
            let there = if names.is_empty() { "none".to_owned() } else { names.join(", ") };
            let what = format!("`files` has no named part `{}`; it has {there}", part.value);
            Err(suggest(section.wrong(&part, what), &part.value, &names))
        }
        part => Ok(part.map(|part| part.value)),
    }
}

/// Statements of SQL: a text, several, or `@FILE` beside the configuration.
fn statements(section: &mut Section<'_>, key: &'static str) -> Result<Vec<String>, Failure> {
    let Some(found) = section.texts(key)? else { return Ok(Vec::new()) };
    let mut all = Vec::new();
    for text in &found.value {
        match text.strip_prefix('@') {
            Some(file) => {
                let path = section.beside(file);
                let read = std::fs::read_to_string(&path);
                all.push(read.map_err(|error| {
                    section.wrong(&found, format!("`{key}`: {}: {error}", path.display()))
                })?);
            }
            None => all.push(text.clone()),
        }
    }
    Ok(all)
}

fn text_options(section: &mut Section<'_>) -> Result<TextOptions, Failure> {
    let encoding = match section.text("encoding")? {
        Some(label) => {
            Some(Encoding::named(&label.value).map_err(|error| section.wrong(&label, error.to_string()))?)
        }
        None => None,
    };
    let delimiter = match section.text("delimiter")? {
        Some(text) => Some(delimiter(&text.value).map_err(|why| section.wrong(&text, why))?),
        None => None,
    };
    let quote = match section.text("quote")? {
        Some(text) => Some(mark(&text.value).map_err(|why| section.wrong(&text, why))?),
        None => None,
    };
    let comment = match section.text("comment")? {
        Some(text) => Some(mark(&text.value).map_err(|why| section.wrong(&text, why))?),
        None => None,
    };
    let escape = section.word("escape", &[("doubled", Escape::Doubled), ("backslash", Escape::Backslash)])?;
    let fields = match section.texts("fields")? {
        Some(list) => Some(fixed_fields(&list.value).map_err(|why| section.wrong(&list, why))?),
        None => None,
    };
    let max_expansion = section.count("max_expansion")?.map(|ratio| ratio.value);
    let max_record = section.count("max_record")?.map(|bytes| bytes.value as usize);
    let header_lines = section.count("header_lines")?.map(|lines| lines.value as usize);
    let short_rows = section.word("short_rows", &[("null", true), ("reject", false)])?;
    let skip_lines = section.count("skip_lines")?.map(|lines| lines.value);
    Ok(TextOptions {
        encoding,
        dialect: DialectOptions { delimiter, quote, escape, comment },
        table: TableOptions { header_lines, skip_lines, short_rows },
        fields,
        max_expansion,
        max_record,
    })
}
