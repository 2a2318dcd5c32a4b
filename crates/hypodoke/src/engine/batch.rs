//! A batch: every new file of every feed, loaded one by one, each in its own transaction.

use std::time::Instant;

use hypodoke_core::event::{Event, Listener, Outcome, Step};
use hypodoke_stores::{FileEntry, Store, StoreError};

use super::file::{FileLoad, Loaded, Trouble};
use super::ground::Ground;
use super::look::{Looked, MOST_KEPT, Way, lists_only, look, look_at_all};
use super::receipt::{RECEIPT_VERSION, Receipt, ReceiptLine};
use super::select::{Known, Verdict};
use super::{Candidate, Delivery, Feed, clock};
use crate::failure::Failure;

/// A batch that is over: its receipt, and what broke it off if something did.
pub struct Ended {
    /// The account of what was done.
    pub receipt: Receipt,
    /// The database went away, or would not have more.
    pub broken_off: Option<Failure>,
}

/// Loads all that is new.
pub fn run(
    store: &mut dyn Store,
    deliveries: &[Delivery],
    unmatched: Vec<String>,
    listener: &dyn Listener,
) -> Result<Ended, Failure> {
    let began = Instant::now();
    let began_at = clock::now();
    let entries = if store.has_ledger()? { store.loaded_files()? } else { Vec::new() };
    let known = Known::of(entries);
    let (mut pending, mut known_count) = (Vec::new(), 0);
    for delivery in deliveries {
        let (old, new): (Vec<_>, Vec<_>) =
            delivery.files.iter().partition(|f| known.is_known(&f.seen.arrival, &delivery.feed.table));
        known_count += old.len() as u64;
        if !new.is_empty() {
            pending.push((&delivery.feed, new));
        }
    }
    let mut batch = Batch { store, known, listener, number: None, lines: Vec::new() };
    let broken_off =
        if pending.is_empty() { None } else { batch.load(&pending, began_at).err().map(Failure::from) };
    let receipt = Receipt {
        version: RECEIPT_VERSION,
        batch: batch.number,
        database: batch.store.shown(),
        began_at: rfc3339(began_at),
        seconds: began.elapsed().as_secs_f64(),
        totals: Receipt::total(&batch.lines),
        files: batch.lines,
        known: known_count,
        unmatched,
    };
    Ok(Ended { receipt, broken_off })
}

/// A moment as RFC 3339 has it, to the second.
pub fn rfc3339(micros: i64) -> String {
    let moment = jiff::Timestamp::from_microsecond(micros).unwrap_or_default();
    moment.round(jiff::Unit::Second).unwrap_or(moment).to_string()
}

struct Batch<'a> {
    store: &'a mut dyn Store,
    known: Known,
    listener: &'a dyn Listener,
    number: Option<i64>,
    lines: Vec<ReceiptLine>,
}

impl Batch<'_> {
    fn load(&mut self, pending: &[(&Feed, Vec<&Candidate>)], at: i64) -> Result<(), StoreError> {
        self.store.open_ledger()?;
        let number = self.store.begin_batch(at)?;
        self.number = Some(number);
        let files = pending.iter().map(|(_, files)| files.len()).sum();
        let bytes = pending.iter().flat_map(|(_, files)| files).map(|f| f.seen.arrival.bytes).sum();
        self.listener.on(Event::BatchBegan { files, bytes, step: Step::Loading });
        for (feed, files) in pending {
            self.load_delivery(feed, files, number)?;
        }
        self.listener.on(Event::BatchEnded);
        self.store.end_batch(number, clock::now())
    }

    fn load_delivery(&mut self, feed: &Feed, files: &[&Candidate], batch: i64) -> Result<(), StoreError> {
        let mut ground = Ground::of(self.store, feed)?;
        let looked = if ground.is_new() {
            self.first_sight(feed, files, &mut ground)?
        } else {
            files.iter().map(|_| None).collect()
        };
        for (file, looked) in files.iter().zip(looked) {
            let began = Instant::now();
            let began_at = clock::now();
            let result = match looked {
                Some(Err(failure)) => Err(Trouble::File(failure)),
                Some(Ok(looked)) => self.load_file(feed, file, batch, &mut ground, Some(looked)),
                None => self.load_file(feed, file, batch, &mut ground, None),
            };
            let mut line = match result {
                Ok(line) => line,
                Err(Trouble::Store(error)) if error.is_unreachable() => return Err(error),
                Err(Trouble::Store(error)) => failed_line(feed, file, &Failure::from(error)),
                Err(Trouble::File(failure)) => failed_line(feed, file, &failure),
            };
            line.seconds = began.elapsed().as_secs_f64();
            if line.outcome == Outcome::Failed {
                self.store.note_file(&entry_of(&line, feed, file, batch, began_at, None))?;
            }
            self.listener.on(Event::FileEnded { path: file.shown.clone(), outcome: line.outcome });
            self.lines.push(line);
        }
        Ok(())
    }

    /// A table that is not there yet: all its files are looked at, and their layouts joined
    /// before the first is loaded, so that their order does not matter.
    fn first_sight(
        &mut self,
        feed: &Feed,
        files: &[&Candidate],
        ground: &mut Ground,
    ) -> Result<Vec<Option<Result<Looked, Failure>>>, StoreError> {
        let wanted: Vec<(&Candidate, &Feed)> = files.iter().map(|file| (*file, feed)).collect();
        let is_slow = |at: usize| named_as_workbook(&files[at].seen.arrival.path);
        // The evidence has served its purpose once the layout is decided.
        let without_evidence = |mut looked: Looked| {
            looked.tables.iter_mut().for_each(|table| table.evidence = Default::default());
            looked
        };
        let mut looks =
            look_at_all(&wanted, is_slow, MOST_KEPT, self.listener, |_, looked| looked.map(without_evidence));
        let lists: Vec<String> =
            looks.iter().flatten().flat_map(|looked| looked.lists()).map(str::to_owned).collect();
        for (looked, file) in looks.iter_mut().zip(files) {
            if matches!(looked, Ok(looked) if looked.would_join(&lists)) {
                // An object where other files have a list.
                let again = look(file, feed, Way::alone(), &lists_only(lists.clone()), self.listener);
                *looked = again.map(without_evidence);
            }
        }
        ground.expect(self.store, looks.iter().flatten())?;
        Ok(looks.into_iter().map(Some).collect())
    }

    fn load_file(
        &mut self,
        feed: &Feed,
        file: &Candidate,
        batch: i64,
        ground: &mut Ground,
        looked: Option<Looked>,
    ) -> Result<ReceiptLine, Trouble> {
        let began_at = clock::now();
        let replaces = match self.known.judge(file, &feed.table).map_err(Trouble::File)? {
            Verdict::Known => return Ok(line_of(feed, file, Outcome::Known)),
            Verdict::Same(entry, hash) => return self.note_same(feed, file, batch, &entry, hash, began_at),
            Verdict::New => None,
            Verdict::Changed(earlier) => Some(earlier),
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
        let load = FileLoad {
            store: self.store,
            feed,
            file,
            batch,
            replaces,
            listener: self.listener,
            began: began_at,
        };
        let Some(loaded) = load.run(ground, looked)? else {
            let mut line = line_of(feed, file, Outcome::Known);
            line.message = Some("another hypodoke loaded it meanwhile".to_owned());
            return Ok(line);
        };
        let line = loaded_line(feed, file, &loaded, replaces.is_some());
        // A later file of this batch with the same path or content is judged by this entry.
        let entry = entry_of(&line, feed, file, batch, began_at, Some(loaded.hash));
        self.known.learn(FileEntry { file: loaded.number, ..entry });
        Ok(line)
    }

    fn note_same(
        &mut self,
        feed: &Feed,
        file: &Candidate,
        batch: i64,
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
        let note = entry_of(&line, feed, file, batch, began_at, Some(hash));
        self.store.note_file(&note).map_err(Trouble::Store)?;
        self.known.learn(note);
        Ok(line)
    }
}

/// Whether a file is called a workbook: its records may be kept, and it is hashed as it is read.
fn named_as_workbook(path: &str) -> bool {
    let path = path.to_lowercase();
    [".xlsx", ".xlsm", ".xlsb", ".xls", ".ods"].iter().any(|ending| path.ends_with(ending))
}

fn line_of(feed: &Feed, file: &Candidate, outcome: Outcome) -> ReceiptLine {
    ReceiptLine {
        path: file.shown.clone(),
        feed: feed.name.clone(),
        outcome,
        table: Some(feed.table.clone()),
        bytes: file.seen.arrival.bytes,
        ..ReceiptLine::default()
    }
}

fn failed_line(feed: &Feed, file: &Candidate, failure: &Failure) -> ReceiptLine {
    ReceiptLine {
        message: Some(failure.message.clone()),
        advice: failure.advice.clone(),
        ..line_of(feed, file, Outcome::Failed)
    }
}

fn loaded_line(feed: &Feed, file: &Candidate, loaded: &Loaded, replaced: bool) -> ReceiptLine {
    ReceiptLine {
        kind: Some(loaded.kind.clone()),
        rows_read: loaded.read,
        rows_loaded: loaded.loaded,
        rows_rejected: loaded.rejected,
        parts: loaded.parts.clone(),
        changes: loaded.changes.clone(),
        replaced,
        footer: loaded.footer.clone(),
        notes: loaded.notes.clone(),
        ..line_of(feed, file, Outcome::Loaded)
    }
}

fn entry_of(
    line: &ReceiptLine,
    feed: &Feed,
    file: &Candidate,
    batch: i64,
    began: i64,
    hash: Option<String>,
) -> FileEntry {
    FileEntry {
        file: 0,
        batch,
        arrival: file.seen.arrival.clone(),
        hash,
        feed: feed.name.clone(),
        table: Some(feed.table.clone()),
        kind: line.kind.clone(),
        outcome: line.outcome,
        read: line.rows_read,
        loaded: line.rows_loaded,
        rejected: line.rows_rejected,
        left_out: line.rows_left_out,
        began,
        ended: clock::now(),
        message: line.message.clone().or_else(|| (!line.notes.is_empty()).then(|| line.notes.join("\n"))),
        replaced_by: None,
    }
}
