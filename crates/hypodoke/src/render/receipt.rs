//! Receipts on the terminal.

use hypodoke_core::outcome::Outcome;

use super::grid::{Grid, plain};
use super::paths::{shown, some};
use super::remarks;
use super::{Screen, Tone};
use crate::wording::{quoted, reasons};
use hypodoke_core::count;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::lost_tables::TableLoss;
use hypodoke_engine::receipt::{Conflict, Receipt, ReceiptLine, RefusedCorrection, Respelled, Side};
use hypodoke_engine::stale_rows::StaleRows;

/// How much of a receipt is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Detail {
    /// Feed by feed where there are many files, and of files one by one what there is to say.
    Grouped,
    /// Every file, and every remark.
    EachFile,
}

/// So few files are shown one by one.
const FEW: usize = 12;

/// The most disagreements that are told where not all are wanted.
const MOST_CONFLICTS: usize = 6;

/// The most names of files that are of no feed or still arriving.
const MOST_NAMES: usize = 3;

/// A receipt as text.
pub fn text(receipt: &Receipt, detail: Detail, screen: Screen) -> String {
    let all = detail == Detail::EachFile;
    let mut out = String::new();
    if !receipt.files.is_empty() {
        let few = all || receipt.files.len() <= FEW;
        out.push_str(&if few { lines(&receipt.files, screen) } else { feeds(&receipt.files, screen) });
        out.push('\n');
    }
    out.push_str(&remarks::text(&receipt.files, receipt.batch, all, screen));
    let most = if all { usize::MAX } else { MOST_CONFLICTS };
    for conflict in receipt.conflicts.iter().take(most) {
        out.push_str(&screen.sentence("", Tone::Warning, &conflict_words(conflict)));
    }
    if let more @ 1.. = receipt.conflicts.len().saturating_sub(most) {
        let columns = count::of(more as u64, "more column", "more columns");
        out.push_str(&format!("files disagree about {columns}: -v shows all\n"));
    }
    for refused in &receipt.refused_corrections {
        let RefusedCorrection { path, line, .. } = refused;
        let why = reasons::of_correction(refused);
        let text = format!("{}, line {line}: the correction no longer fits: {}", clean(path), clean(&why));
        out.push_str(&screen.sentence("", Tone::Warning, &text));
    }
    for respelled in &receipt.respelled {
        out.push_str(&screen.sentence("", Tone::Warning, &respelled_words(respelled)));
    }
    for StaleRows { table, rows } in &receipt.stale {
        let rows = count::rows(*rows);
        let text = format!("{}: {rows} of files that were replaced or retracted were deleted", clean(table));
        out.push_str(&screen.sentence("", Tone::Warning, &text));
    }
    for missing in &receipt.missing {
        out.push_str(&format!("{}\n", screen.paint(Tone::Bad, &missing_words(missing))));
        out.push_str(&format!("  → {}\n", missing_advice(missing)));
    }
    let most = if all { usize::MAX } else { MOST_NAMES };
    let named = |paths: &[String]| some(paths.iter().map(String::as_str), most);
    if !receipt.waiting.is_empty() {
        let what = screen.paint(Tone::Faint, "still arriving, and left for later");
        out.push_str(&format!("{}: {what}\n", named(&receipt.waiting)));
    }
    if !receipt.unmatched.is_empty() {
        let what = screen.paint(Tone::Warning, "unmatched: no feed's `files` pattern fits");
        out.push_str(&format!("{}: {what}\n", named(&receipt.unmatched)));
    }
    out.push_str(&summary(receipt, screen));
    out
}

/// What happened to a table, in words.
pub fn missing_words(missing: &TableLoss) -> String {
    let TableLoss { table, files, rows, rows_now, .. } = missing;
    let were = if *rows == 1 { "was" } else { "were" };
    let loaded = format!("{} of {} {were} loaded into it", count::rows(*rows), count::files(*files));
    match rows_now {
        None => format!("the table `{}` is gone: {loaded}", clean(table)),
        Some(0) => format!("the table `{}` is empty: {loaded}", clean(table)),
        Some(now) => format!("the table `{}` holds {}: {loaded}", clean(table), count::rows(*now)),
    }
}

/// What to do about it.
pub fn missing_advice(missing: &TableLoss) -> String {
    let of = missing.feed.as_ref().unwrap_or(&missing.table);
    format!(
        "hypodoke replay {} brings them back; missing_table = \"replay\" does so by itself, and \"ignore\" is for tables that are emptied on purpose",
        quoted(of)
    )
}

/// Files of one table with one outcome, taken together.
#[derive(Default)]
struct Sum {
    files: u64,
    read: u64,
    loaded: u64,
    rejected: u64,
    seconds: f64,
}

/// One line for the files of a feed that ended alike.
fn feeds(files: &[ReceiptLine], screen: Screen) -> String {
    let mut sums: Vec<((String, String, Outcome), Sum)> = Vec::new();
    for line in files {
        let table = line.table.clone().unwrap_or_default();
        let key = (line.feed.clone().unwrap_or_else(|| "-".to_owned()), table, line.outcome);
        let at = sums.iter().position(|(known, _)| *known == key).unwrap_or_else(|| {
            sums.push((key, Sum::default()));
            sums.len() - 1
        });
        if let Some((_, sum)) = sums.get_mut(at) {
            sum.files += 1;
            sum.read += line.rows_read;
            sum.loaded += line.rows_loaded;
            sum.rejected += line.rows_rejected;
            sum.seconds += line.seconds;
        }
    }
    let headings = ["feed", "table", ">files", "outcome", ">rows read", ">loaded", ">rejected", ">time"];
    let mut grid = Grid::new(screen, &headings);
    for ((feed, table, outcome), sum) in sums {
        let figure = |value: u64| plain(if outcome.counts() { count::number(value) } else { "-".to_owned() });
        let rejected = match sum.rejected {
            0 => figure(0),
            some => (count::number(some), Tone::Warning),
        };
        grid.push(vec![
            plain(clean(&feed)),
            plain(clean(&table)),
            plain(count::number(sum.files)),
            (outcome.word().to_owned(), tone_of(outcome)),
            figure(sum.read),
            figure(sum.loaded),
            rejected,
            plain(count::seconds(sum.seconds)),
        ]);
    }
    grid.text()
}

fn lines(files: &[ReceiptLine], screen: Screen) -> String {
    let headings = ["file", "table", "outcome", ">rows read", ">loaded", ">rejected", ">time", "kind"];
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
            plain(shown(&line.path)),
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
