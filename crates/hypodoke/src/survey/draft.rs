//! A configuration written from a survey.

use std::fmt::Write;
use std::path::Path;

use hypodoke_core::evidence::ColumnReport;
use hypodoke_core::types::Type;

use super::Survey;
use super::group::Group;
use crate::render::count;

/// What the draft is made of besides the survey.
pub struct Ground<'a> {
    /// The folder of the files, as the configuration will name it.
    pub place: &'a Path,
    /// The database.
    pub database: &'a str,
    /// For each layout, its key.
    pub keys: &'a [Option<String>],
}

/// Writes the configuration.
pub fn draft(survey: &Survey, ground: &Ground<'_>) -> String {
    let mut out =
        String::from("# Drafted by hypodoke from what the files hold. Every line may be changed; what is\n");
    out.push_str("# left out is found out anew from each file.\n\n[staging]\n");
    let _ = writeln!(out, "url = {}\n", text(ground.database));
    let _ = writeln!(out, "[place.inbox]\npath = {}", text(&ground.place.to_string_lossy()));
    for (group, key) in survey.groups.iter().zip(ground.keys) {
        if group.rows > 0 {
            feed(&mut out, group, key.as_deref());
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

fn feed(out: &mut String, group: &Group, key: Option<&str>) {
    let files = count::files(group.files.len() as u64);
    let _ = writeln!(out, "\n# {files}, {}", count::rows(group.rows));
    for conflict in &group.conflicts {
        let types: Vec<String> = conflict
            .types
            .iter()
            .map(|(ty, files)| format!("{ty} in {}", count::files(files.len() as u64)))
            .collect();
        let _ = writeln!(
            out,
            "# {} is {}: all of them fit {}",
            conflict.column,
            count::list(&types),
            conflict.joined
        );
    }
    group.warnings.iter().take(8).for_each(|warning| {
        let _ = writeln!(out, "# {}", warning.replace('\n', " "));
    });
    let _ =
        writeln!(out, "[feed.{}]\nplace = \"inbox\"\nfiles = {}", name(&group.name), text(&group.pattern));
    let _ = writeln!(out, "table = {}\nmode  = \"append\"", text(&group.name));
    if let Some(key) = key {
        let _ = writeln!(out, "key   = [{}]  # unique in all of these files, and never null", text(key));
    }
    let _ = writeln!(out, "\n[feed.{}.columns]", name(&group.name));
    group.columns.iter().for_each(|column| column_line(out, column));
}

fn column_line(out: &mut String, column: &ColumnReport) {
    let source = if column.source.is_empty() { &column.name } else { &column.source };
    let mut parts = Vec::new();
    if column.name != *source {
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
