//! How a file is to go into its tables.

use std::collections::HashMap;

use hypodoke_core::cast::{Caster, Limit, Source as CellSource, Target};
use hypodoke_core::layout::{Column, Format, Layout, rule_for};
use hypodoke_core::names::{Lineage, match_key};
use hypodoke_core::reconcile::{Fit, reconcile};
use hypodoke_core::spelling::NullSet;
use hypodoke_core::types::{Domain, Type};
use hypodoke_formats::TableHead;
use hypodoke_stores::{Mode, TableColumn, TablePlan, TableShape};

use super::ground::Base;
use super::{Candidate, Feed};
use crate::failure::Failure;

/// How one of a file's tables is to go in.
#[derive(Clone, Debug)]
pub struct TableApproach {
    /// The table.
    pub table: String,
    /// Where in the file its rows stand, and the columns they have there.
    pub head: TableHead,
    /// How it fits.
    pub fit: Fit,
    /// For each column of the layout, how the file writes it and what its numbers carry.
    pub formats: Vec<(Format, Domain)>,
    /// The lineage columns of the table.
    pub lineage: Lineage,
    /// The ledger keeps its layout.
    pub keeps_layout: bool,
    /// It has no rows of its own.
    pub is_virtual: bool,
    /// The columns that tell rows apart.
    pub key: Vec<String>,
    /// What the table asks of its columns, where somebody else made it: whether they take nulls,
    /// and how much they hold.
    demands: HashMap<String, (bool, Option<Limit>)>,
}

impl TableApproach {
    fn new(
        table: String,
        head: &TableHead,
        fit: Fit,
        formats: Vec<(Format, Domain)>,
        lineage: Lineage,
    ) -> TableApproach {
        TableApproach {
            table,
            head: head.clone(),
            fit,
            formats,
            lineage,
            keeps_layout: true,
            is_virtual: false,
            key: Vec::new(),
            demands: HashMap::new(),
        }
    }

    /// Finds the columns of the feed's key in the table.
    pub fn find_key(&mut self, file: &Candidate, feed: &Feed) -> Result<(), Failure> {
        if !feed.mode.has_key() || self.is_virtual {
            return Ok(());
        }
        if self.head.is_child {
            let what = format!(
                "{}: mode `{}` cannot keep the list `{}` beside its records",
                file.shown,
                feed.mode.word(),
                self.head.path
            );
            return Err(Failure::load(what)
                .advise("keep nested lists as JSON, nested = \"json\", or use mode = \"append\""));
        }
        for wanted in &feed.key {
            let by_source = self.fit.layout.columns.iter().position(|column| column.source == *wanted);
            let Some(at) = by_source.or_else(|| self.fit.layout.find(wanted)) else {
                let names: Vec<&str> = self.fit.layout.columns.iter().map(|c| c.name.as_str()).collect();
                let what = format!(
                    "{}: no column `{wanted}`, which is in the key; there are {}",
                    file.shown,
                    names.join(", ")
                );
                return Err(Failure::load(what));
            };
            self.key.push(self.fit.layout.columns[at].name.clone());
        }
        Ok(())
    }

    /// The way of a table whose evidence is in.
    pub fn informed(
        table: String,
        head: &TableHead,
        base: &Layout,
        file: &Layout,
        lineage: Lineage,
    ) -> TableApproach {
        let fit = reconcile(base, file);
        let format = |(column, source): (&Column, &Option<usize>)| match source {
            Some(at) => (file.columns[*at].format, file.columns[*at].domain),
            None => (column.format, column.domain),
        };
        let formats = fit.layout.columns.iter().zip(&fit.sources).map(format).collect();
        TableApproach::new(table, head, fit, formats, lineage)
    }

    /// The way of a table of which only the names are known, into one whose layout is; `None` if
    /// it has a column that the table has not.
    pub fn optimistic(
        table: String,
        head: &TableHead,
        base: &Layout,
        named: &Layout,
        lineage: Lineage,
    ) -> Option<TableApproach> {
        let fit = reconcile(base, named);
        if fit.alters() {
            return None;
        }
        let formats = base.columns.iter().map(|column| (column.format, column.domain)).collect();
        Some(TableApproach::new(table, head, fit, formats, lineage))
    }

    /// The way of a file into a table that somebody else made.
    pub fn foreign(
        file: &Candidate,
        head: &TableHead,
        shape: &TableShape,
        looked: &Layout,
    ) -> Result<TableApproach, Failure> {
        let matched = |column: &Column| {
            let key = match_key(&column.name);
            // What the database numbers or works out itself is left to it.
            let taken = || shape.columns.iter().filter(|c| !c.generated);
            let by_key = || taken().find(|c| match_key(&c.name) == key);
            taken().find(|c| c.name == column.name).or_else(by_key)
        };
        let (found, strange): (Vec<_>, Vec<_>) =
            looked.columns.iter().enumerate().partition(|(_, c)| matched(c).is_some());
        let is_given =
            |name: &str| found.iter().any(|(_, c)| matched(c).is_some_and(|known| known.name == name));
        let lacking: Vec<&str> = shape
            .columns
            .iter()
            .filter(|c| c.required && !c.filled && !is_given(&c.name))
            .map(|c| c.name.as_str())
            .collect();
        if !strange.is_empty() || !lacking.is_empty() {
            let strange: Vec<&str> = strange.iter().map(|(_, c)| c.name.as_str()).collect();
            return Err(mismatch(file, shape, &strange, &lacking));
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
        let mut approach = TableApproach::new(shape.name.clone(), head, fit, formats, shape.lineage);
        approach.keeps_layout = false;
        let demand = |column: &TableColumn| (column.name.clone(), (column.required, column.limit));
        approach.demands = shape.columns.iter().map(demand).collect();
        Ok(approach)
    }

    /// The way of a main table that only names its parts.
    pub fn of_parts_only(table: String, head: &TableHead, base: &Base, file: &Layout) -> TableApproach {
        let mut layout = base.layout().cloned().unwrap_or_default();
        layout.parts =
            reconcile(&layout, &Layout { columns: Vec::new(), parts: file.parts.clone() }).layout.parts;
        let fit = Fit { sources: vec![None; layout.columns.len()], changes: Vec::new(), layout };
        let mut approach = TableApproach::new(table, head, fit, Vec::new(), Lineage::None);
        approach.is_virtual = true;
        approach
    }

    /// The table's part of the plan.
    pub fn plan(&self, mode: Mode) -> TablePlan {
        TablePlan {
            table: self.table.clone(),
            path: self.head.path.clone(),
            layout: self.fit.layout.clone(),
            changes: self.fit.changes.clone(),
            lineage: self.lineage,
            keeps_layout: self.keeps_layout,
            is_virtual: self.is_virtual,
            mode,
            key: self.key.clone(),
            of_file: self.of_file(),
        }
    }

    /// The columns that are filled from the file's name.
    fn of_file(&self) -> Vec<String> {
        let fields = self.head.names.len();
        let columns = self.fit.layout.columns.iter().zip(&self.fit.sources);
        let named = columns.filter(|(_, source)| source.is_some_and(|at| at >= fields));
        named.map(|(column, _)| column.name.clone()).collect()
    }

    /// The caster of its records.
    pub fn caster(&self, file: &Candidate, feed: &Feed) -> Caster {
        if self.is_virtual {
            return Caster::new(Vec::new(), 0);
        }
        let fields = self.head.names.len();
        Caster::new(self.targets(file, feed, fields), fields)
    }

    /// What is to become of each column of the layout.
    fn targets(&self, file: &Candidate, feed: &Feed, fields: usize) -> Vec<Target> {
        let rules = feed.rules_of(&self.head.path);
        let target = |(at, column): (usize, &Column)| {
            let ty = column.ty();
            let (format, domain) = self.formats[at];
            let demand = self.demands.get(&column.name);
            // Whether a word is a null follows from the table's type alone, so that it does not
            // depend on which file came first.
            let nulls = if ty == Type::Text { NullSet::ALWAYS } else { NullSet::ALL };
            Target {
                source_name: column.source.clone(),
                ty,
                unit: Target::unit_of(domain),
                source: match self.fit.sources[at] {
                    Some(field) if field < fields => CellSource::Field(field),
                    Some(part) => file
                        .parts
                        .get(part - fields)
                        .map_or(CellSource::Nothing, |(_, value)| CellSource::Constant(value.clone())),
                    None => CellSource::Nothing,
                },
                format: Format { nulls, ..format },
                also_null: rule_for(&rules, &column.source)
                    .map_or_else(Vec::new, |rule| rule.also_null.clone()),
                pinned: column.pinned.is_some(),
                required: self.key.contains(&column.name) || demand.is_some_and(|(required, _)| *required),
                limit: demand.and_then(|(_, limit)| *limit),
            }
        };
        self.fit.layout.columns.iter().enumerate().map(target).collect()
    }
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
