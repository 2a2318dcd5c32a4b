//! What there is to say of the files of a receipt: each remark once, with how many files it is about.

use std::collections::HashMap;

use hypodoke_core::count;
use hypodoke_core::drift::{Action, Change, Drift};
use hypodoke_core::outcome::Outcome;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::receipt::{ReceiptLine, RejectReason};

use super::paths::shown;
use super::{Screen, Tone};
use crate::wording::{line_advice, quoted, reasons};

/// The most lines of remarks where not all are wanted.
const MOST_LINES: usize = 24;

/// The most reasons of rejects that are told of one file.
const MOST_REASONS: usize = 3;

/// The most files that a command names one by one.
const MOST_NAMED: usize = 5;

/// Files of which the same is to be said.
struct Block<'r> {
    files: Vec<&'r ReceiptLine>,
    remarks: Vec<(Tone, String)>,
    /// They are all files of their feed that are held.
    is_whole_feed: bool,
}

/// The remarks on some files: the same once, and all of them or as many as fit a screen.
pub fn text(files: &[ReceiptLine], batch: Option<i64>, all: bool, screen: Screen) -> String {
    let blocks = blocks(files, batch, all);
    let (mut out, mut lines) = (String::new(), 0);
    for (at, block) in blocks.iter().enumerate() {
        if !all && lines > 0 && lines + block.remarks.len() > MOST_LINES {
            let left: usize = blocks.iter().skip(at).map(|block| block.files.len()).sum();
            let advice = batch.map(|batch| format!(": hypodoke receipt {batch} -v")).unwrap_or_default();
            out.push_str(&format!(
                "and there is something to say of {}{advice}\n",
                count::files(left as u64)
            ));
            break;
        }
        lines += block.remarks.len();
        out.push_str(&block.text(screen));
    }
    out
}

/// The remarks, in the order of the files, the same of several together.
fn blocks(files: &[ReceiptLine], batch: Option<i64>, all: bool) -> Vec<Block<'_>> {
    let mut blocks: Vec<Block<'_>> = Vec::new();
    let mut known: HashMap<String, usize> = HashMap::new();
    for line in files {
        let remarks = remarks(line, batch);
        if remarks.is_empty() {
            continue;
        }
        let key = key_of(line, &remarks);
        match known.get(&key).and_then(|at| blocks.get_mut(*at)).filter(|_| !all) {
            Some(block) => block.files.push(line),
            None => {
                known.insert(key, blocks.len());
                blocks.push(Block { files: vec![line], remarks, is_whole_feed: false });
            }
        }
    }
    let held = |feed: &Option<String>| {
        files.iter().filter(|line| line.outcome == Outcome::Held && line.feed == *feed).count()
    };
    for block in blocks.iter_mut().filter(|block| block.files.len() > 1) {
        block.is_whole_feed = block.files.first().is_some_and(|line| held(&line.feed) == block.files.len());
    }
    blocks
}

/// What remarks have in common that differ in figures and in the file they are about.
fn key_of(line: &ReceiptLine, remarks: &[(Tone, String)]) -> String {
    let mut key = line.table.clone().unwrap_or_default();
    for (_, remark) in remarks {
        key.push('\n');
        let remark = remark.replace(&line.path, "\u{1}");
        let mut in_figures = false;
        for c in remark.chars() {
            let is_figure = c.is_ascii_digit() || in_figures && matches!(c, ',' | '.');
            if !is_figure {
                key.push(c);
            } else if !in_figures {
                key.push('#');
            }
            in_figures = is_figure;
        }
    }
    key
}

impl Block<'_> {
    fn text(&self, screen: Screen) -> String {
        let first = self.files.first().map(|line| shown(&line.path)).unwrap_or_default();
        let head = match self.files.len() {
            1 => first,
            many => {
                let others = count::of(many as u64 - 1, "other file", "other files");
                format!("{first} and {others}")
            }
        };
        let mut out = String::new();
        for (at, (tone, remark)) in self.remarks.iter().enumerate() {
            let before = if at == 0 { format!("{head}: ") } else { "  ".to_owned() };
            out.push_str(&screen.sentence(&before, *tone, &self.for_all(remark)));
        }
        out
    }

    /// A command about the first of several files as one about all of them: about their feed where no other
    /// file of it is held, so that nothing is decided about files that are held for other reasons.
    fn for_all(&self, remark: &str) -> String {
        let Some(first) = self.files.first().filter(|_| self.files.len() > 1) else {
            return remark.to_owned();
        };
        let about = match &first.feed {
            Some(feed) if self.is_whole_feed => quoted(feed),
            _ if self.files.len() <= MOST_NAMED => {
                let all: Vec<String> = self.files.iter().map(|line| quoted(&line.path)).collect();
                all.join(" ")
            }
            _ => return remark.to_owned(),
        };
        let settle = |about: &str| format!("→ hypodoke settle {about}");
        remark.replace(&settle(&quoted(&first.path)), &settle(&about))
    }
}

/// All that there is to say of a file.
fn remarks(line: &ReceiptLine, batch: Option<i64>) -> Vec<(Tone, String)> {
    let mut remarks = Vec::new();
    if let Some(message) = reasons::of_line(line) {
        // The path stands before the remark already.
        let message = message.strip_prefix(&format!("{}: ", line.path)).unwrap_or(&message);
        let tone = match line.outcome {
            Outcome::Failed => Tone::Bad,
            Outcome::Held => Tone::Warning,
            _ => Tone::Faint,
        };
        remarks.extend(message.lines().map(|line| (tone, clean(line))));
    }
    remarks.extend(reasons::notes(line).iter().map(|note| (Tone::Faint, clean(note))));
    remarks.extend(counted(line).map(|words| (Tone::Plain, words)));
    match (line.replaced, line.again) {
        (true, true) => remarks.push((Tone::Faint, "loaded again in the place of its rows".to_owned())),
        (true, false) => {
            remarks.push((Tone::Warning, "changed since it was loaded; its rows were replaced".to_owned()));
        }
        (false, _) => {}
    }
    remarks.extend(changes(line));
    remarks.extend(rejected(line));
    let left = line.left_keys.iter().map(|key| (Tone::Warning, format!("left as it is: {}", clean(key))));
    remarks.extend(left);
    remarks.extend(line_advice(line).map(|advice| (Tone::Plain, format!("→ {advice}"))));
    if let (true, Some(batch)) = (line.rows_rejected > 0 && line.outcome.counts(), batch) {
        remarks.push((Tone::Plain, format!("→ hypodoke rejects {batch}")));
    }
    remarks
}

/// How it differs from its tables.
fn changes(line: &ReceiptLine) -> Vec<(Tone, String)> {
    let mut remarks = Vec::new();
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
    let (missing, others): (Vec<&Drift>, Vec<&Drift>) = others
        .into_iter()
        .partition(|drift| matches!(drift.change, Change::Missing { .. }) && drift.cause.is_none());
    remarks.extend(others.into_iter().map(|drift| (tone_of_drift(drift), clean(&drift.words()))));
    remarks.extend(missing_columns(&missing));
    remarks
}

/// Columns that it lacks, in one line.
fn missing_columns(missing: &[&Drift]) -> Option<(Tone, String)> {
    let first = missing.first()?;
    let name = |drift: &&Drift| match &drift.change {
        Change::Missing { column } => Some(format!("`{column}`")),
        _ => None,
    };
    let names: Vec<String> = missing.iter().filter_map(name).collect();
    let words = match names.len() {
        1 => first.words(),
        _ => {
            let done = match first.action {
                Action::Noted => String::new(),
                action => format!(": {}", action.words().replace("its rows hold", "they hold")),
            };
            format!("columns {} are missing{done}", count::list(&names))
        }
    };
    Some((tone_of_drift(first), clean(&words)))
}

/// Why rows of it are rejected.
fn rejected(line: &ReceiptLine) -> Vec<(Tone, String)> {
    let words = |reason: &RejectReason| {
        let column = reason.column.as_ref().map(|column| format!("`{column}` ")).unwrap_or_default();
        let value = reason.value.as_ref().map(|value| format!("`{value}` ")).unwrap_or_default();
        let rows = count::rows(reason.rows);
        clean(&format!(
            "{rows} rejected: {column}{}, {value}on line {}",
            reason.reason,
            count::number(reason.line)
        ))
    };
    let told: Vec<&RejectReason> = line.reject_reasons.iter().take(MOST_REASONS).collect();
    let mut remarks: Vec<(Tone, String)> = told.iter().map(|reason| (Tone::Warning, words(reason))).collect();
    let rest = line.rows_rejected.saturating_sub(told.iter().map(|reason| reason.rows).sum());
    if rest > 0 && !told.is_empty() {
        remarks.push((Tone::Warning, format!("{} rejected for other reasons", count::rows(rest))));
    }
    let found: u64 = line.reject_reasons.iter().map(|reason| reason.rows).sum();
    let corrected = found.saturating_sub(line.rows_rejected);
    if line.outcome.counts() && corrected > 0 {
        let words = count::of(corrected, "of these rows is corrected", "of these rows are corrected");
        remarks.push((Tone::Plain, words));
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
    if others.iter().all(Option::is_none) || !line.outcome.counts() {
        return None;
    }
    let inserted = format!("{} inserted", count::number(counts.inserted));
    let all: Vec<String> = std::iter::once(inserted).chain(others.into_iter().flatten()).collect();
    Some(format!("rows: {}", all.join(", ")))
}

/// What only is noted is not for alarm, unless the values are not what they were.
fn tone_of_drift(drift: &Drift) -> Tone {
    let is_told_only = drift.action == Action::Noted
        && !matches!(drift.change, Change::Misread { .. } | Change::Unusual { .. });
    if is_told_only { Tone::Faint } else { Tone::Warning }
}
