//! Feeds in the configuration.

use std::sync::Arc;
use std::time::Duration;

use hypodoke_core::names::{Convention, Namer, is_reserved_table};
use hypodoke_core::pattern::Pattern;
use hypodoke_core::template::Template;
use hypodoke_engine::job::{ChangedFile, EmptyFile, Feed, FeedSource, MissingTable, SameContent};
use hypodoke_formats::FormatOptions;
use hypodoke_formats::bytes::Encoding;
use hypodoke_formats::text::{DialectOptions, Escape, TableOptions, TextOptions};

use hypodoke_stores::{Mode, Vanished};

use super::measures::span;
use super::reader::{Placed, Section, suggest};
use super::{columns, drift, formats, schedule};
use crate::failure::Failure;
use crate::schedule::Schedule;
use crate::values::{column_names, delimiter, fixed_fields, free_table, mark, record_size};

/// A feed, with where its files land.
#[derive(Clone, Debug)]
pub struct FeedSettings {
    /// Its name.
    pub name: String,
    /// The place its files land in.
    pub place: String,
    /// The names of its files.
    pub files: Pattern,
    /// Only files modified within so long are its files.
    pub modified_within: Option<Duration>,
    /// What the engine needs of it.
    pub feed: Feed,
    /// When it is loaded, and by when its files are due.
    pub schedule: Schedule,
    /// File, line and column of its key, where it has one.
    pub key_at: Option<String>,
}

impl FeedSettings {
    /// What the engine needs of it.
    pub fn source(&self) -> FeedSource {
        let mut source = FeedSource::new(&self.place, self.files.clone(), self.feed.clone());
        source.modified_within = self.modified_within;
        source
    }
}

/// The words of `same_content` and `changed_file`.
const SAME_CONTENT: [(&str, SameContent); 2] = [("skip", SameContent::Skip), ("load", SameContent::Load)];
const EMPTY_FILE: [(&str, EmptyFile); 3] =
    [("skip", EmptyFile::Skip), ("hold", EmptyFile::Hold), ("fail", EmptyFile::Fail)];
const MISSING_TABLE: [(&str, MissingTable); 3] =
    [("tell", MissingTable::Tell), ("replay", MissingTable::Replay), ("ignore", MissingTable::Ignore)];
const VANISHED: [(&str, Vanished); 4] = [
    ("keep", Vanished::Keep),
    ("close", Vanished::Close),
    ("delete", Vanished::Delete),
    ("mark", Vanished::Mark),
];
const CHILDREN: [(&str, bool); 2] = [("with-records", false), ("append", true)];
const CHANGED_FILE: [(&str, ChangedFile); 4] = [
    ("replace", ChangedFile::Replace),
    ("append", ChangedFile::Append),
    ("hold", ChangedFile::Hold),
    ("ignore", ChangedFile::Ignore),
];

/// Reads `[feed.NAME]`. `replacements` are the words that names have other words for.
pub fn read(
    name: String,
    mut section: Section<'_>,
    places: &[&str],
    replacements: Arc<[(String, String)]>,
) -> Result<FeedSettings, Failure> {
    let place = section.required("place", "\"quay\"")?;
    if !places.contains(&place.value.as_str()) {
        let what = format!("there is no place `{}`; there are {}", place.value, places.join(", "));
        return Err(suggest(section.wrong(&place, what), &place.value, places));
    }
    let files = section.required("files", "\"movements_*.csv\"")?;
    let pattern = Pattern::parse(&files.value).map_err(|why| section.wrong(&files, why))?;
    let convention = section.word("names", &Convention::WORDS)?;
    let modified_within = span(&mut section, "modified_within")?;
    let namer = Namer::new(convention.unwrap_or_default(), replacements);
    let (table, table_name) = table_name(&name, &namer, &pattern, &mut section)?;
    let (mode, key) = mode_and_key(&name, &mut section)?;
    let key_at = section.texts("key")?.map(|key| section.position(&key));
    let (vanished, vanished_at_most) = vanished(mode, &mut section)?;
    let (rules, texts) = columns::read(&mut section)?;
    let constant =
        |(column, text): (String, Placed<String>)| Ok((column, template(&section, &text, &pattern)?));
    let constants = texts.into_iter().map(constant).collect::<Result<_, Failure>>()?;
    let mut feed = Feed::new(&name);
    feed.table = table;
    feed.table_name = table_name;
    feed.rules = rules;
    feed.namer = namer;
    feed.format_options = format_options(&mut section)?;
    feed.mode = mode;
    feed.key = key;
    feed.keys = keys(&mut section)?;
    feed.appends_children = section.word("children", &CHILDREN)?.unwrap_or_default();
    feed.delivery = delivery(&mut section, &pattern)?;
    feed.order = column(&mut section, "order")?;
    feed.valid_from = column(&mut section, "valid_from")?;
    feed.vanished = vanished;
    feed.vanished_at_most = vanished_at_most;
    feed.keep_superseded = keep_superseded(&mut section)?;
    feed.also = section.truth("also")?.unwrap_or_default();
    feed.sql_before = statements(&mut section, "sql_before")?;
    feed.sql_after = statements(&mut section, "sql_after")?;
    feed.policy = drift::policy(&mut section)?;
    feed.expect = drift::expectations(&mut section)?;
    feed.keep = columns::keep(&mut section)?;
    feed.constants = constants;
    feed.empty_file = section.word("empty_file", &EMPTY_FILE)?.unwrap_or_default();
    feed.missing_table = section.word("missing_table", &MISSING_TABLE)?.unwrap_or_default();
    feed.part_names = sheet_names(&mut section)?;
    feed.same_content = section.word("same_content", &SAME_CONTENT)?.unwrap_or_default();
    feed.changed_file = section.word("changed_file", &CHANGED_FILE)?.unwrap_or_default();
    contradictions(mode, feed.keep_superseded, &mut section)?;
    let schedule = schedule::read(&mut section)?;
    section.finish()?;
    Ok(FeedSettings { name, place: place.value, files: pattern, modified_within, feed, schedule, key_at })
}

/// The name of the table, unless it is said that of the feed; and the same as a template where parts of
/// the path stand in it.
fn table_name(
    feed: &str,
    namer: &Namer,
    pattern: &Pattern,
    section: &mut Section<'_>,
) -> Result<(String, Option<Template>), Failure> {
    match section.text("table")? {
        Some(table) => {
            free_table(&table.value).map_err(|why| section.wrong(&table, format!("`table`: {why}")))?;
            let template = template(section, &table, pattern)?;
            let has_parts = template.parts().next().is_some();
            let name = if has_parts { table.value } else { template.fill(&[]) };
            Ok((name, has_parts.then_some(template)))
        }
        None => {
            let name = namer.name(feed);
            Ok((if is_reserved_table(&name) { format!("t_{name}") } else { name }, None))
        }
    }
}

/// A text in which named parts of `files` may stand.
fn template(section: &Section<'_>, text: &Placed<String>, pattern: &Pattern) -> Result<Template, Failure> {
    let template = Template::parse(&text.value).map_err(|why| section.wrong(text, why))?;
    let names: Vec<&str> = pattern.parts().iter().map(|part| part.name.as_str()).collect();
    let unknown = template.parts().find(|part| !names.contains(part)).map(str::to_owned);
    match unknown {
        Some(unknown) => Err(no_part(section, text, &unknown, &names)),
        None => Ok(template),
    }
}

fn no_part(section: &Section<'_>, at: &Placed<String>, unknown: &str, names: &[&str]) -> Failure {
    let there = if names.is_empty() { "none".to_owned() } else { names.join(", ") };
    let what = format!("`files` has no named part `{unknown}`; it has {there}");
    let failure = suggest(section.wrong(at, what), unknown, names);
    match failure.advice {
        None if at.value.contains('{') => failure.advise("a brace that is meant as one is written twice: {{"),
        _ => failure,
    }
}

fn format_options(section: &mut Section<'_>) -> Result<FormatOptions, Failure> {
    Ok(FormatOptions {
        text: text_options(section)?,
        json: formats::json_options(section)?,
        workbook: formats::workbook_options(section)?,
        ..FormatOptions::default()
    })
}

fn sheet_names(section: &mut Section<'_>) -> Result<Vec<(String, String)>, Failure> {
    section.only("sheet_names")?.map_or(Ok(Vec::new()), |inner| inner.pairs())
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

/// `[feed.NAME.keys]`: the columns that tell rows apart of sheets and lists.
fn keys(section: &mut Section<'_>) -> Result<Vec<(String, Vec<String>)>, Failure> {
    let Some(inner) = section.only("keys")? else { return Ok(Vec::new()) };
    let mut keys = Vec::new();
    for (path, key) in inner.lists()? {
        if key.value.is_empty() || key.value.iter().any(|name| name.trim().is_empty()) {
            return Err(inner.wrong(&key, format!("`{path}` needs the names of one or more columns")));
        }
        keys.push((path, key.value));
    }
    Ok(keys)
}

/// Settings that say nothing in the feed's mode, or that another one takes back.
fn contradictions(
    mode: Mode,
    keep_superseded: Option<u64>,
    section: &mut Section<'_>,
) -> Result<(), Failure> {
    let has_keys = mode.has_key();
    let of_mode: [(&'static str, bool, &str); 5] = [
        ("valid_from", mode == Mode::History, "it goes with mode `history`"),
        ("order", mode != Mode::Append, "in mode `append` the order of files does not matter"),
        ("children", has_keys, "it goes with the modes that have a key"),
        ("vanished_at_most", has_keys, "it goes with the modes that have a key"),
        ("delivery", mode == Mode::Replace, "it goes with mode `replace`"),
    ];
    for (setting, fits, why) in of_mode {
        if let (Some(found), false) = (section.text(setting)?, fits) {
            let what = format!("`{setting}` says nothing in mode `{}`: {why}", mode.word());
            return Err(section.wrong(&found, what));
        }
    }
    let vanished = section.text("vanished")?.filter(|vanished| vanished.value != "keep");
    if let (None, Some(most)) = (&vanished, section.text("vanished_at_most")?) {
        let what = "`vanished_at_most` says nothing without `vanished`";
        return Err(section
            .wrong(&most, what)
            .advise("say what becomes of keys that vanish: vanished = \"delete\""));
    }
    if let (Some(vanished), Some(0)) = (&vanished, keep_superseded) {
        let what = "`vanished` needs the rows of files, and `keep_superseded = \"no\"` keeps none";
        return Err(section.wrong(vanished, what));
    }
    Ok(())
}

/// The name of a column or a named part.
fn column(section: &mut Section<'_>, setting: &'static str) -> Result<Option<String>, Failure> {
    match section.text(setting)? {
        Some(name) if name.value.trim().is_empty() => {
            Err(section.wrong(&name, format!("`{setting}` needs the name of a column")))
        }
        name => Ok(name.map(|name| name.value)),
    }
}

/// What becomes of keys that a full delivery no longer holds, and how many may vanish at a time.
fn vanished(mode: Mode, section: &mut Section<'_>) -> Result<(Vanished, Option<f64>), Failure> {
    let at = section.text("vanished")?;
    let vanished = section.word("vanished", &VANISHED)?.unwrap_or_default();
    let fits = match vanished {
        Vanished::Keep => true,
        Vanished::Close => mode == Mode::History,
        Vanished::Delete | Vanished::Mark => mode == Mode::Upsert,
    };
    if let (Some(at), false) = (&at, fits) {
        let what = format!("`vanished = \"{}\"` does not go with mode `{}`", at.value, mode.word());
        return Err(section
            .wrong(at, what)
            .advise("in mode `history` versions are closed, in `upsert` rows are deleted or marked"));
    }
    let most =
        match section.text("vanished_at_most")? {
            Some(most) => Some(share(&most.value).ok_or_else(|| {
                section.wrong(&most, format!("`{}` is no share; write \"10%\"", most.value))
            })?),
            None => None,
        };
    Ok((vanished, most))
}

/// A share written with a percent sign.
fn share(text: &str) -> Option<f64> {
    let share = text.trim().strip_suffix('%')?.trim().parse::<f64>().ok()?;
    (0.0..=100.0).contains(&share).then_some(share / 100.0)
}

/// For how many days the rows of files are kept: `"90d"`, or `"no"`.
fn keep_superseded(section: &mut Section<'_>) -> Result<Option<u64>, Failure> {
    let Some(text) = section.text("keep_superseded")? else { return Ok(None) };
    let days = match text.value.trim() {
        "no" => Some(0),
        other => other.strip_suffix('d').and_then(|days| days.trim().parse::<u64>().ok()),
    };
    match days {
        Some(days) => Ok(Some(days)),
        None => {
            Err(section
                .wrong(&text, format!("`{}` is no number of days; write \"90d\", or \"no\"", text.value)))
        }
    }
}

/// What tells deliveries apart: a named part of the path, or a text with such parts.
fn delivery(section: &mut Section<'_>, pattern: &Pattern) -> Result<Option<Template>, Failure> {
    let Some(text) = section.text("delivery")? else { return Ok(None) };
    if text.value.contains('{') {
        return template(section, &text, pattern).map(Some);
    }
    let names: Vec<&str> = pattern.parts().iter().map(|part| part.name.as_str()).collect();
    match names.contains(&text.value.as_str()) {
        true => Ok(Some(Template::of_part(&text.value))),
        false => Err(no_part(section, &text, &text.value, &names)),
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
    let max_record = match section.count("max_record")? {
        Some(bytes) => Some(record_size(bytes.value).map_err(|why| section.wrong(&bytes, why))?),
        None => None,
    };
    let names = header(section)?;
    let header_lines = section.count("header_lines")?.map(|lines| lines.value as usize);
    let short_rows = section.word("short_rows", &[("null", true), ("reject", false)])?;
    let skip_lines = section.count("skip_lines")?.map(|lines| lines.value);
    Ok(TextOptions {
        encoding,
        dialect: DialectOptions { delimiter, quote, escape, comment },
        table: TableOptions { header_lines, skip_lines, short_rows, names },
        fields,
        max_expansion,
        max_record,
    })
}

/// The names of the columns, where the files have none.
fn header(section: &mut Section<'_>) -> Result<Option<Vec<String>>, Failure> {
    match section.texts("header")? {
        Some(found) => match column_names(&found.value) {
            Ok(()) => Ok(Some(found.value)),
            Err(why) => Err(section.wrong(&found, format!("`header`: {why}"))),
        },
        None => Ok(None),
    }
}
