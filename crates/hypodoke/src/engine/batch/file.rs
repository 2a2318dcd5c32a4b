//! One file of a batch: judged by what the ledger knows of it, loaded, and written down.

use std::time::Instant;

use hypodoke_core::drift::{Hold, WayOut};
use hypodoke_core::event::{Event, Outcome};
use hypodoke_stores::{FileEntry, FileQuery, StoreError};

use super::{Batch, Look};
use crate::engine::feed::{ChangedFile, SameContent};
use crate::engine::file::{FileLoad, HeldFile, Trouble, as_sent};
use crate::engine::ground::Ground;
use crate::engine::lines::{Differs, entry_of, line_of, loaded_line, or_failed};
use crate::engine::look::Looked;
use crate::engine::patience::{Patience, patiently};
use crate::engine::receipt::ReceiptLine;
use crate::engine::select::Verdict;
use crate::engine::{Candidate, Feed, clock};
use crate::failure::Failure;

impl Batch<'_> {
    /// One file by itself, tried again where something passed that may not pass again.
    pub(super) fn load_one(
        &mut self,
        feed: &Feed,
        file: &Candidate,
        ground: &mut Ground,
        look: Look,
        empties: bool,
    ) -> Result<ReceiptLine, StoreError> {
        let began = Instant::now();
        let began_at = clock::now();
        let result = match look {
            Some(Err(failure)) => Err(Trouble::File(failure)),
            look => self.load_patiently(feed, file, ground, look.and_then(Result::ok), empties),
        };
        self.close(feed, file, result, (began, began_at))
    }

    /// The line of a file, also of one that failed or is held. If its server is away, the others of
    /// that place are left for later.
    pub(super) fn or_failed(
        &self,
        result: Result<ReceiptLine, Trouble>,
        feed: &Feed,
        file: &Candidate,
    ) -> Result<(ReceiptLine, Differs), StoreError> {
        if let Err(Trouble::File(failure)) = &result {
            self.away.learn(file, failure);
        }
        or_failed(result, feed, file)
    }

    /// Writes down what came of a file where that is not in its transaction.
    pub(super) fn close(
        &mut self,
        feed: &Feed,
        file: &Candidate,
        result: Result<ReceiptLine, Trouble>,
        (began, began_at): (Instant, i64),
    ) -> Result<ReceiptLine, StoreError> {
        let (mut line, drift) = self.or_failed(result, feed, file)?;
        line.seconds = began.elapsed().as_secs_f64();
        if matches!(line.outcome, Outcome::Failed | Outcome::Held) {
            self.note(&line, feed, file, began_at, &drift)?;
        }
        if file.member.is_none() {
            file.seen.release();
        }
        self.listener.on(Event::FileEnded { path: file.shown.clone(), outcome: line.outcome });
        Ok(line)
    }

    /// Writes a file down that is not loaded. One that is held day after day for the same reason is
    /// written down once.
    pub(super) fn note(
        &mut self,
        line: &ReceiptLine,
        feed: &Feed,
        file: &Candidate,
        began: i64,
        drift: &Differs,
    ) -> Result<(), StoreError> {
        let entry = entry_of(line, feed, file, self.number, began, None);
        let before = self.known.held(&file.seen.arrival, &feed.table);
        let is_told = line.outcome == Outcome::Held && before.is_some_and(|b| b.message == entry.message);
        if is_told { Ok(()) } else { patiently(self.store, |store| store.note_file(&entry, drift)) }
    }

    fn load_patiently(
        &mut self,
        feed: &Feed,
        file: &Candidate,
        ground: &mut Ground,
        mut looked: Option<Looked>,
        empties: bool,
    ) -> Result<ReceiptLine, Trouble> {
        let mut patience = Patience::new();
        loop {
            let error = match self.load_file(feed, file, ground, looked.take(), empties) {
                Err(Trouble::Store(error)) if error.is_passing() => error,
                other => return other,
            };
            if !patience.has_more(&error) {
                return Err(Trouble::Store(error));
            }
            patience.wait(&error);
            if matches!(error, StoreError::Lost { .. }) {
                patience.reconnect(self.store)?;
            }
            patiently(self.store, |store| ground.read_again(store, feed))?;
        }
    }

    pub(super) fn load_file(
        &mut self,
        feed: &Feed,
        file: &Candidate,
        ground: &mut Ground,
        looked: Option<Looked>,
        first_of_delivery: bool,
    ) -> Result<ReceiptLine, Trouble> {
        let began_at = clock::now();
        let settled;
        let decision = self.known.decision(&file.seen.arrival, &feed.table);
        let (feed, looked) = match decision {
            Some(decision) => {
                settled = decision.applied(feed, ground.main.layout());
                // What was found before the decision was found by other rules.
                (&settled, None)
            }
            None => (feed, looked),
        };
        let verdict = if self.again {
            self.known.judge_again(file, &feed.table)
        } else {
            self.known.judge(file, &feed.table)
        };
        let replaces = match verdict.map_err(Trouble::File)? {
            Verdict::Known => return Ok(line_of(feed, file, Outcome::Known)),
            Verdict::Same(entry, hash) if feed.same_content == SameContent::Skip => {
                return self.note_same(feed, file, &entry, hash, began_at);
            }
            Verdict::Same(..) | Verdict::New => None,
            Verdict::Changed(earlier) if self.again => Some(earlier),
            Verdict::Changed(earlier) => match feed.changed_file {
                ChangedFile::Replace => Some(earlier),
                ChangedFile::Append => None,
                ChangedFile::Ignore => {
                    let mut line = line_of(feed, file, Outcome::Discarded);
                    line.message =
                        Some("it has changed since it was loaded, which the feed ignores".to_owned());
                    let entry = entry_of(&line, feed, file, self.number, began_at, None);
                    self.store.note_file(&entry, &[])?;
                    return Ok(line);
                }
                ChangedFile::Hold if feed.expect.waived => Some(earlier),
                ChangedFile::Hold => {
                    let why = "it has changed since it was loaded".to_owned();
                    let hold = Hold { why, ways: vec![WayOut::LoadAnyway, WayOut::Discard] };
                    let held = HeldFile { holds: vec![hold], ..HeldFile::default() };
                    return Err(Trouble::Held(Box::new(held)));
                }
            },
        };
        if replaces.is_some() && !ground.main.lineage(false).is_kept() && ground.parts.is_empty() {
            let message = format!(
                "{} changed after it was loaded, and `{}` has no lineage columns to find its rows by",
                file.shown, feed.table
            );
            return Err(Trouble::File(
                Failure::load(message).advise("take its rows out by hand, or load it under another name"),
            ));
        }
        let again = self.again && self.known.is_known(&file.seen.arrival, &feed.table);
        let said = as_sent(file, feed)?;
        let before = self.known.rows_before(&feed.table);
        let load = FileLoad {
            said,
            before: &before,
            sum_all: false,
            by_place: None,
            store: self.store,
            feed,
            file,
            batch: self.number,
            replaces,
            listener: self.listener,
            began: began_at,
            first_of_delivery,
        };
        let Some(loaded) = load.run(ground, looked)? else {
            return self.loaded_meanwhile(feed, file);
        };
        let line = ReceiptLine { again, ..loaded_line(feed, file, &loaded, replaces.is_some()) };
        // A later file of this batch with the same path or content is judged by this entry.
        let entry = entry_of(&line, feed, file, self.number, began_at, Some(loaded.hash));
        self.known.learn(FileEntry { file: loaded.number, ..entry });
        Ok(line)
    }

    fn note_same(
        &mut self,
        feed: &Feed,
        file: &Candidate,
        entry: &FileEntry,
        hash: String,
        began_at: i64,
    ) -> Result<ReceiptLine, Trouble> {
        let mut line = line_of(feed, file, Outcome::Same);
        line.message = Some(if entry.arrival.path == file.seen.arrival.path {
            format!("same content as loaded in batch {}", entry.batch)
        } else {
            format!("same content as {}, loaded in batch {}", entry.arrival.path, entry.batch)
        });
        let note = entry_of(&line, feed, file, self.number, began_at, Some(hash));
        self.store.note_file(&note, &[]).map_err(Trouble::Store)?;
        self.known.learn(note);
        Ok(line)
    }

    /// The ledger says that a file is loaded: by another process, or by this one just before the
    /// connection broke, so that the answer was lost.
    fn loaded_meanwhile(&mut self, feed: &Feed, file: &Candidate) -> Result<ReceiptLine, Trouble> {
        let query = FileQuery { batch: Some(self.number), ..FileQuery::default() };
        let arrival = &file.seen.arrival;
        let ours = self.store.files(&query)?.into_iter().find(|entry| {
            entry.outcome == Outcome::Loaded
                && entry.arrival.path == arrival.path
                && entry.arrival.place == arrival.place
        });
        let Some(entry) = ours else {
            let mut line = line_of(feed, file, Outcome::Known);
            line.message = Some("another hypodoke loaded it meanwhile".to_owned());
            return Ok(line);
        };
        Ok(ReceiptLine {
            kind: entry.kind.clone(),
            rows_read: entry.read,
            rows_loaded: entry.loaded,
            rows_rejected: entry.rejected,
            rows_left_out: entry.left_out,
            counts: entry.counts.into(),
            ..line_of(feed, file, Outcome::Loaded)
        })
    }
}
