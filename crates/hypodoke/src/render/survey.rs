//! Surveys on the terminal.

use hypodoke_core::evidence::{ColumnEvidence, ColumnReport};
use hypodoke_core::spelling::words::NULL_SPELLINGS;

use super::grid::{Grid, Piece, plain};
use super::{Screen, Tone};
use crate::wording::{advice, reasons};
use hypodoke_core::count;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::inspect::{
    FileReport, FoundFormat, FoundTable, Group, Survey, TypeConflict, nearly_typed, open_choice,
};

/// The most warnings that are shown of one thing; the rest is counted.
const MOST_WARNINGS: usize = 12;

/// A survey as text: file by file, or by layouts.
pub fn text(survey: &Survey, single: bool, screen: Screen) -> String {
    let mut out = String::new();
    if single {
        survey.files.iter().for_each(|report| out.push_str(&file(report, screen)));
        if survey.files.len() < 2 {
            return out;
        }
    }
    let failed: Vec<&FileReport> = survey.files.iter().filter(|file| file.found.is_err()).collect();
    for group in &survey.groups {
        out.push_str(&layout(group, survey, screen));
    }
    for report in &failed {
        if let Err(error) = &report.found {
            out.push_str(&format!("{}\n", screen.paint(Tone::Bad, &reasons::of_error(error))));
        }
    }
    let files = count::files(survey.files.len() as u64);
    let layouts = count::of(survey.groups.len() as u64, "layout", "layouts");
    let rows = count::rows(survey.groups.iter().map(|group| group.rows).sum());
    let mut summary = format!("{files}, {layouts}, {rows}");
    if !failed.is_empty() {
        summary.push_str(&format!(", {} could not be read", count::files(failed.len() as u64)));
    }
    out.push_str(&format!("{}\n", screen.paint(Tone::Heading, &summary)));
    out
}

fn file(report: &FileReport, screen: Screen) -> String {
    let path = clean(&report.path);
    let found = match &report.found {
        Ok(found) => found,
        Err(error) => {
            let advice = advice(error).map(|advice| format!("  → {advice}\n")).unwrap_or_default();
            return format!("{}\n{advice}\n", screen.paint(Tone::Bad, &reasons::of_error(error)));
        }
    };
    let mut out = format!("{}  {}\n", screen.paint(Tone::Heading, &path), facts(report, found));
    for table in &found.tables {
        if found.tables.len() > 1 {
            out.push_str(&table_line(table, screen));
        }
        out.push_str(&columns(&table.columns, screen));
        out.push_str(&against(&table.columns));
    }
    let open = found.columns().filter_map(open_choice);
    let all: Vec<String> = open.chain(report.warnings.iter().cloned()).collect();
    out.push_str(&warnings(&all, screen));
    out.push('\n');
    out
}

/// What stands above one of several tables.
fn table_line(table: &FoundTable, screen: Screen) -> String {
    let name = match (table.path.is_empty(), table.is_child) {
        (true, _) => "records".to_owned(),
        (false, true) => format!("list {}", clean(&table.path)),
        (false, false) => format!("sheet {}", clean(&table.path)),
    };
    format!("{}  {}\n", screen.paint(Tone::Heading, &format!("  {name}")), count::rows(table.rows))
}

fn facts(report: &FileReport, found: &FoundFormat) -> String {
    let mut facts = vec![found.kind.clone(), count::bytes(report.bytes), count::rows(found.rows())];
    facts.extend(found.facts.remarks.iter().cloned());
    if !found.footer.is_empty() {
        facts.push(format!("{} after the table", count::of(found.footer.len() as u64, "line", "lines")));
    }
    facts.join(" · ")
}

fn columns(columns: &[ColumnReport], screen: Screen) -> String {
    let mut grid = Grid::new(
        screen,
        &["column", "type", ">nulls", ">distinct", "least", "greatest", ">longest", "written as"],
    );
    for column in columns {
        let about = if column.distinct_exact { "" } else { "~" };
        grid.push(vec![
            plain(clean(&column.name)),
            plain(column.ty.to_string()),
            nulls(column),
            plain(format!("{about}{}", count::number(column.distinct))),
            plain(short(column.min.as_deref())),
            plain(short(column.max.as_deref())),
            // Of what is declared to be a number or a moment, nobody counts characters.
            plain(if column.max_length == 0 { "-".to_owned() } else { count::number(column.max_length) }),
            (written(column), Tone::Faint),
        ]);
    }
    grid.text()
}

fn nulls(column: &ColumnReport) -> Piece {
    if column.nulls == 0 {
        return ("-".to_owned(), Tone::Faint);
    }
    let share = 100.0 * column.nulls as f64 / column.rows.max(1) as f64;
    plain(if share < 0.1 { "<0.1%".to_owned() } else { format!("{share:.1}%") })
}

fn written(column: &ColumnReport) -> String {
    let mut parts: Vec<String> = column.format.iter().cloned().collect();
    let spellings: Vec<String> = column
        .null_spellings
        .iter()
        .filter(|(word, _)| !word.is_empty())
        .map(|(word, _)| format!("`{word}`"))
        .collect();
    if !spellings.is_empty() {
        parts.push(format!("null as {}", count::list(&spellings)));
    }
    parts.join("; ")
}

fn short(text: Option<&str>) -> String {
    let text = clean(text.unwrap_or("-"));
    if text.chars().count() <= 24 { text } else { text.chars().take(23).chain(['…']).collect() }
}

/// What kept columns from narrower types, in sentences.
fn against(columns: &[ColumnReport]) -> String {
    let mut out = String::new();
    for column in columns {
        for against in &column.against {
            let all = against.fitting + against.count;
            out.push_str(&format!(
                "  {} is {}: {} in {} of {} rows; line {} holds `{}`\n",
                clean(&column.name),
                column.ty,
                against.narrower,
                count::number(against.fitting),
                count::number(all),
                count::number(against.spot.line),
                clean(&against.value),
            ));
        }
    }
    out
}

fn warnings(warnings: &[String], screen: Screen) -> String {
    let mut out = String::new();
    for warning in warnings.iter().take(MOST_WARNINGS) {
        out.push_str(&format!("  {} {warning}\n", screen.paint(Tone::Warning, "!")));
    }
    if warnings.len() > MOST_WARNINGS {
        out.push_str(&format!("  and {} more; --json lists them all\n", warnings.len() - MOST_WARNINGS));
    }
    out
}

fn layout(group: &Group, survey: &Survey, screen: Screen) -> String {
    let mut facts = vec![count::files(group.files.len() as u64), count::rows(group.rows)];
    if let Some((first, last)) = group.days {
        facts.push(if first == last { day(first) } else { format!("{} to {}", day(first), day(last)) });
    }
    let kinds: std::collections::BTreeSet<&str> = group
        .files
        .iter()
        .filter_map(|at| survey.files[*at].found.as_ref().ok())
        .map(|f| f.kind.as_str())
        .collect();
    facts.push(kinds.into_iter().collect::<Vec<_>>().join(" / "));
    let name = screen.paint(Tone::Heading, &format!("layout {}", group.name));
    let mut out = format!("{name}  {}  {}\n", clean(&group.pattern), facts.join(" · "));
    out.push_str(&columns(&group.columns, screen));
    out.push_str(&matrix(&group.conflicts, survey, screen));
    let all: Vec<String> = group.warnings.iter().cloned().chain(of_files(group, survey)).collect();
    out.push_str(&warnings(&all, screen));
    out.push('\n');
    out
}

/// What single files show, each thing once with the files that show it.
fn of_files(group: &Group, survey: &Survey) -> Vec<String> {
    let mut seen: Vec<(String, Vec<&str>)> = Vec::new();
    for at in &group.files {
        let report = &survey.files[*at];
        let columns = report.found.iter().flat_map(|found| found.columns().filter_map(nearly_typed));
        for warning in report.warnings.iter().cloned().chain(columns) {
            match seen.iter_mut().find(|(known, _)| *known == warning) {
                Some((_, paths)) => paths.push(&report.path),
                None => seen.push((warning, vec![&report.path])),
            }
        }
    }
    let line = |(warning, paths): (String, Vec<&str>)| {
        let more = if paths.len() > 1 { format!(" and {} more", paths.len() - 1) } else { String::new() };
        format!("{}{more}: {warning}", clean(paths[0]))
    };
    seen.into_iter().map(line).collect()
}

/// Columns against the types that files give them, with the files named.
fn matrix(conflicts: &[TypeConflict], survey: &Survey, screen: Screen) -> String {
    if conflicts.is_empty() {
        return String::new();
    }
    let mut grid = Grid::new(screen, &["  types that differ", "is", ">files", "reconciled", "in"]);
    for conflict in conflicts {
        for (at, (ty, files)) in conflict.types.iter().enumerate() {
            let first = clean(&survey.files[files[0]].path);
            let more = if files.len() > 1 { format!(" and {} more", files.len() - 1) } else { String::new() };
            grid.push(vec![
                plain(if at == 0 { format!("  {}", conflict.column) } else { String::new() }),
                plain(ty.to_string()),
                plain(count::number(files.len() as u64)),
                (if at == 0 { conflict.joined.to_string() } else { String::new() }, Tone::Warning),
                (format!("{first}{more}"), Tone::Faint),
            ]);
        }
    }
    grid.text()
}

fn day(days: i32) -> String {
    let mut out = Vec::new();
    hypodoke_core::spelling::temporal::write_date(days, &mut out);
    String::from_utf8_lossy(&out).into_owned()
}

/// All the evidence of one column.
pub fn why(path: &str, report: &ColumnReport, evidence: &ColumnEvidence, screen: Screen) -> String {
    let title = format!("{} in {}: {}", clean(&report.name), clean(path), report.ty);
    let mut out = format!("{}\n", screen.paint(Tone::Heading, &title));
    let mut grid = Grid::new(screen, &["values that look like", ">count", ">first line", "first value"]);
    let row = |what: String, tally: &hypodoke_core::evidence::Tally| {
        let (line, value) = tally.first.as_ref().map_or((0, ""), |first| (first.spot.line, &first.value));
        vec![
            plain(what),
            plain(count::number(tally.count)),
            plain(count::number(line)),
            (clean(value), Tone::Faint),
        ]
    };
    for (class, tally) in evidence.classes() {
        grid.push(row(class.words().to_owned(), tally));
    }
    for (at, tally) in evidence.nulls() {
        let spelling = NULL_SPELLINGS[at as usize];
        let what =
            if spelling.is_empty() { "nothing".to_owned() } else { format!("null, written `{spelling}`") };
        grid.push(row(what, tally));
    }
    out.push_str(&grid.text());
    let range = report.min.as_ref().zip(report.max.as_ref());
    if let Some((min, max)) = range {
        out.push_str(&format!("  least {}, greatest {}\n", clean(min), clean(max)));
    }
    let about = if report.distinct_exact { "" } else { "about " };
    out.push_str(&format!(
        "  {about}{} distinct values, the longest of {} characters\n",
        count::number(report.distinct),
        report.max_length
    ));
    if let Some(format) = &report.format {
        out.push_str(&format!("  written as: {format}\n"));
    }
    if let Some(open) = &report.ambiguity {
        out.push_str(&format!("  {} {open}\n", screen.paint(Tone::Warning, "open:")));
    }
    out.push_str(&against(std::slice::from_ref(report)));
    for remark in &report.remarks {
        out.push_str(&format!("  {}\n", clean(remark)));
    }
    out.push('\n');
    out
}
