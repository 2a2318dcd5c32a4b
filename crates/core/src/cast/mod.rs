//! Casting: records become typed rows, exactly or not at all.
//!
//! A [`Caster`] is made for one file and one table. It works column by column over a batch,
//! allocates nothing for a value that fits, and makes a reject of every record that holds
//! one that does not.

mod cell;
mod extras;
mod family;
mod limit;
mod measure;
pub mod packed;
mod reason;
mod rejected_keys;
mod target;
mod typed;
mod unique;
mod value;

pub use cell::{Misfitting, Reject, RejectedRow, Rows};
pub use family::settle;
pub use limit::Limit;
pub use measure::{Condition, Demand, Literal, Test};
pub use reason::Reason;
pub use rejected_keys::note_rejected;
pub use target::{Source, Target};

use crate::figures::{ColumnFigures, ColumnSummary};
use crate::layout::Format;
use crate::pattern::PartValue;
pub use crate::record::Cell;
use crate::record::{Field, Origin, Records};
use crate::types::{Digits, Type};
use unique::Once;
use value::SeenValues;

/// One value that would not do.
#[derive(Clone, Debug)]
struct Misfit {
    record: u32,
    column: usize,
    reason: Reason,
}

/// An expectation that values of a file do not meet, and that does not keep them from being loaded.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Unmet {
    /// The column, by its name in the file.
    pub column: String,
    /// What was not met.
    pub what: String,
    /// How many rows did not.
    pub rows: u64,
    /// The line of the first.
    pub line: u64,
}

/// Casts the records of one file for one table.
#[derive(Debug)]
pub struct Caster {
    targets: Vec<Target>,
    /// How many fields a record of the file has.
    fields: usize,
    /// Per column, what was met: it keeps the layout true without evidence.
    met: Vec<SeenValues>,
    surprises: u64,
    misfits: Vec<Misfit>,
    bad: Vec<bool>,
    conditions: Vec<Condition>,
    left_out: u64,
    /// Per column that takes each value once, those met.
    once: Vec<Option<Once>>,
    unmet: Vec<Unmet>,
    /// Texts may hold NUL bytes.
    takes_nul: bool,
    /// Per column, what the values of rows to load come to; empty where that is not wanted.
    figures: Vec<ColumnFigures>,
}

impl Caster {
    /// A caster for records of so many fields.
    pub fn new(targets: Vec<Target>, fields: usize) -> Caster {
        let met = vec![SeenValues::default(); targets.len()];
        let once = targets.iter().map(|target| target.demand.unique.then(Once::default)).collect();
        Caster {
            targets,
            fields,
            met,
            surprises: 0,
            misfits: Vec::new(),
            bad: Vec::new(),
            conditions: Vec::new(),
            left_out: 0,
            once,
            unmet: Vec::new(),
            takes_nul: false,
            figures: Vec::new(),
        }
    }

    /// The same, taking figures of each column on the way.
    pub fn with_figures(mut self) -> Caster {
        self.figures = vec![ColumnFigures::default(); self.targets.len()];
        self
    }

    /// The same, keeping only records that meet all these.
    pub fn keeping(mut self, conditions: Vec<Condition>) -> Caster {
        self.conditions = conditions;
        self
    }

    /// The same for a database whose texts may hold NUL bytes, if it `takes_nul`.
    pub fn with_nul(mut self, takes_nul: bool) -> Caster {
        self.takes_nul = takes_nul;
        self
    }

    /// How many columns its rows have.
    pub fn width(&self) -> usize {
        self.targets.len()
    }

    /// Another caster for other records of the same file, to work beside this one; `None` where what is made
    /// of a record depends on those before it.
    pub fn fork(&self) -> Option<Caster> {
        let is_ordered = |target: &Target| target.demand.unique || target.ty == Type::Boolean;
        if self.targets.iter().any(is_ordered) {
            return None;
        }
        let mut caster = Caster::new(self.targets.clone(), self.fields).with_nul(self.takes_nul);
        if !self.figures.is_empty() {
            caster = caster.with_figures();
        }
        Some(caster.keeping(self.conditions.clone()))
    }

    /// Takes in what such a caster found.
    pub fn merge(&mut self, other: Caster) {
        self.surprises += other.surprises;
        self.left_out += other.left_out;
        self.met.iter_mut().zip(&other.met).for_each(|(met, other)| met.merge(other));
        self.figures.iter_mut().zip(&other.figures).for_each(|(figures, other)| figures.merge(other));
        for unmet in other.unmet {
            let is_same = |known: &&mut Unmet| known.column == unmet.column && known.what == unmet.what;
            match self.unmet.iter_mut().find(is_same) {
                Some(known) => {
                    known.rows += unmet.rows;
                    known.line = known.line.min(unmet.line);
                }
                None => self.unmet.push(unmet),
            }
        }
    }

    /// The columns whose numbers lost digits, since the user says so, and how many did.
    pub fn rounded(&self) -> Vec<(String, u64)> {
        let columns = self.targets.iter().zip(&self.met).filter(|(_, met)| met.rounded > 0);
        columns.map(|(target, met)| (target.source_name.clone(), met.rounded)).collect()
    }

    /// For each column that comes from the file, what its values come to; `None` for the others, and where
    /// that was not wanted.
    pub fn figures(&self) -> Vec<Option<ColumnSummary>> {
        let of = |(target, figures): (&Target, &ColumnFigures)| {
            matches!(target.source, Source::Field(_)).then(|| figures.summary())
        };
        self.targets.iter().zip(&self.figures).map(of).collect()
    }

    /// How many records were left out so far.
    pub fn left_out(&self) -> u64 {
        self.left_out
    }

    /// What values did not meet in rows that are loaded all the same.
    pub fn unmet(&self) -> &[Unmet] {
        &self.unmet
    }

    /// Values met that evidence would have given a wider type, in columns that might be widened:
    /// those that the column does not hold, and those that it does hold but that are spelled wider.
    pub fn surprises(&self) -> u64 {
        self.surprises
    }

    /// Per column, the digits that its numbers needed.
    pub fn digits(&self) -> Vec<Digits> {
        self.targets.iter().zip(&self.met).map(|(target, met)| met.digits(target.ty)).collect()
    }

    /// Casts the records in `rows`; what was in it of an earlier batch is forgotten.
    pub fn cast(&mut self, rows: &mut Rows) {
        let count = rows.records.len();
        rows.width = self.targets.len();
        rows.cells.clear();
        rows.cells.resize(count * rows.width, Cell::Null);
        rows.wide.clear();
        rows.kept.clear();
        rows.rejects.clear();
        rows.rejected.clear();
        self.misfits.clear();
        self.bad.clear();
        self.bad.resize(count, false);
        self.refuse_broken(&rows.records);
        self.leave_out(&rows.records);
        let holds_nul = !self.takes_nul && rows.records.bytes.contains(&0);
        for column in 0..self.targets.len() {
            match self.targets[column].source.clone() {
                Source::Field(field) => {
                    self.cast_column(rows, column, field);
                    self.hold_to(rows, column, holds_nul);
                }
                Source::Constant(value) => self.fill(rows, column, &value),
                Source::Extras(fields) => extras::fill(rows, column, &fields),
                Source::Nothing => {}
            }
            if self.targets[column].default.is_some() {
                self.fill_nulls(rows, column);
            }
            if self.targets[column].demand.is_any() {
                self.ask(rows, column);
            }
        }
        rows.kept.extend((0..count as u32).filter(|at| !self.bad[*at as usize]));
        self.take_figures(rows);
        self.write_rejects(rows);
    }

    fn take_figures(&mut self, rows: &Rows) {
        let Rows { records, cells, wide, width, kept, .. } = rows;
        // Column by column, and of so few rows that their cells stay at hand.
        for kept in kept.chunks(128) {
            for (column, figures) in self.figures.iter_mut().enumerate() {
                let cells = kept.iter().filter_map(|at| cells.get(*at as usize * width + column));
                figures.add_all(cells, &records.bytes, wide);
            }
        }
    }

    /// Records that are broken in themselves or have another number of fields.
    fn refuse_broken(&mut self, records: &Records) {
        for (at, fault) in records.faults() {
            self.bad[*at] = true;
            self.misfits.push(Misfit {
                record: *at as u32,
                column: usize::MAX,
                reason: Reason::Fault(fault.clone()),
            });
        }
        if records.even_width() == Some(self.fields) || records.typed().is_some() {
            return;
        }
        for at in 0..records.len() {
            let found = records.fields(at).len();
            if found != self.fields && !self.bad[at] && !records.open_ended {
                self.bad[at] = true;
                let reason = Reason::FieldCount { found, expected: self.fields };
                self.misfits.push(Misfit { record: at as u32, column: usize::MAX, reason });
            }
        }
    }

    /// Records that do not meet a condition are no rejects: they are not wanted.
    fn leave_out(&mut self, records: &Records) {
        if self.conditions.is_empty() {
            return;
        }
        let (mut wide, mut text) = (Vec::new(), Vec::new());
        for at in 0..records.len() {
            if self.bad[at] {
                continue;
            }
            let is_met = |condition: &Condition| {
                let found = records.text(at, condition.field, &mut text);
                let (text, origin) = found.unwrap_or((&[], Origin::Missing));
                condition.is_met(text, origin, &mut wide)
            };
            if !self.conditions.iter().all(is_met) {
                self.bad[at] = true;
                self.left_out += 1;
            }
        }
    }

    /// Puts the default where there is no value.
    fn fill_nulls(&mut self, rows: &mut Rows, column: usize) {
        let target = &self.targets[column];
        let Some(default) = &target.default else { return };
        let start = rows.records.bytes.len();
        rows.records.bytes.extend_from_slice(default.as_bytes());
        let place = Field::text(start..rows.records.bytes.len());
        let raw = value::Raw { at: 0, value: default.as_bytes(), place, origin: Origin::Text };
        let cell = value::Reader::plain(target.ty, Format::default(), &mut rows.wide).read(raw);
        // Whether the default is of the column's type was asked before the load.
        let Ok(cell) = cell else { return };
        let width = rows.width;
        let slots = rows.cells.iter_mut().skip(column).step_by(width);
        slots.filter(|slot| **slot == Cell::Null).for_each(|slot| *slot = cell);
    }

    /// Asks of the values what the feed expects of them.
    fn ask(&mut self, rows: &Rows, column: usize) {
        let target = &self.targets[column];
        for at in 0..rows.records.len() {
            if self.bad[at] {
                continue;
            }
            let cell = rows.cells[at * rows.width + column];
            let unmet = target.demand.unmet(cell, &rows.records.bytes, &rows.wide).map(Reason::Unexpected);
            let again = || {
                let once = self.once[column].as_mut()?;
                let fresh = cell == Cell::Null || once.add(cell, &rows.records.bytes, &rows.wide);
                (!fresh).then_some(Reason::Again)
            };
            let Some(reason) = unmet.or_else(again) else { continue };
            if target.demand.rejects {
                self.bad[at] = true;
                self.misfits.push(Misfit { record: at as u32, column, reason });
                continue;
            }
            let what = reason.to_string();
            match self.unmet.iter_mut().find(|known| known.column == target.source_name && known.what == what)
            {
                Some(known) => known.rows += 1,
                None => {
                    let (column, line) = (target.source_name.clone(), rows.records.line(at));
                    self.unmet.push(Unmet { column, what, rows: 1, line });
                }
            }
        }
    }

    fn cast_column(&mut self, rows: &mut Rows, column: usize, field: usize) {
        let target = &self.targets[column];
        let Rows { records, cells, wide, width, .. } = rows;
        let width = *width;
        let first = self.misfits.len();
        let misfits = &mut self.misfits;
        let mut reader = target.reader(self.met[column], wide);
        let out = |at: usize, read: Result<Cell, Reason>| match read {
            Ok(value) => cells[at * width + column] = value,
            Err(reason) => misfits.push(Misfit { record: at as u32, column, reason }),
        };
        if records.typed().is_some() {
            typed::read_column(&mut reader, records, &self.bad, field, out);
        } else {
            let values =
                value::FieldValues { records, bad: &self.bad, field, even: records.even_width(), at: 0 };
            reader.read_all(values, out);
        }
        let mut met = reader.met();
        let wider = std::mem::take(&mut met.wider);
        self.met[column] = met;
        let unlike = self.misfits[first..].iter().filter(|misfit| misfit.reason.is_of_type()).count() as u64;
        self.surprises += if target.pinned { 0 } else { wider + unlike };
        self.refuse_from(first);
    }

    /// Refuses values that are of the column's type and that it does not take all the same.
    fn hold_to(&mut self, rows: &Rows, column: usize, holds_nul: bool) {
        let target = &self.targets[column];
        let takes_null = !target.required || target.default.is_some();
        if takes_null && target.limit.is_none() && !holds_nul {
            return;
        }
        let first = self.misfits.len();
        for at in (0..rows.records.len()).filter(|at| !self.bad[*at]) {
            let reason = match rows.cells[at * rows.width + column] {
                Cell::Null if !takes_null => Reason::Required,
                Cell::Text { start, len } if holds_nul && rows.bytes(start, len).contains(&0) => Reason::Nul,
                value => match target.limit {
                    Some(limit) if !limit.holds(value, &rows.records) => Reason::Beyond(limit),
                    _ => continue,
                },
            };
            self.misfits.push(Misfit { record: at as u32, column, reason });
        }
        self.refuse_from(first);
    }

    /// Records of the misfits from this one on are not loaded.
    fn refuse_from(&mut self, first: usize) {
        for misfit in &self.misfits[first..] {
            self.bad[misfit.record as usize] = true;
        }
    }

    fn fill(&self, rows: &mut Rows, column: usize, value: &PartValue) {
        let cell = match value {
            PartValue::Date(days) => Cell::Date(*days),
            PartValue::Timestamp(micros) => Cell::Timestamp(*micros),
            PartValue::Text(text) => {
                let start = rows.records.bytes.len();
                rows.records.bytes.extend_from_slice(text.as_bytes());
                let place = Field::text(start..rows.records.bytes.len());
                let ty = self.targets[column].ty;
                let raw = value::Raw { at: 0, value: text.as_bytes(), place, origin: Origin::Text };
                // A constant of another type than its column is told before the load.
                value::Reader::plain(ty, Format::default(), &mut rows.wide).read(raw).unwrap_or(Cell::Null)
            }
        };
        let width = rows.width;
        rows.cells.iter_mut().skip(column).step_by(width).for_each(|slot| *slot = cell);
    }

    /// Looks at the other values of records that one value keeps out: all that is wrong with a row is told
    /// at once.
    fn find_more(&mut self, rows: &mut Rows) {
        let of_values = self.misfits.iter().filter(|misfit| misfit.column != usize::MAX);
        // Each record has one by now: the columns behind it were not looked at.
        let refused: Vec<(u32, usize)> = of_values.map(|misfit| (misfit.record, misfit.column)).collect();
        let Rows { records, wide, .. } = rows;
        let (kept, mut text) = (wide.len(), Vec::new());
        for (column, target) in self.targets.iter().enumerate() {
            let Source::Field(field) = target.source else { continue };
            for (record, _) in refused.iter().filter(|(_, first)| *first < column) {
                let at = *record as usize;
                let Some((value, origin)) = records.text(at, field, &mut text) else { continue };
                let place = Field::text(0..value.len());
                let read =
                    target.reader(SeenValues::default(), wide).read(value::Raw { at, value, place, origin });
                let reason = match read {
                    Err(reason) => Some(reason),
                    Ok(Cell::Null) if target.default.is_some() => None,
                    Ok(Cell::Null) if target.required => Some(Reason::Required),
                    Ok(cell) if target.demand.rejects => {
                        target.demand.unmet(cell, value, wide).map(Reason::Unexpected)
                    }
                    Ok(_) => None,
                };
                self.misfits.extend(reason.map(|reason| Misfit { record: *record, column, reason }));
            }
        }
        wide.truncate(kept);
    }

    fn write_rejects(&mut self, rows: &mut Rows) {
        self.find_more(rows);
        self.misfits.sort_by_key(|misfit| (misfit.record, misfit.column));
        let mut text = Vec::new();
        for misfit in self.misfits.drain(..) {
            let at = misfit.record as usize;
            let target = self.targets.get(misfit.column);
            let value = target.and_then(|target| match target.source {
                Source::Field(field) => rows.records.text(at, field, &mut text).map(|(value, _)| value),
                _ => None,
            });
            let value = value.map(|value| String::from_utf8_lossy(value).into_owned());
            let reason = misfit.reason.to_string();
            let column = target.map(|target| target.source_name.clone());
            if let Some(known) = rows.rejects.last_mut().filter(|known| known.record == misfit.record) {
                known.more.extend(column.map(|column| Misfitting { column, value, reason }));
                continue;
            }
            rows.rejects.push(Reject {
                line: rows.records.line(at),
                column,
                value,
                reason,
                more: Vec::new(),
                raw: rows.records.raw_record(at),
                record: misfit.record,
                place: None,
                sheet: None,
            });
        }
    }
}

#[cfg(test)]
mod tests;
