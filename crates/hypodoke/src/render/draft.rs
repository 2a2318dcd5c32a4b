//! A configuration written from a survey.

use std::fmt::Write;
use std::path::Path;

use hypodoke_core::count;
use hypodoke_core::evidence::ColumnReport;
use hypodoke_core::names::Namer;
use hypodoke_core::types::Type;
use hypodoke_engine::inspect::{Group, Survey};
use hypodoke_formats::FoundValue;

/// What the draft is made of besides the survey.
pub struct DraftInputs<'a> {
    /// The folder of the files, as the configuration will name it.
    pub place: &'a Path,
    /// The database.
    pub database: &'a str,
    /// For each layout, the columns of its key; none where it has none.
    pub keys: &'a [Vec<String>],
}

/// A drafted configuration.
pub struct Draft {
    /// Its text.
    pub text: String,
    /// How many feeds it has.
    pub feeds: usize,
}

/// Decimals of more digits behind the mark are left to the load: they are measured, and no sums of money.
const MOST_PINNED_SCALE: u16 = 6;

/// Writes the configuration.
pub fn draft(survey: &Survey, inputs: &DraftInputs<'_>) -> Draft {
    let mut out =
        String::from("# Drafted by hypodoke from what the files hold. Every line may be changed; what is\n");
    out.push_str("# left out is found out anew from each file, and widened without loss.\n\n[staging]\n");
    let _ = writeln!(out, "url = {}\n", text(inputs.database));
    let _ = writeln!(out, "[place.inbox]\npath = {}", text(&inputs.place.to_string_lossy()));
    let (prose, feeds): (Vec<_>, Vec<_>) = feeds(survey, inputs.keys)
        .into_iter()
        .filter(|draft| draft.groups.iter().any(|group| group.rows > 0))
        .partition(|draft| is_prose(draft, survey));
    feeds.iter().for_each(|draft| feed(&mut out, draft, survey));
    let of_file = |at: &usize| survey.files.get(*at).map(|file| file.path.as_str());
    let prose = prose.iter().flat_map(|draft| draft.groups[0].files.iter().filter_map(of_file));
    comment(&mut out, "Text to be read by people, and in no feed:", prose);
    let failed = survey.files.iter().filter(|file| file.found.is_err()).map(|file| file.path.as_str());
    comment(&mut out, "Not read, and in no feed:", failed);
    Draft { text: out, feeds: feeds.len() }
}

fn comment<'a>(out: &mut String, title: &str, paths: impl Iterator<Item = &'a str>) {
    for (at, path) in paths.enumerate() {
        if at == 0 {
            let _ = writeln!(out, "\n# {title}");
        }
        let _ = writeln!(out, "#   {}", path.escape_debug());
    }
}

/// Whether a layout is no table but text, as a file `README.txt` is: one column of sentences.
fn is_prose(draft: &FeedDraft<'_>, survey: &Survey) -> bool {
    let main = draft.groups[0];
    let [column] = &main.columns[..] else { return false };
    let is_text = |at: &usize| {
        let path = survey.files.get(*at).map(|file| file.path.to_lowercase()).unwrap_or_default();
        let name = path.rsplit('/').next().unwrap_or_default();
        name.ends_with(".txt") || name.ends_with(".md") || name.starts_with("readme") || !name.contains('.')
    };
    let sentences = column.max_length > 30 && column.max.as_deref().is_some_and(|text| text.contains(' '));
    let is_named_so = column.source.split_whitespace().count() > 3;
    column.ty == Type::Text && (sentences || is_named_so) && main.files.iter().all(is_text)
}

/// A feed to be written: the layouts that come out of its files, the main one first.
struct FeedDraft<'a> {
    groups: Vec<&'a Group>,
    key: &'a [String],
}

/// Layouts put together that come out of the same files: records and their lists, sheets.
fn feeds<'a>(survey: &'a Survey, keys: &'a [Vec<String>]) -> Vec<FeedDraft<'a>> {
    let mut feeds: Vec<FeedDraft<'a>> = Vec::new();
    let (mains, parts): (Vec<_>, Vec<_>) =
        survey.groups.iter().zip(keys).partition(|(group, _)| group.path.is_empty());
    feeds.extend(mains.into_iter().map(|(group, key)| FeedDraft { groups: vec![group], key }));
    for (group, _) in parts {
        let shares =
            |feed: &&mut FeedDraft<'_>| feed.groups[0].files.iter().any(|file| group.files.contains(file));
        match feeds.iter_mut().find(shares) {
            Some(feed) => feed.groups.push(group),
            None => feeds.push(FeedDraft { groups: vec![group], key: &[] }),
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
    if !draft.key.is_empty() {
        let names: Vec<String> = draft.key.iter().map(|name| text(name)).collect();
        let what = if names.len() == 1 { "unique" } else { "together unique" };
        let _ =
            writeln!(out, "key   = [{}]  # {what} in all of these files, and never null", names.join(", "));
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

/// What of a column has to be pinned, and the rest as a comment that pins it once it is none.
fn column_line(out: &mut String, path: &str, column: &ColumnReport) {
    let own = if column.source.is_empty() { &column.name } else { &column.source };
    let source = &if path.is_empty() { own.clone() } else { format!("{path}.{own}") };
    let mut remark = Vec::new();
    let pins = pins(column, own, &mut remark);
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
    if column.ty == Type::Unknown && pins.is_empty() {
        remark.insert(0, "empty in all of these files".to_owned());
        let _ = writeln!(out, "# {}: {}", source.escape_debug(), remark.join("; "));
        return;
    }
    let remark = if remark.is_empty() { String::new() } else { format!("  # {}", remark.join("; ")) };
    if pins.is_empty() {
        let key = name(source).replace('\n', " ");
        let renamed = (column.name != *own).then(|| format!("name = {}, ", text(&column.name)));
        let renamed = renamed.unwrap_or_default();
        let _ = writeln!(out, "# {key} = {{ {renamed}type = \"{}\" }}{remark}", column.ty);
    } else {
        let _ = writeln!(out, "{} = {{ {} }}{remark}", name(source), pins.join(", "));
    }
}

/// What would be lost, or found out otherwise from other files: names, leading zeros, an order of dates that
/// is open, words for null; and room for sums of money to grow.
fn pins(column: &ColumnReport, own: &str, remark: &mut Vec<String>) -> Vec<String> {
    let mut pins = Vec::new();
    // What the name gives anyway need not be said.
    if column.name != own && Namer::default().name(own) != column.name {
        pins.push(format!("name = {}", text(&column.name)));
    }
    match column.ty {
        Type::Text if column.leading_zeros > 0 => {
            pins.push("type = \"text\"".to_owned());
            remark.push("leading zeros are kept".to_owned());
        }
        Type::Decimal { precision, scale } if scale <= MOST_PINNED_SCALE => {
            if let Some(roomy) = roomy(precision, scale) {
                pins.push(format!("type = \"{roomy}\""));
                remark.push(format!("with room: {} so far", column.ty));
            }
        }
        _ => {}
    }
    if let Some(format) = &column.open_format {
        pins.push(format!("format = {}", text(format)));
    }
    let words: Vec<String> = column.null_words.iter().map(|word| text(word)).collect();
    if !words.is_empty() {
        pins.push(format!("also_null = [{}]", words.join(", ")));
    }
    pins
}

/// A decimal with two more digits behind the mark, four at least, and as many before it as anybody needs.
fn roomy(precision: u16, scale: u16) -> Option<Type> {
    let scale_now = (scale + 2).max(4);
    let whole = precision.checked_sub(scale)?;
    let precision = (whole + 4).max(14).checked_add(scale_now)?;
    (precision <= 38).then_some(Type::Decimal { precision, scale: scale_now })
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
