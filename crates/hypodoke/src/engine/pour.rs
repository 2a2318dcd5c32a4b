//! Pouring one file into the store: reading, casting and sending, each on a thread of its
//! own, over batches that go round and are filled again.

use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use hypodoke_core::cast::{Caster, Rows};
use hypodoke_core::types::Digits;
use hypodoke_formats::ReadError;
use hypodoke_formats::text::TextReader;
use hypodoke_stores::{Loader, StoreError};

/// How many batches go round: one being read, cast and sent each, and one waiting.
const BATCHES: usize = 4;

/// Files smaller than this are poured on one thread, which is quicker than starting two.
const SMALL: u64 = 1 << 20;

/// What was poured.
#[derive(Clone, Debug, Default)]
pub struct Poured {
    /// Records read.
    pub read: u64,
    /// Rows loaded.
    pub loaded: u64,
    /// Rows rejected.
    pub rejected: u64,
    /// The digits that the numbers of each column needed.
    pub digits: Vec<Digits>,
}

/// Why pouring stopped.
#[derive(Debug)]
pub enum Stop {
    /// The file could not be read to its end.
    Read(ReadError),
    /// The database did not take it.
    Store(StoreError),
    /// A value does not fit a type that might be widened: evidence is wanted first.
    Surprise,
}

/// Pours the records of a file. With `watchful`, the first surprise stops it.
pub fn pour(
    reader: &mut TextReader<'_>,
    caster: Caster,
    loader: &mut dyn Loader,
    watchful: bool,
    bytes: u64,
) -> Result<Poured, Stop> {
    if bytes < SMALL {
        pour_here(reader, caster, loader, watchful)
    } else {
        pour_overlapped(reader, caster, loader, watchful)
    }
}

fn pour_here(
    reader: &mut TextReader<'_>,
    mut caster: Caster,
    loader: &mut dyn Loader,
    watchful: bool,
) -> Result<Poured, Stop> {
    let mut poured = Poured::default();
    let mut rows = Rows::default();
    while reader.next(&mut rows.records).map_err(Stop::Read)? {
        caster.cast(&mut rows);
        if watchful && caster.surprises() > 0 {
            return Err(Stop::Surprise);
        }
        send(&mut rows, loader, &mut poured)?;
    }
    poured.digits = caster.digits().to_vec();
    Ok(poured)
}

fn send(rows: &mut Rows, loader: &mut dyn Loader, poured: &mut Poured) -> Result<(), Stop> {
    poured.read += rows.records.len() as u64;
    poured.loaded += loader.rows(rows).map_err(Stop::Store)?;
    poured.rejected += rows.rejects.len() as u64;
    Ok(())
}

fn pour_overlapped(
    reader: &mut TextReader<'_>,
    mut caster: Caster,
    loader: &mut dyn Loader,
    watchful: bool,
) -> Result<Poured, Stop> {
    let (empty_in, empty_out) = sync_channel::<Rows>(BATCHES);
    let (read_in, read_out) = sync_channel::<Result<Rows, ReadError>>(1);
    let (cast_in, cast_out) = sync_channel::<Result<Rows, Stop>>(1);
    for _ in 0..BATCHES {
        // The channel holds as many as there are.
        let _ = empty_in.send(Rows::default());
    }
    std::thread::scope(|scope| {
        scope.spawn(move || read_all(reader, &empty_out, &read_in));
        let casting = scope.spawn(move || {
            cast_all(&mut caster, &read_out, &cast_in, watchful);
            caster
        });
        let poured = send_all(&cast_out, &empty_in, loader);
        // Whoever still waits to hand something over is let go.
        drop((cast_out, empty_in));
        let caster = casting.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        poured.map(|poured| Poured { digits: caster.digits().to_vec(), ..poured })
    })
}

fn read_all(reader: &mut TextReader<'_>, empty: &Receiver<Rows>, out: &SyncSender<Result<Rows, ReadError>>) {
    while let Ok(mut rows) = empty.recv() {
        let message = match reader.next(&mut rows.records) {
            Ok(true) => Ok(rows),
            Ok(false) => return,
            Err(error) => Err(error),
        };
        let failed = message.is_err();
        if out.send(message).is_err() || failed {
            return;
        }
    }
}

fn cast_all(
    caster: &mut Caster,
    read: &Receiver<Result<Rows, ReadError>>,
    out: &SyncSender<Result<Rows, Stop>>,
    watchful: bool,
) {
    while let Ok(message) = read.recv() {
        let message = match message {
            Ok(mut rows) => {
                caster.cast(&mut rows);
                if watchful && caster.surprises() > 0 { Err(Stop::Surprise) } else { Ok(rows) }
            }
            Err(error) => Err(Stop::Read(error)),
        };
        let failed = message.is_err();
        if out.send(message).is_err() || failed {
            return;
        }
    }
}

fn send_all(
    cast: &Receiver<Result<Rows, Stop>>,
    empty: &SyncSender<Rows>,
    loader: &mut dyn Loader,
) -> Result<Poured, Stop> {
    let mut poured = Poured::default();
    while let Ok(message) = cast.recv() {
        let mut rows = message?;
        send(&mut rows, loader, &mut poured)?;
        // The reader may be at its end already.
        let _ = empty.send(rows);
    }
    Ok(poured)
}
