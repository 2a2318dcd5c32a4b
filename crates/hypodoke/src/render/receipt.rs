//! Receipts on the terminal.

use hypodoke_core::drift::{Action, Change, Drift};
use hypodoke_core::outcome::Outcome;

use super::grid::{Grid, plain};
use super::{Screen, Tone};
use crate::wording::line_advice;
use hypodoke_core::count;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::receipt::{Conflict, Receipt, ReceiptLine, Respelled, Side};

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
    for conflict in &receipt.conflicts {
        out.push_str(&format!("{}\n", screen.paint(Tone::Warning, &conflict_words(conflict))));
    }
    for respelled in &receipt.respelled {
        out.push_str(&format!("{}\n", screen.paint(Tone::Warning, &respelled_words(respelled))));
    }
    for path in &receipt.waiting {
        let what = screen.paint(Tone::Faint, "still arriving; it is left for later");
        out.push_str(&format!("{}: {what}\n", clean(path)));
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
        let loaded = line.outcome.counts();
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
        Outcome::Known | Outcome::Same | Outcome::Superseded | Outcome::Discarded | Outcome::Retracted => {
            Tone::Faint
        }
        Outcome::Unmatched | Outcome::Held | Outcome::Waiting => Tone::Warning,
        Outcome::Failed => Tone::Bad,
    }
}

fn remarks(line: &ReceiptLine) -> Vec<(Tone, String)> {
    let mut remarks = Vec::new();
    if let Some(message) = &line.message {
        // The path stands before the remark already.
        let message = message.strip_prefix(&format!("{}: ", line.path)).unwrap_or(message);
        let tone = match line.outcome {
            Outcome::Failed => Tone::Bad,
            Outcome::Held => Tone::Warning,
            _ => Tone::Faint,
        };
        remarks.extend(message.lines().map(|line| (tone, clean(line))));
    }
    remarks.extend(line.notes.iter().map(|note| (Tone::Faint, clean(note))));
    remarks.extend(counted(line).map(|words| (Tone::Plain, words)));
    match (line.replaced, line.again) {
        (true, true) => remarks.push((Tone::Faint, "loaded again in the place of its rows".to_owned())),
        (true, false) => {
            remarks.push((Tone::Warning, "changed since it was loaded; its rows were replaced".to_owned()));
        }
        (false, _) => {}
    }
    let (respelled, others): (Vec<&Drift>, Vec<&Drift>) = line
        .changes
        .iter()
        .filter(|drift| drift.action != Action::Held)
        .partition(|drift| matches!(drift.change, Change::Respelled { .. }));
    match &respelled[..] {
        [] => {}
        [one] => remarks.push((Tone::Faint, clean(&one.words()))),
        [first, ..] => {
            let names = count::of(respelled.len() as u64, "name", "names");
            remarks.push((Tone::Faint, clean(&format!("{names} written another way; {}", first.words()))));
        }
    }
    remarks.extend(others.into_iter().map(|drift| (tone_of_drift(drift), clean(&drift.words()))));
    remarks.extend(line_advice(line).map(|advice| (Tone::Plain, format!("→ {advice}"))));
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
    if others.iter().all(Option::is_none) || !line.outcome.counts() {
        return None;
    }
    let inserted = format!("{} inserted", count::number(counts.inserted));
    let all: Vec<String> = std::iter::once(inserted).chain(others.into_iter().flatten()).collect();
    Some(format!("rows: {}", all.join(", ")))
}

/// What only is noted is not for alarm.
fn tone_of_drift(drift: &Drift) -> Tone {
    let is_told_only = drift.action == Action::Noted && !matches!(drift.change, Change::Misread { .. });
    if is_told_only { Tone::Faint } else { Tone::Warning }
}

/// What was read again because a column became text, in words.
fn respelled_words(respelled: &Respelled) -> String {
    let Respelled { table, files, gone } = respelled;
    let mut words = format!(
        "{table}: a column became text, so {} loaded before {} read again: values are spelled as in their files",
        count::files(*files),
        if *files == 1 { "was" } else { "were" }
    );
    if let Some(first) = gone.first() {
        words.push_str(&format!(
            "; {} not there as {} any more (`{}`), and values of theirs are spelled in the shortest way",
            if gone.len() == 1 {
                "1 is".to_owned()
            } else {
                format!("{} are", count::number(gone.len() as u64))
            },
            if gone.len() == 1 { "it was" } else { "they were" },
            clean(first)
        ));
    }
    words
}

/// What files of one batch disagree about, in words.
fn conflict_words(conflict: &Conflict) -> String {
    let side = |side: &Side| {
        let spot = match (&side.line, &side.value) {
            (Some(line), Some(value)) => format!(": `{}` on line {line}", clean(value)),
            _ => String::new(),
        };
        format!("{} in {} ({}{spot})", side.of, count::files(side.files), clean(&side.file))
    };
    let sides: Vec<String> = conflict.sides.iter().map(side).collect();
    format!(
        "{}.{}: {}; {} holds them all",
        conflict.table,
        conflict.column,
        sides.join(", "),
        conflict.joined
    )
}

/// What a receipt comes to, in a line.
pub fn summary(receipt: &Receipt, screen: Screen) -> String {
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
    if totals.files_waiting > 0 {
        let waiting = format!("{} waiting", count::files(totals.files_waiting));
        parts.push(screen.paint(Tone::Warning, &waiting));
    }
    if totals.files_held > 0 {
        parts.push(screen.paint(Tone::Warning, &format!("{} held", count::files(totals.files_held))));
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
