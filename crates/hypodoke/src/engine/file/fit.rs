//! How a file fits its tables, or why it is held.

use hypodoke_core::drift::{Action, Change, Drift, Hold, NewColumn, Policy, RenamedColumn, WayOut, judge};
use hypodoke_core::evidence::Habit;
use hypodoke_core::layout::{Column, Layout};
use hypodoke_core::names::Lineage;
use hypodoke_formats::{Shape, TableHead};

use super::{FileLoad, HeldFile, Trouble};
use crate::engine::approach::TableApproach;
use crate::engine::differ::{self, Written, columns_changed_places};
use crate::engine::ground::{Base, Ground};
use crate::engine::look::{Looked, LookedTable, is_virtual};
use crate::engine::source::{Source, header};
use crate::failure::Failure;

impl FileLoad<'_> {
    /// How the file is written otherwise than the one before it.
    pub(super) fn written_drift(&self, ground: &Ground, now: &Written) -> Vec<Drift> {
        ground.last.as_ref().map(|last| now.drift_from(last)).unwrap_or_default()
    }

    /// Sheets and lists that the feed says have new names bear the names they are known by.
    pub(super) fn know_parts(&self, looked: &mut Looked) {
        for (new, known) in &self.feed.part_names {
            for table in looked.tables.iter_mut().skip(1).filter(|table| table.head.path == *new) {
                table.head.path.clone_from(known);
            }
            let main = &mut looked.tables[0].layout;
            for part in main.parts.iter_mut().filter(|part| part.path == *new) {
                part.path.clone_from(known);
            }
        }
    }

    /// The way of a file that has no table and no column but those known, and is written like the
    /// one before it; `None` if its values have to be looked at first.
    pub(super) fn optimistic(
        &self,
        ground: &Ground,
        source: &Source<'_>,
    ) -> Result<Option<Vec<TableApproach>>, Trouble> {
        let Base::Ours { layout: main, .. } = &ground.main else { return Ok(None) };
        if let Some(last) = &ground.last {
            let now = written_of(source);
            let policy = &self.feed.policy;
            if !now.holds_after(last, policy).is_empty() || now.goes_by_place(last, policy) {
                return Ok(None);
            }
        }
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
            match TableApproach::optimistic(table, head, layout, &named, self.feed, *lineage) {
                Some(mut approach) => {
                    approach.find_key(self.file, self.feed)?;
                    all.push(approach);
                }
                None => return Ok(None),
            }
        }
        Ok(Some(all))
    }

    /// The way of a file whose evidence is in; or why it is held.
    pub(super) fn informed(
        &mut self,
        ground: &mut Ground,
        looked: &mut Looked,
    ) -> Result<Vec<TableApproach>, Trouble> {
        let now = Written::of(&looked.shape, looked.encoding, &looked.heads());
        let mut held = HeldFile { kind: Some(looked.kind.clone()), ..HeldFile::default() };
        let mut drift = self.written_drift(ground, &now);
        if let Some(last) = ground.last.clone() {
            let last = &last;
            held.holds = now.holds_after(last, &self.feed.policy);
            if !held.holds.is_empty() {
                // Without its names nothing more can be said of its columns.
                held.drift = drift.into_iter().map(|drift| (self.feed.table.clone(), drift)).collect();
                return Err(Trouble::Held(Box::new(held)));
            }
            if now.goes_by_place(last, &self.feed.policy) {
                self.name_by_place(ground, last, looked)?;
            }
        }
        let mut all: Vec<TableApproach> = Vec::new();
        for (at, table) in looked.tables.iter().enumerate() {
            let (name, base) = if at == 0 {
                (self.feed.table.clone(), &ground.main)
            } else {
                self.note_new_part(ground, looked, at, &mut drift, &mut held.holds);
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
                Base::New { layout } => self.first(name, table, layout, lineage, &looked.shape),
                Base::Ours { layout, .. } => {
                    let layout = layout.clone();
                    self.judged(name, table, &layout, lineage, &looked.shape, &mut held.holds)?
                }
                Base::Foreign(shape) => {
                    TableApproach::foreign(self.file, &table.head, shape, &table.layout, self.feed)?
                }
            };
            approach.open = left_open(table, base);
            approach.find_key(self.file, self.feed)?;
            all.push(approach);
        }
        held.holds.extend(columns_changed_places(&all[0].drift, &now, &self.feed.policy));
        all[0].drift.splice(0..0, drift);
        if !held.holds.is_empty() {
            let of_table = |table: TableApproach| {
                let name = table.table;
                table.drift.into_iter().map(move |drift| (name.clone(), undone(drift)))
            };
            held.drift = all.into_iter().flat_map(of_table).collect();
            return Err(Trouble::Held(Box::new(held)));
        }
        // The names that parts got here are those that the main layout tells.
        for part in &mut all[0].fit.layout.parts {
            if let Some((known, _)) = ground.parts.iter().find(|(known, _)| known.path == part.path) {
                part.table.clone_from(&known.table);
            }
        }
        Ok(all)
    }

    /// A table that is made for the files at hand: what this one lacks of the others is told.
    fn first(
        &self,
        name: String,
        table: &LookedTable,
        base: &Layout,
        lineage: Lineage,
        shape: &Shape,
    ) -> TableApproach {
        let policy = Policy { ignore: self.feed.policy_of(&table.head.path).ignore, ..Policy::default() };
        let judged = judge(base, &table.layout, &policy, &[]);
        let mut approach = TableApproach::informed(name, &table.head, judged, &table.layout, lineage);
        approach.fit.changes.clear();
        let is_missing = |drift: &Drift| matches!(drift.change, Change::Missing { .. });
        approach.drift.retain(|drift| is_missing(drift) && !matches!(shape, Shape::Json(_)));
        approach
    }

    /// A table that is there: the feed's policy says what becomes of what differs.
    fn judged(
        &mut self,
        name: String,
        table: &LookedTable,
        base: &Layout,
        lineage: Lineage,
        shape: &Shape,
        holds: &mut Vec<Hold>,
    ) -> Result<TableApproach, Trouble> {
        let mut policy = self.feed.policy_of(&table.head.path);
        let names_its_columns = !matches!(shape, Shape::Json(_));
        if !names_its_columns {
            // A key that no record of the file has is nothing to tell of: JSON names no columns.
            policy.missing_column = Default::default();
        }
        let mut renames = match policy.renamed_column {
            RenamedColumn::Apart => Vec::new(),
            _ => differ::renames(self.store, &name, base, table, &policy)?,
        };
        let mut file = table.layout.clone();
        if policy.renamed_column == RenamedColumn::Follow {
            for rename in renames.drain(..) {
                file.columns[rename.new].name.clone_from(&base.columns[rename.gone].name);
            }
        }
        let mut judged = judge(base, &file, &policy, &renames);
        if !names_its_columns {
            judged.drift.retain(|drift| !matches!(drift.change, Change::Missing { .. }));
        }
        holds.append(&mut judged.holds);
        Ok(TableApproach::informed(name, &table.head, judged, &file, lineage))
    }

    /// A sheet or a nested list that the tables know nothing of.
    fn note_new_part(
        &self,
        ground: &Ground,
        looked: &Looked,
        at: usize,
        drift: &mut Vec<Drift>,
        holds: &mut Vec<Hold>,
    ) {
        let table = &looked.tables[at];
        let path = &table.head.path;
        let Base::Ours { layout: main, .. } = &ground.main else { return };
        if ground.parts.iter().any(|(part, _)| part.path == *path) {
            return;
        }
        let change = Change::Part { column: path.clone(), to: self.feed.table_of(path) };
        let was_object = main.columns.iter().any(|column| column.source.starts_with(&format!("{path}.")));
        let like = ground.parts.iter().find(|(known, base)| {
            !looked.tables.iter().any(|table| table.head.path == known.path)
                && base.layout().is_some_and(|known| alike(known, &table.layout))
        });
        let policy = &self.feed.policy;
        let why = match like {
            Some((known, _)) if policy.renamed_column == RenamedColumn::Hold && !table.head.is_child => {
                holds.push(Hold {
                    why: format!(
                        "`{}` is gone and `{path}` is new, with the same columns: probably a rename",
                        known.path
                    ),
                    ways: vec![WayOut::Rename(known.path.clone(), path.clone()), WayOut::LoadAnyway],
                });
                drift.push(Drift { change, action: Action::Held });
                return;
            }
            _ if was_object => {
                format!("`{path}` was an object until now and is a list here, which takes a table of its own")
            }
            _ => format!("`{path}` is new in it, and takes a table of its own"),
        };
        if policy.new_column == NewColumn::Hold {
            holds.push(Hold { why, ways: vec![WayOut::LoadAnyway] });
            drift.push(Drift { change, action: Action::Held });
        } else {
            drift.push(Drift { change, action: Action::Added });
        }
    }

    /// Gives the columns of a file whose header is gone, or has appeared, the names that columns
    /// at their places had in the file before.
    fn name_by_place(&mut self, ground: &Ground, last: &Written, looked: &mut Looked) -> Result<(), Failure> {
        let parts: Vec<String> = Vec::new();
        let before = header(&TableHead { names: last.names.clone(), ..TableHead::default() }, &parts);
        let table = &mut looked.tables[0];
        let found = table.head.names.len();
        if before.len() != found {
            let what = format!(
                "{}: {found} columns, where the file before had {}: they cannot be matched by their place",
                self.file.shown,
                before.len()
            );
            return Err(Failure::load(what).advise("ask for the file with its header"));
        }
        let Some(base) = ground.main.layout() else { return Ok(()) };
        let named = Layout::named(&before, &self.feed.namer, &self.feed.rules);
        for (column, known) in table.layout.columns.iter_mut().zip(named.columns) {
            if let Some(at) = base.find(&known.name) {
                column.name.clone_from(&base.columns[at].name);
                column.source.clone_from(&known.source);
            }
        }
        self.by_place = Some(last.names.clone());
        Ok(())
    }
}

/// How a file that is open is written.
pub(super) fn written_of(source: &Source<'_>) -> Written {
    let encoding = source.reader.encoding().map(|encoding| encoding.name());
    Written::of(&source.reader.shape(), encoding, source.reader.tables())
}

/// What a file that is held would have changed was not changed.
pub(super) fn undone(drift: Drift) -> Drift {
    match drift.action {
        Action::Held => drift,
        _ => Drift { action: Action::Noted, ..drift },
    }
}

/// What a table's values leave open and nothing tells that was there before.
fn left_open(table: &LookedTable, base: &Base) -> Vec<String> {
    let before = match base {
        Base::Ours { layout, .. } => layout.columns.as_slice(),
        Base::New { .. } | Base::Foreign(_) => &[],
    };
    let is_known = |column: &Column| {
        let known = before.iter().find(|known| known.name == column.name);
        known.is_some_and(|known| Habit::of(known.domain, known.format) != Habit::default())
    };
    let columns = table.layout.columns.iter().zip(&table.decisions);
    let open = columns.filter(|(column, _)| !is_known(column));
    open.filter_map(|(column, decision)| {
        decision.ambiguity.map(|open| format!("column `{}`: {open}", column.source))
    })
    .collect()
}

/// Whether two sheets have much the same columns.
fn alike(a: &Layout, b: &Layout) -> bool {
    let common = a.columns.iter().filter(|column| b.find(&column.name).is_some()).count();
    common > 1 && common * 5 >= a.columns.len().max(b.columns.len()) * 4
}
