//! One file: how it fits its tables, and its load.
//!
//! A file whose tables are known is cast optimistically as it is read, once. Only a surprise (a
//! value that the column's type does not hold, a column nobody has seen) undoes that load and
//! sends the file back for evidence.

use hypodoke_core::event::{Event, Listener, Step};
use hypodoke_core::layout::Layout;
use hypodoke_core::reconcile::Change;
use hypodoke_core::types::{Digits, Domain};
use hypodoke_formats::Shape;
use hypodoke_stores::{Counts, FileSummary, Finished, LoadPlan, PartSummary, Store, StoreError};

use super::approach::TableApproach;
use super::ground::{Base, Ground};
use super::look::{Looked, Way, is_virtual, lists_only, look};
use super::pour::{Funnel, Poured, Stop, pour};
use super::receipt::PartLine;
use super::source::Source;
use super::{Candidate, Feed, clock};
use crate::failure::Failure;
use crate::render::count;

/// What keeps a file from being loaded.
pub enum Trouble {
    /// The file, or how it fits.
    File(Failure),
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
    /// How the tables changed.
    pub changes: Vec<Change>,
    /// Lines after the table that were left out.
    pub footer: Vec<String>,
    /// What else there is to say.
    pub notes: Vec<String>,
}

/// How a file is poured.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Manner {
    /// By what the table is: the first surprise undoes it.
    Watchful,
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
        if looked.is_none() {
            let source = self.open(&ground.heads(self.file))?;
            if let Some(approach) = self.optimistic(ground, &source)? {
                self.check_width(&approach)?;
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
        let approach = self.informed(ground, &looked)?;
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
        look(self.file, self.feed, Way::before_load(), &lists_only(lists), self.listener)
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

    /// The way of a file that has no table and no column but those known; `None` if it has.
    fn optimistic(
        &self,
        ground: &Ground,
        source: &Source<'_>,
    ) -> Result<Option<Vec<TableApproach>>, Trouble> {
        let Base::Ours { layout: main, .. } = &ground.main else { return Ok(None) };
        let heads = source.reader.tables();
        let mut all = Vec::new();
        for (at, head) in heads.iter().enumerate() {
            let rules = self.feed.rules_of(&head.path);
            let named = Layout::named(&source.header(at), &self.feed.namer, &rules);
            if at == 0 && is_virtual(heads) {
                let file = Layout { columns: Vec::new(), parts: main.parts.clone() };
                all.push(TableApproach::of_parts_only(self.feed.table.clone(), head, &ground.main, &file));
                continue;
            }
            let (table, base) = if at == 0 {
                (self.feed.table.clone(), &ground.main)
            } else {
                match ground.parts.iter().find(|(part, _)| part.path == head.path) {
                    Some((part, base)) => (part.table.clone(), base),
                    None => return Ok(None),
                }
            };
            let Base::Ours { layout, lineage } = base else { return Ok(None) };
            match TableApproach::optimistic(table, head, layout, &named, *lineage) {
                Some(mut approach) => {
                    approach.find_key(self.file, self.feed)?;
                    all.push(approach);
                }
                None => return Ok(None),
            }
        }
        Ok(Some(all))
    }

    /// The way of a file whose evidence is in.
    fn informed(&mut self, ground: &mut Ground, looked: &Looked) -> Result<Vec<TableApproach>, Trouble> {
        let mut all = Vec::new();
        for (at, table) in looked.tables.iter().enumerate() {
            let (name, base) = if at == 0 {
                (self.feed.table.clone(), &ground.main)
            } else {
                let part = ground.part(self.store, self.feed, table)?;
                let (part, base) = &ground.parts[part];
                (part.table.clone(), base)
            };
            if at == 0 && looked.is_virtual {
                all.push(TableApproach::of_parts_only(name, &table.head, base, &table.layout));
                continue;
            }
            let lineage = base.lineage(table.head.is_child);
            let mut approach = match base {
                Base::New { layout } | Base::Ours { layout, .. } => {
                    TableApproach::informed(name, &table.head, layout, &table.layout, lineage)
                }
                Base::Foreign(shape) => TableApproach::foreign(self.file, &table.head, shape, &table.layout)?,
            };
            if matches!(base, Base::New { .. }) {
                // What the first files lack of a table that is made for them is no change of it.
                approach.fit.changes.retain(|change| matches!(change, Change::Missing { .. }));
            }
            if matches!(looked.shape, Shape::Json(_)) {
                // A key that no record of the file has is nothing to tell of: JSON names no columns.
                approach.fit.changes.retain(|change| !matches!(change, Change::Missing { .. }));
            }
            approach.find_key(self.file, self.feed)?;
            all.push(approach);
        }
        // The names that parts got here are those that the main layout tells.
        for part in &mut all[0].fit.layout.parts {
            if let Some((known, _)) = ground.parts.iter().find(|(known, _)| known.path == part.path) {
                part.table.clone_from(&known.table);
            }
        }
        Ok(all)
    }

    fn attempt(
        &mut self,
        ground: &mut Ground,
        approach: &[TableApproach],
        mut source: Source<'_>,
        manner: Manner,
    ) -> Result<Attempt, Trouble> {
        let plan = LoadPlan {
            batch: self.batch,
            arrival: self.file.seen.arrival.clone(),
            feed: self.feed.name.clone(),
            tables: approach.iter().map(|table| table.plan(self.feed.mode)).collect(),
            replaces: self.replaces,
            kind: source.kind(),
            began: self.began,
            first_of_delivery: self.first_of_delivery,
            sql_before: self.feed.sql_before.clone(),
            sql_after: self.feed.sql_after.clone(),
            careful: manner == Manner::Careful,
        };
        let Some(mut loader) = self.store.begin_load(&plan)? else {
            return Ok(Attempt::Done(Box::new(None)));
        };
        let rows_at: Vec<Option<String>> = (0..approach.len()).map(|at| source.reader.rows_at(at)).collect();
        let place = |table: usize, line: u64, offset: Option<u64>| {
            place_of(rows_at.get(table).and_then(Option::as_deref), line, offset)
        };
        let funnel = Funnel {
            casters: approach.iter().map(|table| table.caster(self.file, self.feed)).collect(),
            heads: approach.iter().map(|table| table.head.clone()).collect(),
            watchful: manner == Manner::Watchful,
            place: &place,
        };
        let bytes = self.file.seen.arrival.bytes;
        let poured = match pour(source.reader.as_mut(), funnel, loader.as_mut(), bytes) {
            Ok(poured) => poured,
            Err(Stop::Surprise) => return Ok(Attempt::Surprised),
            Err(Stop::Read(error)) => return Err(Failure::reading(&self.file.shown, &error).into()),
            Err(Stop::Store(error)) => return Err(Trouble::Store(error)),
        };
        let hash = source.hash()?;
        let footer = source.reader.footer();
        let mut notes: Vec<String> = source.notes();
        notes.extend(left_behind(&footer));
        let (read, loaded) = records_of(approach, &poured);
        let summary = FileSummary {
            hash: hash.clone(),
            read,
            loaded,
            rejected: poured.rejected,
            left_out: 0,
            message: (!notes.is_empty()).then(|| notes.join("\n")),
            parts: approach
                .iter()
                .zip(&poured.tables)
                .map(|(table, figures)| PartSummary {
                    read: figures.read,
                    loaded: figures.loaded,
                    layout: with_digits(table.fit.layout.clone(), &figures.digits),
                    missing: Vec::new(),
                })
                .collect(),
            ended: clock::now(),
        };
        let Finished { file: number, counts } = loader.finish(&summary)?;
        let loaded = loaded - counts.left_out.min(loaded);
        adopt(ground, approach, &summary);
        let parts = parts_of(approach, &poured);
        let changes = approach.iter().flat_map(|table| table.fit.changes.iter().cloned()).collect();
        let (kind, rejected) = (source.kind(), poured.rejected);
        let left_out = counts.left_out;
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
            changes,
            footer,
            notes,
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
            let met = Digits { unit: digits.unit, scale: digits.scale, ..*met };
            *digits = digits.join(met);
        }
    }
    layout
}
