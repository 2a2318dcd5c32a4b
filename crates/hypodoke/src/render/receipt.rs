//! Receipts on the terminal.

use hypodoke_core::event::Outcome;
use hypodoke_core::reconcile::Change;

use super::count;
use super::grid::{Grid, plain};
use super::{Screen, Tone};
use crate::engine::receipt::{Receipt, ReceiptLine};
use crate::failure::clean;

/// A receipt as text.
pub fn text(receipt: &Receipt, screen: Screen) -> String {
    let mut out = String::new();
    if !receipt.files.is_empty() {
        out.push_str(&lines(&receipt.files, screen));
        out.push('\n');
    }
    for line in &receipt.files {
        for (tone, remark) in remarks(line) {
            out.push_str(&format!("{}: {}\n", clean(&line.path), screen.paint(tone, &remark)));
        }
    }
    for path in &receipt.unmatched {
        let what = screen.paint(Tone::Warning, "unmatched: no feed's `files` pattern fits it");
        out.push_str(&format!("{}: {what}\n", clean(path)));
    }
    out.push_str(&summary(receipt, screen));
    out
}

fn lines(files: &[ReceiptLine], screen: Screen) -> String {
    let headings = ["file", "table", "outcome", ">read", ">loaded", ">rejected", ">time", "kind"];
    let mut grid = Grid::new(screen, &headings);
    for line in files {
        let loaded = line.outcome == Outcome::Loaded;
        let figure = |value: u64| plain(if loaded { count::number(value) } else { "-".to_owned() });
        let rejected = if line.rows_rejected > 0 {
            (count::number(line.rows_rejected), Tone::Warning)
        } else {
            figure(0)
        };
        grid.push(vec![
            plain(clean(&line.path)),
            plain(line.table.clone().unwrap_or_default()),
            (line.outcome.word().to_owned(), tone_of(line.outcome)),
            figure(line.rows_read),
            figure(line.rows_loaded),
            rejected,
            plain(count::seconds(line.seconds)),
            (line.kind.clone().unwrap_or_default(), Tone::Faint),
        ]);
        for part in &line.parts {
            grid.push(vec![
                (format!("  {}", clean(&part.path)), Tone::Faint),
                plain(part.table.clone()),
                plain(""),
                plain(count::number(part.rows_read)),
                plain(count::number(part.rows_loaded)),
                plain(count::number(part.rows_read - part.rows_loaded.min(part.rows_read))),
            ]);
        }
    }
    grid.text()
}

/// The tone of an outcome.
pub fn tone_of(outcome: Outcome) -> Tone {
    match outcome {
        Outcome::Loaded => Tone::Good,
        Outcome::Known | Outcome::Same => Tone::Faint,
        Outcome::Unmatched => Tone::Warning,
        Outcome::Failed => Tone::Bad,
    }
}

fn remarks(line: &ReceiptLine) -> Vec<(Tone, String)> {
    let mut remarks = Vec::new();
    if let Some(message) = &line.message {
        // The path stands before the remark already.
        let message = message.strip_prefix(&format!("{}: ", line.path)).unwrap_or(message);
        let tone = if line.outcome == Outcome::Failed { Tone::Bad } else { Tone::Faint };
        remarks.push((tone, clean(message)));
    }
    remarks.extend(line.notes.iter().map(|note| (Tone::Faint, clean(note))));
    if let Some(advice) = &line.advice {
        remarks.push((Tone::Plain, format!("→ {advice}")));
    }
    remarks.extend(counted(line).map(|words| (Tone::Plain, words)));
    if line.replaced {
        remarks.push((Tone::Warning, "changed since it was loaded; its rows were replaced".to_owned()));
    }
    for change in &line.changes {
        remarks.push((Tone::Warning, change_words(change)));
    }
    remarks
}

/// What became of rows that were not simply added.
fn counted(line: &ReceiptLine) -> Option<String> {
    let counts = &line.counts;
    let part = |count: u64, word: &str| (count > 0).then(|| format!("{} {word}", count::number(count)));
    let others = [
        part(counts.updated, "updated"),
        part(counts.unchanged, "unchanged"),
        part(counts.deleted, "deleted"),
        part(line.rows_left_out, "left out"),
    ];
    if others.iter().all(Option::is_none) || line.outcome != Outcome::Loaded {
        return None;
    }
    let inserted = format!("{} inserted", count::number(counts.inserted));
    let all: Vec<String> = std::iter::once(inserted).chain(others.into_iter().flatten()).collect();
    Some(format!("rows: {}", all.join(", ")))
}

/// A change of the table in words.
pub fn change_words(change: &Change) -> String {
    match change {
        Change::Added { column, to } => format!("new column `{column}` ({to}) was added to the table"),
        Change::Widened { column, from, to } => format!("column `{column}` was widened from {from} to {to}"),
        Change::Missing { column } => format!("column `{column}` is missing; its rows hold null"),
    }
}

fn summary(receipt: &Receipt, screen: Screen) -> String {
    let totals = &receipt.totals;
    let mut parts = Vec::new();
    match receipt.batch {
        Some(batch) => {
            let files = count::files(totals.files_loaded);
            let rows = count::rows(totals.rows_loaded);
            parts.push(screen.paint(Tone::Heading, &format!("batch {batch}: {files} loaded, {rows}")));
        }
        None => parts.push(screen.paint(Tone::Heading, "nothing new: 0 files loaded")),
    }
    if totals.rows_rejected > 0 {
        parts.push(screen.paint(Tone::Warning, &format!("{} rejected", count::rows(totals.rows_rejected))));
    }
    if totals.files_failed > 0 {
        parts.push(screen.paint(Tone::Bad, &format!("{} failed", count::files(totals.files_failed))));
    }
    let same = receipt.files.iter().filter(|line| line.outcome == Outcome::Same).count() as u64;
    if same > 0 {
        parts.push(format!("{} with content loaded before", count::files(same)));
    }
    if receipt.known > 0 {
        parts.push(format!("{} known already", count::files(receipt.known)));
    }
    if !receipt.unmatched.is_empty() {
        parts.push(format!("{} unmatched", count::files(receipt.unmatched.len() as u64)));
    }
    let time = count::seconds(receipt.seconds);
    format!("{} · {time} · {}\n", parts.join(", "), receipt.database)
}
