//! Pouring one file into the store: reading, casting and sending, each on a thread of its
//! own, over batches that go round and are filled again.

use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use hypodoke_core::cast::{Caster, Rows, Unmet, settle};
use hypodoke_core::record::Records;
use hypodoke_core::types::Digits;
use hypodoke_formats::{ReadError, RecordReader, TableHead};
use hypodoke_stores::{Loader, StoreError};

use super::sums;

/// How many batches go round: one being read, cast and sent each, and one waiting.
const BATCHES: usize = 4;

/// Files smaller than this are poured on one thread, which is quicker than starting two.
const SMALL: u64 = 1 << 20;

/// What was poured into one table.
#[derive(Clone, Debug, Default)]
pub struct PouredTable {
    /// Records read.
    pub read: u64,
    /// Rows loaded.
    pub loaded: u64,
    /// The digits that the numbers of each column needed.
    pub digits: Vec<Digits>,
    /// The sums asked for, of the rows loaded.
    pub sums: Vec<i128>,
    /// Records that the feed does not keep.
    pub left_out: u64,
    /// What values did not meet in rows that were loaded all the same.
    pub unmet: Vec<Unmet>,
}

/// What was poured.
#[derive(Clone, Debug, Default)]
pub struct Poured {
    /// Per table.
    pub tables: Vec<PouredTable>,
    /// Records rejected.
    pub rejected: u64,
}

/// Why pouring stopped.
#[derive(Debug)]
pub enum Stop {
    /// The file could not be read to its end.
    Read(ReadError),
    /// The database did not take it.
    Store(StoreError),
    /// A value does not fit a type that might be widened, or a column or list came that nobody
    /// has seen: evidence is wanted first.
    Surprise,
}

/// What a file is poured through.
pub struct Funnel<'a> {
    /// Casts the records of each table.
    pub casters: Vec<Caster>,
    /// The tables as far as they are known: more than these are a surprise.
    pub heads: Vec<TableHead>,
    /// For each table, the columns whose sums are wanted.
    pub sums: Vec<Vec<usize>>,
    /// The first surprise stops it.
    pub watchful: bool,
    /// Whether it is known by now to be in vain.
    pub is_lost: &'a (dyn Fn() -> bool + Sync),
    /// Says where in the file a reject stands: its table, record number and byte.
    pub place: &'a (dyn Fn(usize, u64, Option<u64>) -> Option<String> + Sync),
}

/// A batch on its way: what was read of each table, and the rows made of it.
#[derive(Default)]
struct Parcel {
    records: Vec<Records>,
    rows: Vec<Rows>,
    /// For each table, the columns whose sums are wanted.
    sums: Vec<Vec<usize>>,
    /// A table or column came that was not known.
    strange: bool,
}

impl Parcel {
    fn fill(&mut self, reader: &mut dyn RecordReader, heads: &[TableHead]) -> Result<bool, ReadError> {
        // The buffers of the last round come back to be filled again.
        for (records, rows) in self.records.iter_mut().zip(&mut self.rows) {
            std::mem::swap(records, &mut rows.records);
        }
        let more = reader.next(&mut self.records)?;
        let tables = reader.tables();
        self.strange = tables.len() > heads.len()
            || tables.iter().zip(heads).any(|(now, known)| now.names.len() > known.names.len());
        Ok(more)
    }

    fn cast(&mut self, funnel: &mut Funnel<'_>) -> Result<(), Stop> {
        if self.strange {
            return Err(Stop::Surprise);
        }
        self.rows.resize_with(self.records.len(), Rows::default);
        if self.sums.len() != funnel.sums.len() {
            self.sums.clone_from(&funnel.sums);
        }
        for ((caster, rows), records) in funnel.casters.iter_mut().zip(&mut self.rows).zip(&mut self.records)
        {
            std::mem::swap(&mut rows.records, records);
            caster.cast(rows);
        }
        if (funnel.watchful && funnel.casters.iter().any(|caster| caster.surprises() > 0))
            || (funnel.is_lost)()
        {
            return Err(Stop::Surprise);
        }
        if self.rows.len() > 1 {
            let paths: Vec<String> = funnel.heads.iter().map(|head| head.path.clone()).collect();
            settle(&mut self.rows, &paths);
        }
        for (table, rows) in self.rows.iter_mut().enumerate() {
            for reject in &mut rows.rejects {
                let offset = rows.records.offset_of(reject.record as usize);
                reject.place = (funnel.place)(table, reject.line, offset);
            }
        }
        Ok(())
    }

    fn send(&mut self, loader: &mut dyn Loader, poured: &mut Poured) -> Result<(), Stop> {
        poured.tables.resize_with(self.rows.len().max(poured.tables.len()), PouredTable::default);
        for at in 0..self.rows.len() {
            let rows = &mut self.rows[at];
            let figures = &mut poured.tables[at];
            figures.read += rows.records.len() as u64;
            let rejects = rows.rejects.len();
            figures.loaded += loader.rows(at, rows).map_err(Stop::Store)?;
            if let Some(columns) = self.sums.get(at).filter(|columns| !columns.is_empty()) {
                figures.sums.resize(columns.len(), 0);
                sums::add(rows, columns, &mut figures.sums);
            }
            poured.rejected += rows.rejects.len() as u64;
            if at == 0 && rows.rejects.len() > rejects && self.rows.len() > 1 {
                self.drop_refused(rejects);
            }
        }
        Ok(())
    }

    /// What the database refused of the main table takes its children with it.
    fn drop_refused(&mut self, before: usize) {
        let (main, children) = self.rows.split_at_mut(1);
        let refused: Vec<u32> = main[0].rejects[before..].iter().map(|reject| reject.record).collect();
        for rows in children {
            let Rows { kept, records, .. } = rows;
            let owner = |at: &u32| records.links().get(*at as usize).map(|link| link.owner);
            kept.retain(|at| owner(at).is_none_or(|owner| !refused.contains(&owner)));
        }
    }
}

/// Pours the records of a file.
pub fn pour(
    reader: &mut dyn RecordReader,
    funnel: Funnel<'_>,
    loader: &mut dyn Loader,
    bytes: u64,
) -> Result<Poured, Stop> {
    if bytes < SMALL { pour_here(reader, funnel, loader) } else { pour_overlapped(reader, funnel, loader) }
}

fn pour_here(
    reader: &mut dyn RecordReader,
    mut funnel: Funnel<'_>,
    loader: &mut dyn Loader,
) -> Result<Poured, Stop> {
    let mut poured = Poured::default();
    let mut parcel = Parcel::default();
    while parcel.fill(reader, &funnel.heads).map_err(Stop::Read)? {
        parcel.cast(&mut funnel)?;
        parcel.send(loader, &mut poured)?;
    }
    if parcel.strange {
        return Err(Stop::Surprise);
    }
    Ok(with_findings(poured, &funnel.casters))
}

fn with_findings(mut poured: Poured, casters: &[Caster]) -> Poured {
    poured.tables.resize_with(casters.len().max(poured.tables.len()), PouredTable::default);
    for (table, caster) in poured.tables.iter_mut().zip(casters) {
        table.digits = caster.digits();
        table.left_out = caster.left_out();
        table.unmet = caster.unmet().to_vec();
    }
    poured
}

fn pour_overlapped(
    reader: &mut dyn RecordReader,
    mut funnel: Funnel<'_>,
    loader: &mut dyn Loader,
) -> Result<Poured, Stop> {
    let (empty_in, empty_out) = sync_channel::<Parcel>(BATCHES);
    let (read_in, read_out) = sync_channel::<Result<Parcel, Stop>>(1);
    let (cast_in, cast_out) = sync_channel::<Result<Parcel, Stop>>(1);
    for _ in 0..BATCHES {
        // The channel holds as many as there are.
        let _ = empty_in.send(Parcel::default());
    }
    let heads = funnel.heads.clone();
    std::thread::scope(|scope| {
        scope.spawn(move || read_all(reader, &heads, &empty_out, &read_in));
        let casting = scope.spawn(move || {
            cast_all(&mut funnel, &read_out, &cast_in);
            funnel.casters
        });
        let poured = send_all(&cast_out, &empty_in, loader);
        // Whoever still waits to hand something over is let go.
        drop((cast_out, empty_in));
        let casters = casting.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        poured.map(|poured| with_findings(poured, &casters))
    })
}

fn read_all(
    reader: &mut dyn RecordReader,
    heads: &[TableHead],
    empty: &Receiver<Parcel>,
    out: &SyncSender<Result<Parcel, Stop>>,
) {
    while let Ok(mut parcel) = empty.recv() {
        let message = match parcel.fill(reader, heads) {
            Ok(true) => Ok(parcel),
            // Keys that were only ever null come to light at the end.
            Ok(false) if parcel.strange => Err(Stop::Surprise),
            Ok(false) => return,
            Err(error) => Err(Stop::Read(error)),
        };
        let failed = message.is_err();
        if out.send(message).is_err() || failed {
            return;
        }
    }
}

fn cast_all(
    funnel: &mut Funnel<'_>,
    read: &Receiver<Result<Parcel, Stop>>,
    out: &SyncSender<Result<Parcel, Stop>>,
) {
    while let Ok(message) = read.recv() {
        let message = message.and_then(|mut parcel| parcel.cast(funnel).map(|()| parcel));
        let failed = message.is_err();
        if out.send(message).is_err() || failed {
            return;
        }
    }
}

fn send_all(
    cast: &Receiver<Result<Parcel, Stop>>,
    empty: &SyncSender<Parcel>,
    loader: &mut dyn Loader,
) -> Result<Poured, Stop> {
    let mut poured = Poured::default();
    while let Ok(message) = cast.recv() {
        let mut parcel = message?;
        parcel.send(loader, &mut poured)?;
        // The reader may be at its end already.
        let _ = empty.send(parcel);
    }
    Ok(poured)
}
