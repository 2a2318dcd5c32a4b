//! `hypodoke receipt`: the account of a batch, from what the ledger says of it.

use hypodoke_core::drift::Action;
use hypodoke_engine::maintain::{RejectGroup, reject_groups};
use hypodoke_engine::receipt::{PartLine, Receipt, ReceiptLine, RejectReason};
use hypodoke_stores::{BatchEntry, DriftEntry, FileEntry, FileQuery, Ledger, PartEntry};

use super::context::Context;
use crate::cli::ReceiptArguments;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::drift::change_words;
use crate::render::{self, json, receipt_json};

/// The most rejects of a file that are looked at for their reasons.
const MOST_REJECTS: usize = 10_000;

/// Shows a batch again, as it was shown when it ended.
pub fn run(arguments: &ReceiptArguments, context: &Context) -> Result<Exit, Failure> {
    let mut store = context.ledger(&arguments.database)?;
    let batches = store.batches(usize::MAX >> 1)?;
    let batch = pick(&batches, arguments.batch)?;
    let files = store.files(&FileQuery { batch: Some(batch.batch), ..FileQuery::default() })?;
    let drift = store.drift()?;
    let mut lines = Vec::new();
    for entry in files.iter().rev() {
        let parts = if entry.outcome.counts() { store.parts(entry.file)? } else { Vec::new() };
        let mut line = line_of(entry, parts);
        let own = drift.iter().filter(|change| change.file == entry.file);
        line.notes.extend(own.filter_map(told));
        line.reject_reasons = reasons(store.as_mut(), entry)?;
        lines.push(line);
    }
    let receipt = Receipt::recorded(batch, store.ledger_shown(), lines);
    if context.json {
        json::print(&receipt_json::document(&receipt))?;
    } else {
        render::print(&render::receipt::text(&receipt, context.detail(), context.screen));
        if batch.ended.is_none() {
            context.remark("this batch has no end: it was interrupted, or it still runs");
        }
    }
    Ok(Exit::Done)
}

/// The batch of that number, or the newest.
pub fn pick(batches: &[BatchEntry], wanted: Option<i64>) -> Result<&BatchEntry, Failure> {
    let newest = batches.first().ok_or_else(|| Failure::usage("the ledger holds no batches yet"))?;
    match wanted {
        None => Ok(newest),
        Some(number) => batches.iter().find(|batch| batch.batch == number).ok_or_else(|| {
            Failure::usage(format!("there is no batch {number}; the newest is {}", newest.batch))
        }),
    }
}

/// A change that the file brought, and what was done about it. Why a file is held is told already.
fn told(change: &DriftEntry) -> Option<String> {
    let DriftEntry { change: what, column, from, to, cause, .. } = change;
    let words = change_words(what, column, from.as_deref(), to.as_deref());
    let cause = cause.as_ref().map(|cause| format!(", {}", cause.words())).unwrap_or_default();
    match Action::from_word(&change.action)? {
        Action::Held => None,
        Action::Noted => Some(format!("{words}{cause}")),
        action => Some(format!("{words}{cause}: {}", action.words())),
    }
}

/// Why rows of the file are rejected.
fn reasons(store: &mut dyn Ledger, entry: &FileEntry) -> Result<Vec<RejectReason>, Failure> {
    if entry.rejected == 0 || !entry.outcome.counts() {
        return Ok(Vec::new());
    }
    let rejects = store.rejects(entry.file, MOST_REJECTS)?;
    let reason = |group: RejectGroup| RejectReason {
        column: group.column,
        reason: group.reason,
        rows: group.rows,
        line: group.line,
        value: group.value,
    };
    Ok(reject_groups(&[(entry.clone(), rejects)]).into_iter().map(reason).collect())
}

fn line_of(entry: &FileEntry, parts: Vec<PartEntry>) -> ReceiptLine {
    let mut line = ReceiptLine::recorded(entry);
    line.parts = parts.into_iter().map(PartLine::recorded).collect();
    line
}
