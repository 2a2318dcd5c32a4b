//! What the next load of a feed would do, without doing it.

use hypodoke_core::event::Silent;
use hypodoke_core::layout::Layout;
use hypodoke_stores::{LoadPlan, Store, TableShape};

use super::approach::{TableApproach, takes_rows};
use super::ground::{Base, Ground};
use super::look::{Looked, Way, is_virtual, look};
use super::prior::Prior;
use super::select::Known;
use super::source::Source;
use super::{Candidate, Delivery, Feed, clock};
use crate::failure::Failure;

/// What the next load would do.
pub struct Forecast {
    /// How many files are new.
    pub new: u64,
    /// What the table is not good for.
    pub limits: Vec<String>,
    /// The SQL that would make or change tables, where it was asked for.
    pub ddl: Vec<String>,
}

/// Looks what is new, and with `ddl` at its values.
pub fn of(store: &mut dyn Store, delivery: &Delivery, ddl: bool) -> Result<Forecast, Failure> {
    let feed = &delivery.feed;
    let entries = if store.has_ledger()? { store.loaded_files()? } else { Vec::new() };
    let known = Known::of(entries);
    let new: Vec<&Candidate> =
        delivery.files.iter().filter(|file| !known.is_known(&file.seen.arrival, &feed.table)).collect();
    let mut ground = Ground::of(store, feed)?;
    if let Base::Foreign(shape) = &ground.main {
        takes_rows(shape, feed.mode)?;
        // What has to be fetched first is judged when it is loaded.
        if let Some(file) = new.iter().find(|file| file.seen.remote.is_none()) {
            fits(file, feed, shape)?;
        }
    }
    let mut forecast =
        Forecast { new: new.len() as u64, limits: limits(&ground, &feed.table), ddl: Vec::new() };
    if !ddl || new.is_empty() {
        return Ok(forecast);
    }
    let prior = Prior::of(&ground);
    let looks: Vec<Looked> = new
        .iter()
        .map(|file| look(file, feed, Way::alone(), &prior, &Silent))
        .collect::<Result<_, Failure>>()?;
    ground.expect(store, feed, looks.iter())?;
    for (file, looked) in new.iter().zip(&looks) {
        let mut tables = Vec::new();
        for (at, table) in looked.tables.iter().enumerate() {
            let (name, base) = if at == 0 {
                (feed.table.clone(), ground.main.clone())
            } else {
                let part = ground.part(store, feed, table)?;
                (ground.parts[part].0.table.clone(), ground.parts[part].1.clone())
            };
            if at == 0 && looked.is_virtual {
                continue;
            }
            let lineage = base.lineage(table.head.is_child);
            let Some(layout) = base.layout() else { continue };
            let mut approach = TableApproach::unjudged(name, &table.head, layout, &table.layout, lineage);
            approach.find_key(file, feed)?;
            tables.push(approach.plan(feed.mode));
            // The next file meets the table as this one leaves it.
            let after = Base::Ours { layout: approach.fit.layout.clone(), lineage };
            if at == 0 {
                ground.main = after;
            } else if let Some((_, base)) =
                ground.parts.iter_mut().find(|(part, _)| part.path == table.head.path)
            {
                *base = after;
            }
        }
        let plan = LoadPlan {
            batch: 0,
            arrival: file.seen.arrival.clone(),
            feed: feed.name.clone(),
            tables,
            replaces: None,
            kind: String::new(),
            began: clock::now(),
            first_of_delivery: false,
            sql_before: Vec::new(),
            sql_after: Vec::new(),
            careful: false,
            shape: None,
            mends: None,
            retracts: false,
        };
        for statement in store.ddl(&plan)? {
            // A table that is not there yet is made once, whole.
            if !forecast.ddl.contains(&statement) {
                forecast.ddl.push(statement);
            }
        }
    }
    Ok(forecast)
}

/// Whether the columns of a file find theirs in a table that somebody else made: its header tells.
fn fits(file: &Candidate, feed: &Feed, shape: &TableShape) -> Result<(), Failure> {
    let source = Source::open(file, feed, false, &[], &Silent)?;
    let heads = source.reader.tables();
    let Some(head) = heads.first().filter(|_| !is_virtual(heads)) else { return Ok(()) };
    let named = Layout::named(&source.header(0), &feed.namer, &feed.rules_of(&head.path));
    TableApproach::foreign(file, head, shape, &named, feed).map(drop)
}

/// What is not possible with a table that has no lineage columns.
fn limits(ground: &Ground, table: &str) -> Vec<String> {
    let bases = std::iter::once(&ground.main).chain(ground.parts.iter().map(|(_, base)| base));
    let without = bases.filter(|base| matches!(base, Base::Foreign(shape) if !shape.lineage.is_kept()));
    let mut limits = Vec::new();
    if without.count() > 0 {
        limits.push(format!(
            "`{table}` has no columns hd_file and hd_line: its rows do not lead back to their files, and a corrected file cannot take the place of the first"
        ));
    }
    limits
}
