//! One file: how it fits its tables, and its load.
//!
//! A file whose tables are known is cast optimistically as it is read, once. Only a surprise (a
//! value that the column's type does not hold, a column nobody has seen) undoes that load and
//! sends the file back for evidence.

mod facts;
mod fit;
mod venture;

use hypodoke_core::drift::{Drift, Hold};
use hypodoke_core::event::{Event, Listener, Step};
use hypodoke_core::layout::Layout;
use hypodoke_core::types::{Digits, Domain, Type};
use hypodoke_stores::{Counts, FileSummary, Finished, LoadPlan, PartSummary, Store, StoreError};

use super::approach::TableApproach;
use super::ground::Ground;
use super::look::{self, Looked, look};
use super::pour::{Funnel, Poured, Stop, pour};
use super::prior::Prior;
use super::receipt::PartLine;
use super::source::Source;
use super::{Candidate, Feed, clock, sums};
use crate::failure::Failure;
use crate::render::count;
pub use facts::as_sent;
use fit::written_of;
pub use venture::LARGE;
use venture::{Hearing, Ventured, with_all_values};

/// What keeps a file from being loaded.
pub enum Trouble {
    /// The file, or how it fits.
    File(Failure),
    /// A person has to decide first.
    Held(Box<HeldFile>),
    /// The database.
    Store(StoreError),
}

impl From<StoreError> for Trouble {
    fn from(error: StoreError) -> Trouble {
        Trouble::Store(error)
    }
}

impl From<Failure> for Trouble {
    fn from(failure: Failure) -> Trouble {
        Trouble::File(failure)
    }
}

/// A file that is held: why, and how it differs from its tables.
#[derive(Clone, Debug, Default)]
pub struct HeldFile {
    /// Why, with the ways out.
    pub holds: Vec<Hold>,
    /// How it differs, by the names of its tables.
    pub drift: Vec<(String, Drift)>,
    /// The file in a few words.
    pub kind: Option<String>,
    /// Records read, where all of it was.
    pub read: u64,
}

/// One file to load.
pub struct FileLoad<'a> {
    /// Where to.
    pub store: &'a mut dyn Store,
    /// Its feed.
    pub feed: &'a Feed,
    /// The file.
    pub file: &'a Candidate,
    /// Its batch.
    pub batch: i64,
    /// The entry whose rows these replace.
    pub replaces: Option<i64>,
    /// Who is told.
    pub listener: &'a dyn Listener,
    /// When it was begun.
    pub began: i64,
    /// It is the first file of a delivery.
    pub first_of_delivery: bool,
    /// What there is to say of it before it is read.
    pub said: Vec<String>,
    /// How many records the files before had, for what is usual.
    pub before: &'a [u64],
    /// The sums of all columns of numbers are wanted.
    pub sum_all: bool,
    /// The names that columns were matched with by their place, where they were.
    pub by_place: Option<Vec<String>>,
}

/// A file that was loaded.
pub struct Loaded {
    /// Its number in the ledger.
    pub number: i64,
    /// Records read, what is nested in them not counted.
    pub read: u64,
    /// Rows loaded of them.
    pub loaded: u64,
    /// Rows rejected of them.
    pub rejected: u64,
    /// Rows left out by rule.
    pub left_out: u64,
    /// What became of the rows in their tables.
    pub counts: Counts,
    /// What went to its other tables.
    pub parts: Vec<PartLine>,
    /// The file in a few words.
    pub kind: String,
    /// The hash of its content.
    pub hash: String,
    /// How it differs from its tables, with what was done about it.
    pub drift: Vec<Drift>,
    /// Lines after the table that were left out.
    pub footer: Vec<String>,
    /// What else there is to say.
    pub notes: Vec<String>,
    /// The sums of the main table's columns, where they were asked for.
    pub sums: Vec<(String, Type, i128)>,
}

/// How a file is poured.
#[derive(Clone, Copy)]
enum Manner<'h> {
    /// By what the table is: the first surprise undoes it.
    Watchful,
    /// By what its beginning shows, until it is known what all of it holds.
    Ventured(&'h Hearing),
    /// By what was found of its values.
    Informed,
    /// The same, in small lots, since the database refused some row.
    Careful,
}

enum Attempt {
    Done(Box<Option<Loaded>>),
    Surprised,
}

impl<'a> FileLoad<'a> {
    /// Loads the file; `None` if another process did so meanwhile.
    pub fn run(mut self, ground: &mut Ground, looked: Option<Looked>) -> Result<Option<Loaded>, Trouble> {
        let bytes = self.file.seen.arrival.bytes;
        let mut looked = looked;
        if looked.is_none() {
            match self.venture(ground)? {
                Ventured::Loaded(loaded) => return Ok(*loaded),
                Ventured::Undone(found) => looked = Some(*found),
                Ventured::Not => {}
            }
        }
        if looked.is_none() {
            let source = self.open(&ground.heads(self.file))?;
            if let Some(mut approach) = self.optimistic(ground, &source)? {
                self.check_width(&approach)?;
                approach[0].drift.extend(self.written_drift(ground, &written_of(&source)));
                let path = self.file.shown.clone();
                self.listener.on(Event::FileBegan { path, step: Step::Loading, bytes });
                match self.attempt(ground, &approach, source, Manner::Watchful) {
                    Ok(Attempt::Done(loaded)) => return Ok(*loaded),
                    // A look at the values tells more than the database does.
                    Ok(Attempt::Surprised) | Err(Trouble::Store(StoreError::RowRefused { .. })) => {}
                    Err(trouble) => return Err(trouble),
                }
            }
        }
        let mut looked = match looked {
            Some(looked) => looked,
            None => self.look(ground)?,
        };
        if ground.awaits_layout() {
            ground.expect(self.store, self.feed, std::iter::once(&looked))?;
        }
        self.know_parts(&mut looked);
        let approach = self.informed(ground, &mut looked)?;
        self.check_width(&approach)?;
        self.listener.on(Event::FileBegan { path: self.file.shown.clone(), step: Step::Loading, bytes });
        let heads: Vec<_> = approach.iter().map(|table| table.head.clone()).collect();
        let source = match Source::again(self.file, &mut looked) {
            Some(source) => source,
            None => self.open(&heads)?,
        };
        let mut done = self.attempt(ground, &approach, source, Manner::Informed);
        if let Err(Trouble::Store(StoreError::RowRefused { .. })) = &done {
            // Some row is one that the database will not have: which one, shows in small lots.
            let source = self.open(&heads)?;
            done = self.attempt(ground, &approach, source, Manner::Careful);
        }
        match done? {
            Attempt::Done(loaded) => Ok(*loaded),
            Attempt::Surprised => {
                let what = format!("{}: it changed while it was read", self.file.shown);
                Err(Failure::load(what).advise("load it again once it is whole").into())
            }
        }
    }

    fn open(&self, known: &[hypodoke_formats::TableHead]) -> Result<Source<'a>, Failure> {
        Source::open(self.file, self.feed, true, known, self.listener)
    }

    fn look(&self, ground: &Ground) -> Result<Looked, Failure> {
        let lists = ground.heads(self.file).into_iter().filter(|head| head.is_child).map(|head| head.path);
        let prior = Prior::of(ground).with_lists(lists);
        look(self.file, self.feed, look::Way::before_load(), &prior, self.listener)
    }

    fn check_width(&self, approach: &[TableApproach]) -> Result<(), Failure> {
        let most = self.store.most_columns();
        let width = |table: &TableApproach| table.fit.layout.columns.len() + table.lineage.columns().len();
        let Some(wide) = approach.iter().find(|table| !table.is_virtual && width(table) > most) else {
            return Ok(());
        };
        let wanted = count::number(wide.fit.layout.columns.len() as u64);
        let message = format!(
            "{}: {wanted} columns; a table of {} holds {}, lineage columns included",
            self.file.shown,
            self.store.shown(),
            count::number(most as u64)
        );
        let advice = "check the delimiter (--delimiter), keep objects as they are (--nested json), or ask for the file in parts";
        Err(Failure::load(message).advise(advice))
    }

    fn attempt(
        &mut self,
        ground: &mut Ground,
        approach: &[TableApproach],
        mut source: Source<'_>,
        manner: Manner<'_>,
    ) -> Result<Attempt, Trouble> {
        let mut written = written_of(&source);
        if let Some(names) = &self.by_place {
            (written.names, written.by_place) = (names.clone(), true);
        }
        let main = &approach[0];
        written.formats = approach.iter().flat_map(TableApproach::spellings).collect();
        let summed: Vec<usize> = if self.sum_all {
            let columns = main.fit.layout.columns.iter().enumerate();
            columns.filter(|(_, column)| sums::scale_of(column.ty()).is_some()).map(|(at, _)| at).collect()
        } else {
            facts::summed(self.feed, main).into_iter().flatten().collect()
        };
        let plan = LoadPlan {
            batch: self.batch,
            arrival: self.file.seen.arrival.clone(),
            feed: self.feed.name.clone(),
            tables: approach.iter().map(|table| table.plan(self.feed.mode)).collect(),
            shape: serde_json::to_string(&written).ok(),
            mends: None,
            retracts: false,
            replaces: self.replaces,
            kind: source.kind(),
            began: self.began,
            first_of_delivery: self.first_of_delivery,
            sql_before: self.feed.sql_before.clone(),
            sql_after: self.feed.sql_after.clone(),
            careful: matches!(manner, Manner::Careful),
        };
        let Some(mut loader) = self.store.begin_load(&plan)? else {
            return Ok(Attempt::Done(Box::new(None)));
        };
        let rows_at: Vec<Option<String>> = (0..approach.len()).map(|at| source.reader.rows_at(at)).collect();
        let place = |table: usize, line: u64, offset: Option<u64>| {
            place_of(rows_at.get(table).and_then(Option::as_deref), line, offset)
        };
        let funnel = Funnel {
            casters: approach
                .iter()
                .map(|table| table.caster(self.file, self.feed))
                .collect::<Result<_, _>>()?,
            sums: vec![summed.clone()],
            heads: approach.iter().map(|table| table.head.clone()).collect(),
            watchful: matches!(manner, Manner::Watchful | Manner::Ventured(_)),
            is_lost: &|| matches!(manner, Manner::Ventured(hearing) if hearing.is_refuted()),
            place: &place,
        };
        let bytes = self.file.seen.arrival.bytes;
        let poured = match pour(source.reader.as_mut(), funnel, loader.as_mut(), bytes) {
            Ok(poured) => poured,
            Err(Stop::Surprise) => return Ok(Attempt::Surprised),
            Err(Stop::Read(error)) => return Err(Failure::reading(&self.file.shown, &error).into()),
            Err(Stop::Store(error)) => return Err(Trouble::Store(error)),
        };
        let all_values = match manner {
            Manner::Ventured(hearing) => match hearing.confirmed() {
                Some(layout) => Some(layout),
                None => return Ok(Attempt::Surprised),
            },
            _ => None,
        };
        let layout_of = |table: &TableApproach| {
            let layout = table.fit.layout.clone();
            all_values.as_ref().map_or(layout.clone(), |all| with_all_values(layout, all))
        };
        let hash = source.hash()?;
        let footer = source.reader.footer();
        let mut notes: Vec<String> = self.said.iter().cloned().chain(source.notes()).collect();
        notes.extend(approach.iter().flat_map(|table| table.open.iter().cloned()));
        notes.extend(left_behind(&footer));
        let (read, loaded) = records_of(approach, &poured);
        if !self.sum_all {
            let asked = (self.file, self.feed, self.before);
            notes.extend(facts::expected(asked, approach, &poured, read, &footer, source.kind())?);
        }
        let kept_out: u64 = poured.tables.iter().map(|table| table.left_out).sum();
        let summary = FileSummary {
            hash: hash.clone(),
            read,
            loaded,
            rejected: poured.rejected,
            left_out: kept_out,
            message: (!notes.is_empty()).then(|| notes.join("\n")),
            parts: approach
                .iter()
                .zip(&poured.tables)
                .map(|(table, figures)| PartSummary {
                    read: figures.read,
                    loaded: figures.loaded,
                    layout: with_digits(layout_of(table), &figures.digits),
                })
                .collect(),
            ended: clock::now(),
            mended: Vec::new(),
        };
        let Finished { file: number, counts } = loader.finish(&summary)?;
        let loaded = loaded - counts.left_out.min(loaded);
        notes.extend(counts.note());
        adopt(ground, approach, &summary);
        ground.last = Some(written);
        let parts = parts_of(approach, &poured);
        let totals = poured.tables.first().map(|main| main.sums.clone()).unwrap_or_default();
        let sum = |(at, sum): (usize, i128)| {
            let column = &approach[0].fit.layout.columns[at];
            (column.name.clone(), column.ty(), sum)
        };
        let sums = summed.into_iter().zip(totals).map(sum).collect();
        let drift = approach.iter().flat_map(|table| table.drift.iter().cloned()).collect();
        let (kind, rejected) = (source.kind(), poured.rejected);
        let left_out = kept_out + counts.left_out;
        let loaded = Loaded {
            number,
            read,
            loaded,
            rejected,
            left_out,
            counts,
            parts,
            kind,
            hash,
            drift,
            footer,
            notes,
            sums,
        };
        Ok(Attempt::Done(Box::new(Some(loaded))))
    }
}

/// Records read and loaded, children not counted: they are parts of records.
fn records_of(approach: &[TableApproach], poured: &Poured) -> (u64, u64) {
    let own = approach.iter().zip(&poured.tables).filter(|(table, _)| !table.head.is_child);
    own.fold((0, 0), |(read, loaded), (_, figures)| (read + figures.read, loaded + figures.loaded))
}

fn parts_of(approach: &[TableApproach], poured: &Poured) -> Vec<PartLine> {
    let parts = approach.iter().zip(&poured.tables).skip(1);
    parts
        .map(|(table, figures)| PartLine {
            table: table.table.clone(),
            path: table.head.path.clone(),
            rows_read: figures.read,
            rows_loaded: figures.loaded,
        })
        .collect()
}

/// The tables are known from now on, with the layouts that the file left them.
fn adopt(ground: &mut Ground, approach: &[TableApproach], summary: &FileSummary) {
    for (at, (table, part)) in approach.iter().zip(&summary.parts).enumerate() {
        if at == 0 {
            ground.main.adopt(part.layout.clone(), table.lineage);
        } else if let Some((_, base)) =
            ground.parts.iter_mut().find(|(known, _)| known.path == table.head.path)
        {
            base.adopt(part.layout.clone(), table.lineage);
        }
    }
}

/// Where a reject stands, in words of its format.
fn place_of(rows_at: Option<&str>, line: u64, offset: Option<u64>) -> Option<String> {
    let byte = offset.map(|byte| format!("byte {byte}"));
    match (rows_at, byte) {
        (Some(path), Some(byte)) => {
            let path = match path.strip_suffix("[*]") {
                Some(list) => format!("{list}[{}]", line.saturating_sub(1)),
                None => format!("{path}, record {line}"),
            };
            Some(format!("{path}, {byte}"))
        }
        (Some(sheet), None) => Some(format!("{sheet}, row {line}")),
        (None, byte) => byte,
    }
}

/// What is said of the lines after the table, so that the ledger accounts for them too.
fn left_behind(footer: &[String]) -> Option<String> {
    let first = footer.first()?;
    let lines = count::of(footer.len() as u64, "line", "lines");
    Some(format!("{lines} after the table left out: {first}"))
}

/// The layout with the digits that were met: what evidence would have said of them.
fn with_digits(mut layout: Layout, digits: &[Digits]) -> Layout {
    for (column, met) in layout.columns.iter_mut().zip(digits) {
        if let Domain::Number(digits) = &mut column.domain
            && column.pinned.is_none()
        {
            *digits = digits.join(*met);
        }
    }
    layout
}
