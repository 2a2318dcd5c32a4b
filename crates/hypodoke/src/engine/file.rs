//! One file: how it fits its table, and its load.
//!
//! A file whose table is known is cast optimistically as it is read, once. Only a surprise (a
//! value that the column's type does not hold, a column nobody has seen) undoes that load and
//! sends the file back for evidence.

use hypodoke_core::cast::{Caster, Source as CellSource, Target};
use hypodoke_core::event::{Event, Listener, Step};
use hypodoke_core::layout::{Column, Format, Layout, rule_for};
use hypodoke_core::names::match_key;
use hypodoke_core::reconcile::{Change, Fit, reconcile};
use hypodoke_core::spelling::NullSet;
use hypodoke_core::types::{Domain, Type};
use hypodoke_stores::{FileSummary, LoadPlan, Store, StoreError, TableShape};

use super::look::{Looked, Way, look};
use super::pour::{Poured, Stop, pour};
use super::source::Source;
use super::{Candidate, Feed, clock};
use crate::failure::Failure;
use crate::render::count;

/// What the table was before the file.
pub enum Base {
    /// It is not there: the layout it will get.
    New {
        /// The layout, joined of all files at hand.
        layout: Layout,
    },
    /// A load made it.
    Ours {
        /// Its layout.
        layout: Layout,
        /// The table as it is.
        shape: TableShape,
    },
    /// Somebody else made it: it is filled as it is, and not changed.
    Foreign(TableShape),
}

/// What keeps a file from being loaded.
pub enum Trouble {
    /// The file, or how it fits.
    File(Failure),
    /// The database.
    Store(StoreError),
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
}

/// A file that was loaded.
pub struct Loaded {
    /// Its number in the ledger.
    pub number: i64,
    /// How many rows went where.
    pub poured: Poured,
    /// The file in a few words.
    pub kind: String,
    /// The hash of its content.
    pub hash: String,
    /// How the table changed.
    pub changes: Vec<Change>,
    /// Lines after the table that were left out.
    pub footer: Vec<String>,
    /// What else there is to say.
    pub message: Option<String>,
}

/// How a file is to go in.
pub struct Approach {
    /// How it fits.
    pub fit: Fit,
    /// For each column of the layout, how the file writes it and what its numbers carry.
    pub formats: Vec<(Format, Domain)>,
    /// The first surprise undoes the load.
    watchful: bool,
    lineage: bool,
}

impl FileLoad<'_> {
    /// Loads the file; `None` if another process did so meanwhile.
    pub fn run(mut self, base: &mut Base, looked: Option<Looked>) -> Result<Option<Loaded>, Trouble> {
        let bytes = self.file.seen.arrival.bytes;
        let approach = match (&*base, looked) {
            (Base::New { layout } | Base::Ours { layout, .. }, Some(looked)) => {
                informed(layout, &looked.layout)
            }
            (Base::Ours { layout, .. }, None) => match self.optimistic(layout)? {
                Some(approach) => approach,
                None => informed(layout, &self.look()?.layout),
            },
            (Base::Foreign(shape), _) => self.foreign(shape)?,
            (Base::New { layout }, None) => informed(layout, &self.look()?.layout),
        };
        let approach = Approach { lineage: base.lineage(), ..approach };
        self.check_width(&approach)?;
        self.listener.on(Event::FileBegan { path: self.file.shown.clone(), step: Step::Loading, bytes });
        match self.attempt(base, approach)? {
            Attempt::Done(loaded) => Ok(loaded),
            Attempt::Surprised => {
                let looked = self.look()?;
                let Base::Ours { layout, .. } = &*base else {
                    return Err(Trouble::File(Failure::load(format!(
                        "{}: does not fit its own layout",
                        self.file.shown
                    ))));
                };
                let approach = Approach { lineage: base.lineage(), ..informed(layout, &looked.layout) };
                match self.attempt(base, approach)? {
                    Attempt::Done(loaded) => Ok(loaded),
                    Attempt::Surprised => Ok(None),
                }
            }
        }
    }

    fn check_width(&self, approach: &Approach) -> Result<(), Trouble> {
        let (most, wanted) = (self.store.most_columns(), approach.fit.layout.columns.len());
        if wanted + 2 * usize::from(approach.lineage) <= most {
            return Ok(());
        }
        let (wanted, most) = (count::number(wanted as u64), count::number(most as u64));
        let message = format!(
            "{}: {wanted} columns; a table of {} holds {most}, lineage columns included",
            self.file.shown,
            self.store.shown()
        );
        let advice = "check the delimiter (--delimiter), or ask for the file in parts";
        Err(Trouble::File(Failure::load(message).advise(advice)))
    }

    fn look(&self) -> Result<Looked, Trouble> {
        look(self.file, self.feed, Way::alone(), self.listener).map_err(Trouble::File)
    }

    fn header(&self) -> Result<Layout, Trouble> {
        let source = Source::open(self.file, self.feed, false, &hypodoke_core::event::Silent)
            .map_err(Trouble::File)?;
        Ok(Layout::named(&source.header, &self.feed.namer, &self.feed.rules))
    }

    /// The way of a file that has no column but those known; `None` if it has.
    fn optimistic(&self, layout: &Layout) -> Result<Option<Approach>, Trouble> {
        let fit = reconcile(layout, &self.header()?);
        if fit.alters() {
            return Ok(None);
        }
        let formats = layout.columns.iter().map(|column| (column.format, column.domain)).collect();
        Ok(Some(Approach { fit, formats, watchful: true, lineage: true }))
    }

    /// The way of a file into a table that somebody else made.
    fn foreign(&self, shape: &TableShape) -> Result<Approach, Trouble> {
        let looked = self.look()?.layout;
        let matched = |column: &Column| {
            let key = match_key(&column.name);
            shape
                .columns
                .iter()
                .find(|c| c.name == column.name)
                .or_else(|| shape.columns.iter().find(|c| match_key(&c.name) == key))
        };
        let (found, strange): (Vec<_>, Vec<_>) =
            looked.columns.iter().enumerate().partition(|(_, c)| matched(c).is_some());
        let lacking: Vec<&str> = shape
            .columns
            .iter()
            .filter(|c| {
                c.required
                    && !c.filled
                    && !found.iter().any(|(_, f)| matched(f).is_some_and(|m| m.name == c.name))
            })
            .map(|c| c.name.as_str())
            .collect();
        if !strange.is_empty() || !lacking.is_empty() {
            let strange: Vec<&str> = strange.iter().map(|(_, c)| c.name.as_str()).collect();
            return Err(Trouble::File(mismatch(self.file, shape, &strange, &lacking)));
        }
        let mut fit = Fit { layout: Layout::default(), sources: Vec::new(), changes: Vec::new() };
        let mut formats = Vec::new();
        for (at, column) in found {
            let Some(target) = matched(column) else { continue };
            let ty = if target.ty == Type::Unknown { Type::Text } else { target.ty };
            fit.layout.columns.push(Column { name: target.name.clone(), pinned: Some(ty), ..column.clone() });
            fit.sources.push(Some(at));
            formats.push((column.format, column.domain));
        }
        Ok(Approach { fit, formats, watchful: false, lineage: shape.lineage })
    }

    fn attempt(&mut self, base: &mut Base, approach: Approach) -> Result<Attempt, Trouble> {
        let Approach { fit, formats, watchful, lineage } = approach;
        let mut source = Source::open(self.file, self.feed, true, self.listener).map_err(Trouble::File)?;
        let fields = source.reader.shape().names.len();
        let caster = Caster::new(targets(self.file, self.feed, &fit, &formats, fields), fields);
        let plan = LoadPlan {
            batch: self.batch,
            arrival: self.file.seen.arrival.clone(),
            feed: self.feed.name.clone(),
            table: self.feed.table.clone(),
            layout: fit.layout.clone(),
            changes: fit.changes.clone(),
            lineage,
            replaces: self.replaces,
            kind: source.kind(),
            keeps_layout: !matches!(base, Base::Foreign(_)),
            began: self.began,
        };
        let Some(mut loader) = self.store.begin_load(&plan).map_err(Trouble::Store)? else {
            return Ok(Attempt::Done(None));
        };
        let poured =
            match pour(&mut source.reader, caster, loader.as_mut(), watchful, self.file.seen.arrival.bytes) {
                Ok(poured) => poured,
                Err(Stop::Surprise) => return Ok(Attempt::Surprised),
                Err(Stop::Read(error)) => {
                    return Err(Trouble::File(Failure::reading(&self.file.shown, &error)));
                }
                Err(Stop::Store(error)) => return Err(Trouble::Store(error)),
            };
        let hash = source.meter.finish().map_err(|error| Trouble::File(error.into()))?.0;
        let layout = with_digits(fit.layout, &poured);
        let summary = FileSummary {
            hash: hash.clone(),
            read: poured.read,
            loaded: poured.loaded,
            rejected: poured.rejected,
            left_out: 0,
            message: left_behind(&source.reader.shape().footer),
            layout: layout.clone(),
            ended: clock::now(),
        };
        let number = loader.finish(&summary).map_err(Trouble::Store)?;
        let kind = source.kind();
        let changes = plan.changes;
        self.adopt(base, layout)?;
        let footer = source.reader.shape().footer.clone();
        let message = summary.message;
        Ok(Attempt::Done(Some(Loaded { number, poured, kind, hash, changes, footer, message })))
    }

    /// The table is ours from now on, with this layout.
    fn adopt(&mut self, base: &mut Base, layout: Layout) -> Result<(), Trouble> {
        match base {
            Base::Foreign(_) => {}
            Base::Ours { layout: kept, .. } => *kept = layout,
            Base::New { .. } => {
                if let Some(shape) = self.store.table(&self.feed.table).map_err(Trouble::Store)? {
                    *base = Base::Ours { layout, shape };
                }
            }
        }
        Ok(())
    }
}

/// What is to become of each column of the layout.
pub fn targets(
    file: &Candidate,
    feed: &Feed,
    fit: &Fit,
    formats: &[(Format, Domain)],
    fields: usize,
) -> Vec<Target> {
    let target = |(at, column): (usize, &Column)| {
        let ty = column.ty();
        let (format, domain) = formats[at];
        // Whether a word is a null follows from the table's type alone, so that it does not
        // depend on which file came first.
        let nulls = if ty == Type::Text { NullSet::ALWAYS } else { NullSet::ALL };
        Target {
            source_name: column.source.clone(),
            ty,
            unit: Target::unit_of(domain),
            source: match fit.sources[at] {
                Some(field) if field < fields => CellSource::Field(field),
                Some(part) => file
                    .parts
                    .get(part - fields)
                    .map_or(CellSource::Nothing, |(_, value)| CellSource::Constant(value.clone())),
                None => CellSource::Nothing,
            },
            format: Format { nulls, ..format },
            also_null: rule_for(&feed.rules, &column.source)
                .map_or_else(Vec::new, |rule| rule.also_null.clone()),
            pinned: column.pinned.is_some(),
        }
    };
    fit.layout.columns.iter().enumerate().map(target).collect()
}

enum Attempt {
    Done(Option<Loaded>),
    Surprised,
}

impl Base {
    /// Whether the table has, or will have, lineage columns.
    pub fn lineage(&self) -> bool {
        match self {
            Base::New { .. } => true,
            Base::Ours { shape, .. } | Base::Foreign(shape) => shape.lineage,
        }
    }
}

/// The way of a file whose evidence is in.
pub fn informed(table: &Layout, file: &Layout) -> Approach {
    let fit = reconcile(table, file);
    let format = |(column, source): (&Column, &Option<usize>)| match source {
        Some(at) => (file.columns[*at].format, file.columns[*at].domain),
        None => (column.format, column.domain),
    };
    let formats = fit.layout.columns.iter().zip(&fit.sources).map(format).collect();
    Approach { fit, formats, watchful: false, lineage: true }
}

/// What is said of the lines after the table, so that the ledger accounts for them too.
fn left_behind(footer: &[String]) -> Option<String> {
    let first = footer.first()?;
    let lines = count::of(footer.len() as u64, "line", "lines");
    Some(format!("{lines} after the table left out: {first}"))
}

/// The layout with the digits that were met: what evidence would have said of them.
fn with_digits(mut layout: Layout, poured: &Poured) -> Layout {
    for (column, met) in layout.columns.iter_mut().zip(&poured.digits) {
        if let Domain::Number(digits) = &mut column.domain
            && column.pinned.is_none()
        {
            let met = hypodoke_core::types::Digits { unit: digits.unit, scale: digits.scale, ..*met };
            *digits = digits.join(met);
        }
    }
    layout
}

fn mismatch(file: &Candidate, shape: &TableShape, strange: &[&str], lacking: &[&str]) -> Failure {
    let list = |names: &[&str]| names.iter().map(|n| format!("`{n}`")).collect::<Vec<_>>().join(", ");
    let mut parts = Vec::new();
    if !strange.is_empty() {
        parts.push(format!("the table has no {}", list(strange)));
    }
    if !lacking.is_empty() {
        parts.push(format!("the file has no {}, which the table requires", list(lacking)));
    }
    let message = format!("{} does not fit the table `{}`: {}", file.shown, shape.name, parts.join("; "));
    Failure::load(message)
        .advise("load into another table with --table, or name the columns alike in the feed")
}
