//! A batch: every new file of every feed, loaded one by one, each in its own transaction; on
//! several connections side by side where the database takes that.

mod file;
mod share;
mod sight;

use std::time::Instant;

use hypodoke_core::arrival::Arrival;
use hypodoke_core::drift::{Hold, WayOut};
use hypodoke_core::event::{Event, Listener, Outcome, Step};
use hypodoke_stores::{FileEntry, Mode, Store, StoreError};

use super::away::Away;
use super::file::{HeldFile, Trouble};
use super::ground::Ground;
use super::lines::Differs;
use super::look::Looked;
use super::means::{Connections, Means, Stop};
use super::order::{Turn, overtaken, same_delivery, turns};
use super::patience::{Patience, patiently};
use super::receipt::{Conflict, RECEIPT_VERSION, Receipt, ReceiptLine};
use super::select::Known;
use super::{Candidate, Delivery, Feed, clock};
use crate::failure::Failure;

/// So few files are asked for one by one.
const FEW: usize = 100;

/// A feed's files are only loaded side by side if there are at least so many.
const WORTH_SHARING: usize = 8;

/// A batch that is over: its receipt, and what broke it off if something did.
pub struct Ended {
    /// The account of what was done.
    pub receipt: Receipt,
    /// The database went away, or would not have more.
    pub broken_off: Option<Failure>,
    /// Places that went away, whose files are left for later.
    pub away: Vec<Failure>,
}

/// Loads all that is new.
pub fn run(
    store: &mut dyn Store,
    means: &Means<'_>,
    deliveries: &[Delivery],
    unmatched: Vec<String>,
) -> Result<Ended, Failure> {
    let Means { more, listener, stop } = *means;
    let began = Instant::now();
    let began_at = clock::now();
    let entries = if store.has_ledger()? { entries(store, deliveries)? } else { Vec::new() };
    let decisions = if entries.is_empty() { Vec::new() } else { store.decisions()? };
    let known = Known::of(entries).decided(decisions);
    let (mut pending, mut known_count) = (Vec::new(), 0);
    for delivery in deliveries {
        let (old, new): (Vec<_>, Vec<_>) = delivery
            .files
            .iter()
            .partition(|f| !delivery.again && known.is_known(&f.seen.arrival, &delivery.feed.table));
        known_count += old.len() as u64;
        hypodoke_places::dismiss(old.iter().map(|file| &file.seen));
        if !new.is_empty() {
            pending.push(Pending { feed: &delivery.feed, old, new, again: delivery.again });
        }
    }
    hypodoke_places::expect(pending.iter().flat_map(|pending| &pending.new).map(|file| &file.seen));
    let away = Away::default();
    let mut batch = Batch {
        store,
        more,
        known,
        listener,
        stop,
        away: &away,
        number: 0,
        lines: Vec::new(),
        conflicts: Vec::new(),
        again: false,
    };
    let mut number = None;
    let broken_off = if pending.is_empty() {
        None
    } else {
        batch.load(&pending, began_at, &mut number).err().map(Failure::from)
    };
    pending.iter().flat_map(|pending| &pending.new).for_each(|file| file.seen.release());
    let receipt = Receipt {
        version: RECEIPT_VERSION,
        batch: number,
        database: batch.store.shown(),
        began_at: rfc3339(began_at),
        seconds: began.elapsed().as_secs_f64(),
        totals: Receipt::total(&batch.lines),
        files: batch.lines,
        known: known_count,
        unmatched,
        conflicts: batch.conflicts,
        waiting: Vec::new(),
    };
    Ok(Ended { receipt, broken_off, away: away.troubles() })
}

/// What the ledger has to say of these files. Of few files it is asked for what may be them; what
/// is usual is known by all that came before.
fn entries(store: &mut dyn Store, deliveries: &[Delivery]) -> Result<Vec<FileEntry>, StoreError> {
    let arrivals: Vec<&Arrival> =
        deliveries.iter().flat_map(|delivery| &delivery.files).map(|file| &file.seen.arrival).collect();
    let by_all = deliveries.iter().any(|delivery| delivery.feed.expect.usual_rows.is_some());
    if arrivals.len() > FEW || by_all { store.loaded_files() } else { store.files_like(&arrivals) }
}

/// A moment as RFC 3339 has it, to the second.
pub fn rfc3339(micros: i64) -> String {
    let moment = jiff::Timestamp::from_microsecond(micros).unwrap_or_default();
    moment.round(jiff::Unit::Second).unwrap_or(moment).to_string()
}

/// A feed with the files that are to be loaded, and those that were before.
struct Pending<'a> {
    feed: &'a Feed,
    old: Vec<&'a Candidate>,
    new: Vec<&'a Candidate>,
    /// They are loaded whatever the ledger knows of them.
    again: bool,
}

/// What a look at a file gave, where it was looked at already.
type Look = Option<Result<Looked, Failure>>;

struct Batch<'a> {
    store: &'a mut dyn Store,
    more: Option<&'a Connections<'a>>,
    known: Known,
    listener: &'a dyn Listener,
    stop: &'a Stop,
    away: &'a Away,
    number: i64,
    lines: Vec<ReceiptLine>,
    conflicts: Vec<Conflict>,
    /// Files are loaded whatever the ledger knows of them.
    again: bool,
}

impl Batch<'_> {
    fn load(&mut self, pending: &[Pending<'_>], at: i64, number: &mut Option<i64>) -> Result<(), StoreError> {
        self.number = patiently(self.store, |store| {
            store.open_ledger()?;
            store.begin_batch(at)
        })?;
        *number = Some(self.number);
        let files = pending.iter().map(|pending| pending.new.len()).sum();
        let bytes = pending.iter().flat_map(|p| &p.new).map(|f| f.seen.arrival.bytes).sum();
        self.listener.on(Event::BatchBegan { files, bytes, step: Step::Loading });
        match self.more.filter(|more| more.most > 1 && pending.len() > 1) {
            Some(more) => self.load_side_by_side(pending, more)?,
            None => {
                for one in pending {
                    if self.stop.is_wanted() {
                        break;
                    }
                    self.load_delivery(one)?;
                }
            }
        }
        self.listener.on(Event::BatchEnded);
        let number = self.number;
        patiently(self.store, |store| store.end_batch(number, clock::now()))
    }

    fn load_delivery(&mut self, pending: &Pending<'_>) -> Result<(), StoreError> {
        let Pending { feed, old, new, again } = pending;
        self.again = *again;
        let mut ground = patiently(self.store, |store| Ground::of(store, feed))?;
        let mut looks: Vec<Look> = if ground.is_new() {
            self.first_sight(feed, new, &mut ground)?
        } else {
            new.iter().map(|_| None).collect()
        };
        let shared =
            self.more.filter(|more| more.most > 1 && feed.mode == Mode::Append && new.len() >= WORTH_SHARING);
        if let Some(more) = shared {
            return self.load_shared(feed, new, looks, ground, more);
        }
        for turn in turns(feed, old, new) {
            if self.stop.is_wanted() {
                break;
            }
            let files = match &turn {
                Turn::Single(at) => std::slice::from_ref(at),
                Turn::Together { files, .. } => files,
            };
            // A delivery is not begun without all of its files.
            if files.iter().filter(|at| self.away.leaves(new[**at])).count() > 0 {
                continue;
            }
            match turn {
                Turn::Single(at) if feed.mode == Mode::Replace => {
                    let look = looks[at].take();
                    let late = overtaken(new[at], old).filter(|_| !self.is_waived(feed, new[at]));
                    let line = match late {
                        Some(newer) => self.hold_late(feed, new[at], newer)?,
                        // A file loaded again takes its own rows out, and nobody else's.
                        None => self.load_one(feed, new[at], &mut ground, look, !self.again)?,
                    };
                    self.lines.push(line);
                }
                Turn::Single(at) => {
                    let look = looks[at].take();
                    let line = self.load_one(feed, new[at], &mut ground, look, false)?;
                    self.lines.push(line);
                }
                Turn::Together { files, continues } => {
                    let of_other = |file: &&&Candidate| {
                        !continues || !files.iter().any(|at| same_delivery(feed, new[*at], file))
                    };
                    let others: Vec<&Candidate> = old.iter().filter(of_other).copied().collect();
                    let late = files.iter().find_map(|at| overtaken(new[*at], &others));
                    let waived = files.iter().all(|at| self.is_waived(feed, new[*at]));
                    if let Some(newer) = late.filter(|_| !waived) {
                        for at in files {
                            let line = self.hold_late(feed, new[at], newer)?;
                            self.lines.push(line);
                        }
                        continue;
                    }
                    let mut taken: Vec<(usize, Look)> =
                        files.into_iter().map(|at| (at, looks[at].take())).collect();
                    self.load_together(feed, new, &mut taken, &mut ground, continues || self.again)?;
                }
            }
        }
        Ok(())
    }

    /// Whether somebody has decided that a file is loaded whatever is the matter.
    fn is_waived(&self, feed: &Feed, file: &Candidate) -> bool {
        self.known.decision(&file.seen.arrival, &feed.table).is_some_and(|decision| decision.load_anyway)
    }

    /// A delivery that comes after a newer one is not to take its place unseen.
    fn hold_late(
        &mut self,
        feed: &Feed,
        file: &Candidate,
        newer: &Candidate,
    ) -> Result<ReceiptLine, StoreError> {
        let why = format!(
            "it is older than {}, whose rows the table holds, and would take their place",
            newer.shown
        );
        let hold = Hold { why, ways: vec![WayOut::LoadAnyway, WayOut::Discard] };
        self.close(
            feed,
            file,
            Err(Trouble::Held(Box::new(HeldFile { holds: vec![hold], ..HeldFile::default() }))),
            (Instant::now(), clock::now()),
        )
    }

    /// The files of one delivery: all of them are kept, or none. What passes is waited for, and the
    /// whole of it begun again.
    fn load_together(
        &mut self,
        feed: &Feed,
        files: &[&Candidate],
        taken: &mut Vec<(usize, Look)>,
        ground: &mut Ground,
        continues: bool,
    ) -> Result<(), StoreError> {
        let before = (ground.clone(), self.known.clone());
        let first = self.lines.len();
        let places: Vec<usize> = taken.iter().map(|(at, _)| *at).collect();
        let mut patience = Patience::new();
        let (failed, differences) = loop {
            let error = match self.load_all(feed, files, taken, ground, continues) {
                Err(error) if patience.has_more(&error) => error,
                ended => break ended?,
            };
            // What was learnt of its files was taken back with them.
            let undone = self.store.end_delivery(false);
            self.lines.truncate(first);
            (*ground, self.known) = before.clone();
            *taken = places.iter().map(|at| (*at, None)).collect();
            patience.wait(&error);
            if matches!(error, StoreError::Lost { .. }) || undone.is_err() {
                patience.reconnect(self.store)?;
            }
            patiently(self.store, |store| ground.read_again(store, feed))?;
        };
        if failed {
            (*ground, self.known) = before;
            for line in &mut self.lines[first..] {
                if line.outcome == Outcome::Loaded {
                    let what = "not loaded: another file of the same delivery failed or is held";
                    *line = ReceiptLine {
                        path: line.path.clone(),
                        feed: line.feed.clone(),
                        table: line.table.clone(),
                        bytes: line.bytes,
                        outcome: Outcome::Failed,
                        message: Some(what.to_owned()),
                        ..ReceiptLine::default()
                    };
                }
            }
            let lines = self.lines[first..].to_vec();
            for ((line, drift), at) in lines.iter().zip(&differences).zip(places) {
                self.note(line, feed, files[at], clock::now(), drift)?;
            }
        }
        Ok(())
    }

    /// Loads the files of a delivery in one transaction, which is kept if none of them failed: whether
    /// one did, and how they differ from their tables.
    fn load_all(
        &mut self,
        feed: &Feed,
        files: &[&Candidate],
        taken: &mut Vec<(usize, Look)>,
        ground: &mut Ground,
        continues: bool,
    ) -> Result<(bool, Vec<Differs>), StoreError> {
        self.store.begin_delivery()?;
        let mut failed = false;
        let mut differences = Vec::new();
        let mut empties = !continues;
        for (at, look) in taken.drain(..) {
            let began = Instant::now();
            let file = files[at];
            let result = match look {
                Some(Err(failure)) => Err(Trouble::File(failure)),
                look => self.load_file(feed, file, ground, look.and_then(Result::ok), empties),
            };
            let (mut line, drift) = self.or_failed(result, feed, file)?;
            line.seconds = began.elapsed().as_secs_f64();
            differences.push(drift);
            failed |= matches!(line.outcome, Outcome::Failed | Outcome::Held);
            empties &= line.outcome != Outcome::Loaded;
            self.lines.push(line);
        }
        self.store.end_delivery(!failed)?;
        Ok((failed, differences))
    }
}
