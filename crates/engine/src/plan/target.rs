//! The tables that a feed's files fill, as they were before a file.

use std::collections::VecDeque;

use hypodoke_core::figures::{FileFigures, MOST_FILES};
use hypodoke_core::layout::{Layout, Part};
use hypodoke_core::names::{Lineage, numbered};
use hypodoke_core::outcome::Outcome;
use hypodoke_core::reconcile::join;
use hypodoke_formats::TableHead;
use hypodoke_formats::json::objects_in;
use hypodoke_stores::{FileQuery, StoreError, TableShape, Tables};

use crate::error::EngineError;
use crate::file_format::FileFormat;
use crate::job::{Candidate, Feed};
use crate::profile::{FileProfile, FormatHints, TableProfile};

/// What a table was before the file.
#[derive(Clone, Debug)]
pub enum TableState {
    /// It is not there: the layout it will get.
    New {
        /// The layout, joined of all files at hand.
        layout: Layout,
        /// The version of the layout that the ledger keeps of a table that was there once; else 0.
        version: i64,
    },
    /// A load made it.
    Managed {
        /// Its layout.
        layout: Layout,
        /// The lineage columns it has.
        lineage: Lineage,
        /// The version of its layout in the ledger.
        version: i64,
    },
    /// Somebody else made it: it is filled as it is, and not changed.
    External(TableShape),
}

impl TableState {
    /// What a table is now.
    pub fn of(store: &mut dyn Tables, table: &str) -> Result<TableState, StoreError> {
        let mut kept = store.ledger().layout(table)?;
        let found = store.table(table)?;
        if kept.is_none() && found.is_some() {
            // Another load may have made it between the two questions.
            kept = store.ledger().layout(table)?;
        }
        Ok(match (found, kept) {
            (Some(shape), Some(entry)) => {
                let version = entry.version;
                TableState::Managed { layout: entry.layout, lineage: shape.lineage, version }
            }
            // The layout of a table that only names its parts has no table to it.
            (None, Some(entry)) if entry.layout.columns.is_empty() && !entry.layout.parts.is_empty() => {
                let version = entry.version;
                TableState::Managed { layout: entry.layout, lineage: Lineage::Rows, version }
            }
            (Some(shape), None) => TableState::External(shape),
            (None, kept) => {
                TableState::New { layout: Layout::default(), version: kept.map_or(0, |entry| entry.version) }
            }
        })
    }

    /// The lineage columns that the table has, or will have.
    pub fn lineage(&self, is_child: bool) -> Lineage {
        match self {
            TableState::New { .. } if is_child => Lineage::Children,
            TableState::New { .. } => Lineage::Rows,
            TableState::Managed { lineage, .. } => *lineage,
            TableState::External(shape) => shape.lineage,
        }
    }

    /// Its layout, where there is one to reconcile with.
    pub fn layout(&self) -> Option<&Layout> {
        match self {
            TableState::New { layout, .. } | TableState::Managed { layout, .. } => Some(layout),
            TableState::External(_) => None,
        }
    }

    /// The version of the layout in the ledger; `None` where it keeps none, since somebody else made the
    /// table.
    pub fn version(&self) -> Option<i64> {
        match self {
            TableState::New { version, .. } | TableState::Managed { version, .. } => Some(*version),
            TableState::External(_) => None,
        }
    }

    /// The table is ours from now on, with this layout, which `is_changed` or is as it was.
    pub fn adopt(&mut self, layout: Layout, lineage: Lineage, is_changed: bool) {
        if let Some(before) = self.version() {
            let version = if is_changed || before == 0 { before + 1 } else { before };
            *self = TableState::Managed { layout, lineage, version };
        }
    }
}

/// The tables of a feed.
#[derive(Clone, Debug)]
pub struct TargetState {
    /// The main one.
    pub main: TableState,
    /// Those of sheets and of nested lists.
    pub parts: Vec<(Part, TableState)>,
    /// How the file loaded last is written, where that is known.
    pub last_format: Option<FileFormat>,
    /// The figures of the files loaded last, the newest first.
    pub figures: VecDeque<FileFigures>,
}

impl TargetState {
    /// What a feed's tables are now.
    ///
    /// # Errors
    ///
    /// The database does not answer, or the ledger keeps no format of the file loaded last that can
    /// be read.
    pub fn of(store: &mut dyn Tables, feed: &Feed) -> Result<TargetState, EngineError> {
        let main = TableState::of(store, &feed.table)?;
        let parts = main.layout().map(|layout| layout.parts.clone()).unwrap_or_default();
        let part = |part: Part| TableState::of(store, &part.table).map(|state| (part, state));
        let parts = parts.into_iter().map(part).collect::<Result<_, _>>()?;
        let mut last_format = None;
        if matches!(main, TableState::Managed { .. }) {
            let (table, outcome) = (Some(feed.table.clone()), Some(Outcome::Loaded));
            let query = FileQuery { table, outcome, most: Some(1), ..FileQuery::default() };
            if let Some(entry) = store.ledger().files(&query)?.first() {
                let format = FileFormat::of_entry(entry);
                last_format =
                    format.map_err(|why| EngineError::ledger("format", &entry.arrival.path, why))?;
            }
        }
        Ok(TargetState { main, parts, last_format, figures: figures_before(store, feed)? })
    }

    /// Takes in the figures of a file that is loaded.
    pub fn add_figures(&mut self, figures: FileFigures) {
        self.figures.push_front(figures);
        self.figures.truncate(MOST_FILES);
    }

    /// Reads again what the tables are by now. As long as there is none, what its files were found to
    /// hold stands.
    ///
    /// # Errors
    ///
    /// See [`TargetState::of`].
    pub fn refresh(&mut self, store: &mut dyn Tables, feed: &Feed) -> Result<(), EngineError> {
        let now = TargetState::of(store, feed)?;
        if !(self.is_new() && now.is_new()) {
            *self = now;
        }
        Ok(())
    }

    /// What the tables tell of how files are written that went to them.
    pub fn hints(&self) -> FormatHints {
        let mut hints = FormatHints::default();
        hints.learn("", self.main.layout());
        for (part, state) in &self.parts {
            hints.learn(&part.path, state.layout());
        }
        hints
    }

    /// Whether there is no table yet.
    pub fn is_new(&self) -> bool {
        matches!(self.main, TableState::New { .. })
    }

    /// Whether there is no table yet, nor anything that is known of what its files hold.
    pub fn lacks_layout(&self) -> bool {
        matches!(&self.main, TableState::New { layout, .. } if *layout == Layout::default())
    }

    /// Takes in what files were found to hold, before the first of them is loaded: layouts are
    /// joined, so that the order of the files does not matter.
    pub fn add_profiles<'a>(
        &mut self,
        store: &mut dyn Tables,
        feed: &Feed,
        files: impl Iterator<Item = &'a FileProfile>,
    ) -> Result<(), StoreError> {
        let mut main: Option<Layout> = None;
        for profile in files {
            let layout = &feed.wanted("", profile.layout());
            main = Some(main.map_or_else(|| layout.clone(), |all| join(&all, layout)));
            for table in profile.tables.iter().skip(1) {
                let named = layout.parts.iter().find(|part| part.path == table.head.path);
                let Some(part) = named else { continue };
                match self.parts.iter_mut().find(|(known, _)| known.path == part.path) {
                    Some((_, TableState::New { layout, .. })) => {
                        *layout = join(layout, &feed.wanted(&part.path, &table.layout))
                    }
                    Some(_) => {}
                    None => {
                        let base = match TableState::of(store, &part.table)? {
                            TableState::New { version, .. } => {
                                let layout = feed.wanted(&part.path, &table.layout);
                                TableState::New { layout, version }
                            }
                            there => there,
                        };
                        self.parts.push((part.clone(), base));
                    }
                }
            }
        }
        if let (TableState::New { layout, .. }, Some(main)) = (&mut self.main, main) {
            *layout = main;
        }
        Ok(())
    }

    /// The table of a part of a file, taken in if it is new.
    pub fn part(
        &mut self,
        store: &mut dyn Tables,
        feed: &Feed,
        table: &TableProfile,
    ) -> Result<usize, StoreError> {
        if let Some(at) = self.parts.iter().position(|(part, _)| part.path == table.head.path) {
            return Ok(at);
        }
        let base = feed.table_of(&table.head.path);
        let taken = |name: &str| {
            feed.table.eq_ignore_ascii_case(name)
                || self.parts.iter().any(|(part, _)| part.table.eq_ignore_ascii_case(name))
        };
        let others = (2..).map(|number| numbered(&base, number));
        let name = std::iter::once(base.clone()).chain(others).find(|name| !taken(name)).unwrap_or(base);
        let found = match TableState::of(store, &name)? {
            TableState::New { version, .. } => {
                TableState::New { layout: feed.wanted(&table.head.path, &table.layout), version }
            }
            there => there,
        };
        self.parts.push((Part { path: table.head.path.clone(), table: name }, found));
        Ok(self.parts.len() - 1)
    }

    /// The tables as a reader may know them beforehand: the names that files have for columns.
    pub fn known_heads(&self, file: &Candidate, feed: &Feed) -> Vec<TableHead> {
        let is_part = |name: &str| file.parts.iter().any(|(part, _)| part.name == name);
        let head = |path: &str, base: &TableState, is_child: bool| {
            let columns = base.layout().map(|layout| layout.columns.as_slice()).unwrap_or_default();
            let own = columns
                .iter()
                .filter(|column| is_child && !feed.appends_children || !is_part(&column.source));
            let names: Vec<String> = own.map(|column| column.source.clone()).collect();
            let objects = if is_child { Vec::new() } else { objects_in(&names) };
            let width =
                self.last_format.as_ref().filter(|_| path.is_empty()).map_or(0, |last| last.names.len());
            TableHead { path: path.to_owned(), names, is_child, objects, width, ..TableHead::default() }
        };
        let main = head("", &self.main, false);
        let parts = self.parts.iter();
        std::iter::once(main)
            .chain(parts.map(|(part, base)| head(&part.path, base, base.lineage(true) == Lineage::Children)))
            .collect()
    }
}

/// The figures of the files before, where anybody looks at them. What cannot be read is of a later version.
fn figures_before(store: &mut dyn Tables, feed: &Feed) -> Result<VecDeque<FileFigures>, StoreError> {
    if !feed.looks_at_values() || !store.ledger().has_ledger()? {
        return Ok(VecDeque::new());
    }
    let texts = store.ledger().figures(&feed.table, MOST_FILES)?;
    Ok(texts.iter().filter_map(|text| serde_json::from_str(text).ok()).collect())
}
