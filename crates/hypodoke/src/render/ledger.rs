//! The ledger on the terminal.

use std::collections::HashSet;

use hypodoke_core::count;
use hypodoke_core::outcome::Outcome;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::maintain::RejectGroup;
use hypodoke_stores::{FileEntry, RejectEntry, SampleRows};

use super::grid::{Grid, plain};
use super::paths::shown;
use super::receipt::tone_of;
use super::{Screen, Tone, moment};
use crate::schedule::Lateness;

/// What of the ledger needs attention.
pub struct Morning {
    /// Files that are held, each by its last entry.
    pub held: u64,
    /// Files that failed, each by its last entry.
    pub failed: u64,
    /// Files held before the time that was asked for, and still.
    pub held_before: u64,
    /// Feeds whose files are due and have not come.
    pub late: Vec<Lateness>,
}

/// One line per entry, the newest last, then what is late, and a summary.
///
/// `last` are the newest entries of their files: what was held or failed before is so no more.
pub fn files(
    entries: &[FileEntry],
    last: &HashSet<i64>,
    morning: &Morning,
    late_only: bool,
    screen: Screen,
) -> String {
    let mut out = if entries.is_empty() { String::new() } else { table(entries, last, screen) };
    for late in &morning.late {
        let words = screen.paint(Tone::Bad, &late.words());
        out.push_str(&format!("feed {}: {words}\n", clean(late.feed())));
    }
    if late_only {
        let summary = match morning.late.len() as u64 {
            0 => "nothing is late".to_owned(),
            many => format!("{} late", count::of(many, "feed is", "feeds are")),
        };
        return format!("{out}{}\n", screen.paint(Tone::Heading, &summary));
    }
    format!("{out}{}\n", summary(entries, morning, screen))
}

fn summary(entries: &[FileEntry], morning: &Morning, screen: Screen) -> String {
    let rows: u64 = entries.iter().filter(|e| e.replaced_by.is_none()).map(|e| e.loaded).sum();
    let rejected: u64 = entries.iter().filter(|e| e.replaced_by.is_none()).map(|e| e.rejected).sum();
    let files = match entries.len() as u64 {
        0 => "no files".to_owned(),
        many => format!("{}, {} in the tables", count::files(many), count::rows(rows)),
    };
    let mut parts = vec![screen.paint(Tone::Heading, &files)];
    let mut part = |many: u64, tone: Tone, words: String| {
        if many > 0 {
            parts.push(screen.paint(tone, &words));
        }
    };
    part(rejected, Tone::Warning, format!("{} rejected", count::rows(rejected)));
    part(morning.failed, Tone::Bad, format!("{} failed", count::files(morning.failed)));
    part(morning.held, Tone::Warning, format!("{} held", count::files(morning.held)));
    let before = format!("{} still held from before", count::files(morning.held_before));
    part(morning.held_before, Tone::Warning, before);
    let late = morning.late.len() as u64;
    part(late, Tone::Bad, format!("{} late", count::of(late, "feed", "feeds")));
    parts.join(", ")
}

fn table(entries: &[FileEntry], last: &HashSet<i64>, screen: Screen) -> String {
    let when = moment::heading();
    let headings =
        [when.as_str(), ">batch", "file", "table", "outcome", ">read", ">loaded", ">rejected", ">size"];
    let mut grid = Grid::new(screen, &headings);
    for entry in entries.iter().rev() {
        let outcome = match entry.replaced_by {
            Some(_) => ("replaced".to_owned(), Tone::Faint),
            None if !last.contains(&entry.file) && entry.outcome == Outcome::Held => {
                ("was held".to_owned(), Tone::Faint)
            }
            None if !last.contains(&entry.file) && entry.outcome == Outcome::Failed => {
                ("had failed".to_owned(), Tone::Faint)
            }
            None => (entry.outcome.word().to_owned(), tone_of(entry.outcome)),
        };
        let rejected = if entry.rejected > 0 { Tone::Warning } else { Tone::Plain };
        grid.push(vec![
            plain(moment::minute(entry.ended)),
            plain(entry.batch.to_string()),
            plain(shown(&entry.arrival.path)),
            plain(entry.table.clone().unwrap_or_default()),
            outcome,
            plain(count::number(entry.read)),
            plain(count::number(entry.loaded)),
            (count::number(entry.rejected), rejected),
            plain(count::bytes(entry.arrival.bytes)),
        ]);
    }
    format!("{}\n", grid.text())
}

/// Rejects, one line each.
pub fn rejects(found: &[(FileEntry, Vec<RejectEntry>)], screen: Screen) -> String {
    let mut grid = Grid::new(screen, &["file", ">line", "column", "value", "reason", "record"]);
    for (file, rejects) in found {
        for reject in rejects {
            let raw = String::from_utf8_lossy(&reject.raw);
            grid.push(vec![
                plain(shown(&file.arrival.path)),
                plain(count::number(reject.line)),
                plain(clean(reject.column.as_deref().unwrap_or("-"))),
                (clean(reject.value.as_deref().unwrap_or("-")), Tone::Warning),
                plain(clean(&reject.reason)),
                (clean(&raw), Tone::Faint),
            ]);
        }
    }
    (0..5).for_each(|column| grid.keep(column));
    grid.text()
}

/// Some rows of a table.
pub fn sample(rows: &SampleRows, screen: Screen) -> String {
    let headings: Vec<&str> = rows.columns.iter().map(String::as_str).collect();
    let mut grid = Grid::new(screen, &headings);
    for row in &rows.rows {
        grid.push(
            row.iter()
                .map(|value| match value {
                    Some(text) => plain(clean(text)),
                    None => ("·".to_owned(), Tone::Faint),
                })
                .collect(),
        );
    }
    grid.text()
}

/// Rejects put together by reason.
pub fn reasons(groups: &[RejectGroup], screen: Screen) -> String {
    let mut grid = Grid::new(screen, &[">rows", ">files", "column", "reason", "for instance", "where"]);
    for group in groups {
        grid.push(vec![
            plain(count::number(group.rows)),
            plain(count::number(group.files)),
            plain(clean(group.column.as_deref().unwrap_or("-"))),
            plain(clean(&group.reason)),
            (clean(group.value.as_deref().unwrap_or("-")), Tone::Warning),
            (format!("{}, line {}", shown(&group.path), count::number(group.line)), Tone::Faint),
        ]);
    }
    grid.text()
}
