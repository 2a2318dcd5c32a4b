//! A configuration written from a survey.

use std::fmt::Write;
use std::path::Path;

use hypodoke_core::count;
use hypodoke_core::evidence::ColumnReport;
use hypodoke_core::names::{Namer, match_key};
use hypodoke_core::types::Type;
use hypodoke_engine::inspect::{Group, Survey};
use hypodoke_formats::FoundValue;

use super::feed_plan::{FeedPlan, LoadTimes, OnChange};

/// What the draft is made of besides the survey.
pub struct DraftInputs<'a> {
    /// Where the files are, as the configuration will name it.
    pub place: &'a str,
    /// That is a place of a configuration that is there already.
    pub is_of_place: bool,
    /// The database.
    pub database: &'a str,
    /// The feeds, and what is wanted of each.
    pub feeds: &'a [(FeedDraft<'a>, FeedPlan)],
    /// Text to be read by people, which is in no feed.
    pub prose: &'a [FeedDraft<'a>],
}

/// Decimals of more digits behind the mark are left to the load: they are measured, and no sums of money.
const MOST_PINNED_SCALE: u16 = 6;

/// Writes the configuration.
pub fn draft(survey: &Survey, inputs: &DraftInputs<'_>) -> String {
    let mut out =
        String::from("# Drafted by hypodoke from what the files hold. Every line may be changed; what is\n");
    out.push_str("# left out is found out anew from each file, and widened without loss.\n\n[staging]\n");
    let _ = writeln!(out, "url = {}\n", text(inputs.database));
    let _ = writeln!(out, "[place.inbox]\npath = {}", text(inputs.place));
    if inputs.is_of_place {
        out.push_str(
            "# What else your configuration says of this place (keys, certificates) is to be added here.\n",
        );
    } else if inputs.place.contains("://") {
        out.push_str("# How to be let in is to be added here, if anything but the environment says it.\n");
    }
    for (draft, plan) in inputs.feeds.iter().filter(|(_, plan)| plan.is_wanted) {
        feed(&mut out, draft, plan, survey);
    }
    let of_file = |at: &usize| survey.files.get(*at).map(|file| file.path.as_str());
    let prose = inputs.prose.iter().flat_map(|draft| draft.main().files.iter().filter_map(of_file));
    comment(&mut out, "Text to be read by people, and in no feed:", prose);
    let failed = survey.files.iter().filter(|file| file.found.is_err()).map(|file| file.path.as_str());
    comment(&mut out, "Not read, and in no feed:", failed);
    out
}

/// The feeds that a survey gives, and the layouts that are no tables but prose.
pub fn feeds<'a>(survey: &'a Survey, keys: &'a [Vec<String>]) -> (Vec<FeedDraft<'a>>, Vec<FeedDraft<'a>>) {
    let all = together(survey, keys).into_iter();
    let with_rows = all.filter(|draft| draft.groups.iter().any(|group| group.rows > 0));
    let (prose, feeds) = with_rows.partition(|draft| is_prose(draft, survey));
    (feeds, prose)
}

fn comment<'a>(out: &mut String, title: &str, paths: impl Iterator<Item = &'a str>) {
    for (at, path) in paths.enumerate() {
        if at == 0 {
            let _ = writeln!(out, "\n# {title}");
        }
        let _ = writeln!(out, "#   {}", path.escape_debug());
    }
}

/// Whether a layout is no table but text, as a file `README.txt` is: sentences, in which a comma parts
/// columns at the most.
fn is_prose(draft: &FeedDraft<'_>, survey: &Survey) -> bool {
    const MOST_COLUMNS: usize = 4;
    let main = draft.main();
    let name_of = |at: &usize| {
        let path = survey.files.get(*at).map(|file| file.path.to_lowercase()).unwrap_or_default();
        path.rsplit('/').next().unwrap_or_default().to_owned()
    };
    let is_named_so = |name: &String| name.starts_with("readme") || name.ends_with(".md");
    let may_be = |name: &String| is_named_so(name) || name.ends_with(".txt") || !name.contains('.');
    let names: Vec<String> = main.files.iter().map(name_of).collect();
    let are_texts = main.columns.iter().all(|column| matches!(column.ty, Type::Text | Type::Unknown));
    let has_sentences = main.columns.iter().any(|column| {
        let words = |text: &str| text.split_whitespace().count();
        words(&column.source) > 3 || column.max.as_deref().is_some_and(|text| words(text) > 4)
    });
    let is_small = main.columns.len() <= MOST_COLUMNS && are_texts && main.path.is_empty();
    is_small && names.iter().all(may_be) && (has_sentences || names.iter().all(is_named_so))
}

/// A feed to be written: the layouts that come out of its files, the main one first.
pub struct FeedDraft<'a> {
    /// What it is called.
    pub name: String,
    /// The columns that tell its rows apart; none where there are no such.
    pub key: &'a [String],
    /// Its files have no header.
    pub is_nameless: bool,
    groups: Vec<&'a Group>,
}

impl<'a> FeedDraft<'a> {
    fn of(group: &'a Group, key: &'a [String], survey: &Survey) -> FeedDraft<'a> {
        let first = group.files.first().and_then(|at| survey.files.get(*at));
        let name = match (group.path.is_empty(), first) {
            // Sheets alone: the feed is named after the file.
            (false, Some(file)) => hypodoke_engine::discover::table_name(Path::new(&file.path)),
            _ => group.name.clone(),
        };
        let found = first.and_then(|file| file.found.as_ref().ok());
        let is_nameless = found.is_some_and(|found| found.facts.is_nameless);
        FeedDraft { name, key, is_nameless, groups: vec![group] }
    }

    /// Whether its main table has a column, by its name in the file or the table.
    pub fn has_column(&self, name: &str) -> bool {
        let key = match_key(name);
        let is_it =
            |column: &ColumnReport| match_key(&column.name) == key || match_key(&column.source) == key;
        self.main().columns.iter().any(is_it)
    }

    /// The layout of its main table.
    pub fn main(&self) -> &'a Group {
        self.groups[0]
    }
}

/// Layouts put together that come out of the same files: records and their lists, sheets.
fn together<'a>(survey: &'a Survey, keys: &'a [Vec<String>]) -> Vec<FeedDraft<'a>> {
    let mut feeds: Vec<FeedDraft<'a>> = Vec::new();
    let (mains, parts): (Vec<_>, Vec<_>) =
        survey.groups.iter().zip(keys).partition(|(group, _)| group.path.is_empty());
    feeds.extend(mains.into_iter().map(|(group, key)| FeedDraft::of(group, key, survey)));
    for (group, _) in parts {
        let shares =
            |feed: &&mut FeedDraft<'_>| feed.groups[0].files.iter().any(|file| group.files.contains(file));
        match feeds.iter_mut().find(shares) {
            Some(feed) => feed.groups.push(group),
            None => feeds.push(FeedDraft::of(group, &[], survey)),
        }
    }
    feeds
}

fn feed(out: &mut String, draft: &FeedDraft<'_>, plan: &FeedPlan, survey: &Survey) {
    let main = draft.main();
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
    let name = name(&draft.name);
    let _ = writeln!(out, "[feed.{name}]\nplace = \"inbox\"\nfiles = {}", text(&main.pattern));
    let _ = writeln!(out, "table = {}", text(plan.table.as_ref().unwrap_or(&draft.name)));
    let _ = writeln!(out, "mode  = \"{}\"", plan.mode.word());
    key_line(out, draft, plan);
    if !plan.header.is_empty() {
        let _ = writeln!(out, "header = {}", list(&plan.header));
    }
    whereabouts(out, main, survey);
    let _ = writeln!(out, "\n[feed.{name}.columns]");
    for group in &draft.groups {
        if draft.groups.len() > 1 && !group.path.is_empty() {
            let _ = writeln!(out, "# {}", group.path.escape_debug());
        }
        for (at, column) in group.columns.iter().enumerate() {
            // Columns that were given names are known by them.
            let given = plan.header.get(at).filter(|_| group.path.is_empty());
            let renamed = given.map(|given| ColumnReport {
                name: Namer::default().name(given),
                source: given.clone(),
                ..column.clone()
            });
            column_line(out, &group.path, renamed.as_ref().unwrap_or(column), plan);
        }
    }
    wishes(out, &name, plan);
}

/// What tells rows apart: what the plan says, or what the files show, with that it does.
fn key_line(out: &mut String, draft: &FeedDraft<'_>, plan: &FeedPlan) {
    let is_found = plan.key.is_empty() || plan.key == draft.key;
    let key = if plan.key.is_empty() && plan.header.is_empty() { draft.key } else { &plan.key };
    if key.is_empty() {
        return;
    }
    let what = match (is_found, key.len()) {
        (true, 1) => "  # unique in all of these files, and never null",
        (true, _) => "  # together unique in all of these files, and never null",
        (false, _) => "",
    };
    let _ = writeln!(out, "key   = {}{what}", list(key));
}

/// What a person wants besides.
fn wishes(out: &mut String, name: &str, plan: &FeedPlan) {
    if plan.on_change == OnChange::Hold {
        let _ = writeln!(
            out,
            "\n[feed.{name}.drift]\nnew_column = \"hold\"\nmissing_column = \"hold\"\nwider_type = \"hold\"\nother_kind = \"hold\""
        );
    }
    if let Some(limit) = &plan.rejects {
        let limit = if limit.parse::<u64>().is_ok() { limit.clone() } else { text(limit) };
        let _ = writeln!(out, "\n[feed.{name}.expect]\nrejected_rows = {limit}");
    }
    let time = match &plan.when {
        LoadTimes::OnArrival => return,
        LoadTimes::Daily(time) => {
            let (hour, minute) = time.split_once(':').unwrap_or((time, "0"));
            let number = |digits: &str| digits.trim_start_matches('0').parse::<u32>().unwrap_or_default();
            format!("cron = \"{} {} * * *\"", number(minute), number(hour))
        }
        LoadTimes::Every(span) => format!("every = {}", text(span)),
    };
    let _ = writeln!(out, "\n[feed.{name}.schedule]\n{time}");
    if let Some(zone) = &plan.zone {
        let _ = writeln!(out, "time_zone = {}", text(zone));
    }
}

fn list(words: &[String]) -> String {
    let words: Vec<String> = words.iter().map(|word| text(word)).collect();
    format!("[{}]", words.join(", "))
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
fn column_line(out: &mut String, path: &str, column: &ColumnReport, plan: &FeedPlan) {
    let own = if column.source.is_empty() { &column.name } else { &column.source };
    let source = &if path.is_empty() { own.clone() } else { format!("{path}.{own}") };
    let mut remark = Vec::new();
    let mut pins = pins(column, own, &mut remark);
    match plan.names.iter().find(|(name, _)| path.is_empty() && name == own) {
        Some((_, Some(name))) => {
            pins.retain(|pin| !pin.starts_with("name = "));
            pins.insert(0, format!("name = {}", text(name)));
        }
        Some((_, None)) => pins = vec!["skip = true".to_owned()],
        None => {}
    }
    match &column.ambiguity {
        // How it was read is what the pin says, and why stands above, at the feed.
        Some(open) => remark.extend(open.split("; ").next().map(str::to_owned)),
        None => remark.extend(column.format.clone()),
    }
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
