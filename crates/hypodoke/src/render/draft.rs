//! A configuration written from a survey.

use std::fmt::Write;
use std::path::Path;

use hypodoke_core::evidence::ColumnReport;
use hypodoke_core::types::Type;
use hypodoke_formats::FoundValue;

use hypodoke_core::count;
use hypodoke_engine::inspect::{Group, Survey};

/// What the draft is made of besides the survey.
pub struct DraftInputs<'a> {
    /// The folder of the files, as the configuration will name it.
    pub place: &'a Path,
    /// The database.
    pub database: &'a str,
    /// For each layout, its key.
    pub keys: &'a [Option<String>],
}

/// Writes the configuration.
pub fn draft(survey: &Survey, inputs: &DraftInputs<'_>) -> String {
    let mut out =
        String::from("# Drafted by hypodoke from what the files hold. Every line may be changed; what is\n");
    out.push_str("# left out is found out anew from each file.\n\n[staging]\n");
    let _ = writeln!(out, "url = {}\n", text(inputs.database));
    let _ = writeln!(out, "[place.inbox]\npath = {}", text(&inputs.place.to_string_lossy()));
    for draft in feeds(survey, inputs.keys) {
        if draft.groups.iter().any(|group| group.rows > 0) {
            feed(&mut out, &draft, survey);
        }
    }
    let failed: Vec<&str> =
        survey.files.iter().filter(|f| f.found.is_err()).map(|f| f.path.as_str()).collect();
    if !failed.is_empty() {
        let _ = writeln!(out, "\n# Not read, and in no feed:");
        failed.iter().for_each(|path| {
            let _ = writeln!(out, "#   {}", path.escape_debug());
        });
    }
    out
}

/// A feed to be written: the layouts that come out of its files, the main one first.
struct FeedDraft<'a> {
    groups: Vec<&'a Group>,
    key: Option<&'a str>,
}

/// Layouts put together that come out of the same files: records and their lists, sheets.
fn feeds<'a>(survey: &'a Survey, keys: &'a [Option<String>]) -> Vec<FeedDraft<'a>> {
    let mut feeds: Vec<FeedDraft<'a>> = Vec::new();
    let (mains, parts): (Vec<_>, Vec<_>) =
        survey.groups.iter().zip(keys).partition(|(group, _)| group.path.is_empty());
    feeds
        .extend(mains.into_iter().map(|(group, key)| FeedDraft { groups: vec![group], key: key.as_deref() }));
    for (group, _) in parts {
        let shares =
            |feed: &&mut FeedDraft<'_>| feed.groups[0].files.iter().any(|file| group.files.contains(file));
        match feeds.iter_mut().find(shares) {
            Some(feed) => feed.groups.push(group),
            None => feeds.push(FeedDraft { groups: vec![group], key: None }),
        }
    }
    feeds
}

fn feed(out: &mut String, draft: &FeedDraft<'_>, survey: &Survey) {
    let main = draft.groups[0];
    let feed_name = if main.path.is_empty() {
        main.name.clone()
    } else {
        // Sheets alone: the feed is named after the file.
        hypodoke_engine::discover::table_name(Path::new(&survey.files[main.files[0]].path))
    };
    let files = count::files(main.files.len() as u64);
    let _ = writeln!(out, "\n# {files}, {}", count::rows(draft.groups.iter().map(|group| group.rows).sum()));
    for group in &draft.groups {
        for conflict in &group.conflicts {
            let types: Vec<String> = conflict
                .types
                .iter()
                .map(|(ty, files)| format!("{ty} in {}", count::files(files.len() as u64)))
                .collect();
            let (column, all) = (&conflict.column, count::list(&types));
            let _ = writeln!(out, "# {column} is {all}: all of them fit {}", conflict.joined);
        }
        group.warnings.iter().take(8).for_each(|warning| {
            let _ = writeln!(out, "# {}", warning.replace('\n', " "));
        });
    }
    let name = name(&feed_name);
    let _ = writeln!(out, "[feed.{name}]\nplace = \"inbox\"\nfiles = {}", text(&main.pattern));
    let _ = writeln!(out, "table = {}\nmode  = \"append\"", text(&feed_name));
    if let Some(key) = draft.key {
        let _ = writeln!(out, "key   = [{}]  # unique in all of these files, and never null", text(key));
    }
    whereabouts(out, main, survey);
    let _ = writeln!(out, "\n[feed.{name}.columns]");
    for group in &draft.groups {
        if draft.groups.len() > 1 && !group.path.is_empty() {
            let _ = writeln!(out, "# {}", group.path.escape_debug());
        }
        group.columns.iter().for_each(|column| column_line(out, &group.path, column));
    }
}

/// Where in their files the rows stand, so that it need not be found again.
fn whereabouts(out: &mut String, group: &Group, survey: &Survey) {
    let mut found = group.files.iter().filter_map(|at| survey.files[*at].found.as_ref().ok());
    for option in found.next().into_iter().flat_map(|found| &found.facts.options) {
        let value = match &option.value {
            FoundValue::One(value) => text(value),
            FoundValue::List(values) => {
                let values: Vec<String> = values.iter().map(|value| text(value)).collect();
                format!("[{}]", values.join(", "))
            }
        };
        let _ = writeln!(out, "{} = {value}", option.name);
    }
}

fn column_line(out: &mut String, path: &str, column: &ColumnReport) {
    let own = if column.source.is_empty() { &column.name } else { &column.source };
    let source = &if path.is_empty() { own.clone() } else { format!("{path}.{own}") };
    let mut parts = Vec::new();
    if column.name != *own {
        parts.push(format!("name = {}", text(&column.name)));
    }
    let mut remark = Vec::new();
    if column.ty == Type::Unknown {
        remark.push("empty in all of these files".to_owned());
    } else {
        parts.push(format!("type = \"{}\"", column.ty));
    }
    remark.extend(column.format.clone());
    remark.extend(column.ambiguity.clone());
    remark.extend(column.against.iter().take(1).map(|against| {
        format!(
            "not {}: line {} holds `{}`",
            against.narrower,
            against.spot.line,
            against.value.escape_debug()
        )
    }));
    if parts.is_empty() {
        let _ = writeln!(out, "# {}: {}", source.escape_debug(), remark.join("; "));
        return;
    }
    let remark = if remark.is_empty() { String::new() } else { format!("  # {}", remark.join("; ")) };
    let _ = writeln!(out, "{} = {{ {} }}{remark}", name(source), parts.join(", "));
}

/// A key as TOML has it: bare where it may be.
fn name(key: &str) -> String {
    let bare = !key.is_empty() && key.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '-'));
    if bare { key.to_owned() } else { text(key) }
}

/// A text as TOML has it.
fn text(value: &str) -> String {
    toml_edit::Value::from(value).to_string().trim().to_owned()
}
