//! Applies the corrections that were copied to the rejects of a file that was loaded again.

use std::collections::BTreeMap;

use hypodoke_core::outcome::Reason;
use hypodoke_stores::{FileEntry, FileQuery, PendingCorrection, RejectEntry, StoreError, Tables};

use super::corrected::CorrectedRow;
use super::rejects::format_of;
use super::resubmit::{Corrected, FeedOfEntry, OfFile, Resubmission};
use crate::error::{EngineError, ResubmitProblem};
use crate::plan::TargetState;
use crate::receipt::RefusedCorrection;

/// Applies the pending corrections, file by file. A correction that no longer fits its table is refused, and its
/// reject is open again. While the table is in use, or the configuration lacks the feed, corrections stay pending.
///
/// # Errors
///
/// The database cannot be reached.
pub fn apply_corrections(
    store: &mut dyn Tables,
    feed_of: &FeedOfEntry<'_>,
) -> Result<Vec<RefusedCorrection>, EngineError> {
    let mut by_file: BTreeMap<(i64, i64), Vec<PendingCorrection>> = BTreeMap::new();
    for correction in store.ledger().pending_corrections()? {
        by_file.entry((correction.file, correction.batch)).or_default().push(correction);
    }
    let mut refused = Vec::new();
    for ((file, batch), corrections) in by_file {
        let of_batch = FileQuery { batch: Some(batch), ..FileQuery::default() };
        let entry = store.ledger().files(&of_batch)?.into_iter().find(|entry| entry.file == file);
        let Some(entry) = entry else { continue };
        let rejects = store.ledger().rejects(file, usize::MAX >> 1)?;
        match apply_to(store, (&entry, &rejects), feed_of, &corrections) {
            Ok(rows) => {
                for (reject, why) in rows {
                    refuse(store, (&entry, &rejects), reject, (Some(why), Vec::new()), &mut refused)?;
                }
            }
            Err(error) if stays_pending(&error) => {}
            Err(error) if error.is_unreachable() => return Err(error),
            // One bad file costs one file.
            Err(error) => {
                for correction in &corrections {
                    let why = (None, error.reasons());
                    refuse(store, (&entry, &rejects), correction.reject, why, &mut refused)?;
                }
            }
        }
    }
    Ok(refused)
}

/// A file of the ledger with its rejects.
type WithRejects<'a> = (&'a FileEntry, &'a [RejectEntry]);

/// Applies corrections of one file; returns the rejects whose corrections do not fit, and why.
fn apply_to(
    store: &mut dyn Tables,
    (entry, rejects): WithRejects<'_>,
    feed_of: &FeedOfEntry<'_>,
    corrections: &[PendingCorrection],
) -> Result<Vec<(i64, String)>, EngineError> {
    let found = feed_of(entry)?;
    let mut rows: Vec<Corrected> = Vec::new();
    for correction in corrections {
        let damaged = |why| EngineError::ledger("correction", &entry.arrival.path, why);
        let Some(reject) = rejects.iter().find(|reject| reject.reject == correction.reject) else { continue };
        let values = serde_json::from_str(&correction.values).map_err(damaged)?;
        let (mark, line) = (String::new(), reject.line);
        rows.push((reject.clone(), CorrectedRow { reject: correction.reject, line, mark, values }));
    }
    let (format, target) = (format_of(entry)?, TargetState::of(store, &found.feed)?);
    let mut done = Resubmission::default();
    OfFile { entry, found: &found, format: &format, target: &target }.resubmit(store, rows, &mut done)?;
    Ok(done.refused)
}

/// Whether a later batch may apply the corrections as they are.
fn stays_pending(error: &EngineError) -> bool {
    match error {
        EngineError::Resubmit(ResubmitProblem::NoFeed { .. }) => true,
        // Another process uses the table, or has just applied them.
        EngineError::Store(cause) => {
            matches!(
                **cause,
                StoreError::Aborted { .. }
                    | StoreError::InUse { .. }
                    | StoreError::Changed { .. }
                    | StoreError::RejectTaken { .. }
            )
        }
        _ => false,
    }
}

/// Records that a correction does not fit, unless it was applied.
fn refuse(
    store: &mut dyn Tables,
    (entry, rejects): WithRejects<'_>,
    reject: i64,
    (why, reasons): (Option<String>, Vec<Reason>),
    refused: &mut Vec<RefusedCorrection>,
) -> Result<(), EngineError> {
    let codes: Vec<String> = reasons.iter().map(ToString::to_string).collect();
    let text = why.clone().unwrap_or_else(|| codes.join("; "));
    if store.ledger().refuse_correction(reject, &text)? {
        let line = rejects.iter().find(|known| known.reject == reject).map(|known| known.line);
        let (path, line) = (entry.arrival.path.clone(), line.unwrap_or_default());
        refused.push(RefusedCorrection { path, line, why, reasons });
    }
    Ok(())
}
