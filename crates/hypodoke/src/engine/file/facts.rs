//! What was poured, held against what the feed expects.

use hypodoke_core::cast::Unmet;
use hypodoke_core::layout::Otherwise;
use hypodoke_core::spelling::Number;

use super::fit::undone;
use super::{HeldFile, Trouble};
use crate::engine::approach::TableApproach;
use crate::engine::expect::{Control, Facts, Shortfall};
use crate::engine::pour::Poured;
use crate::engine::{Candidate, Feed, sums};
use crate::failure::Failure;

/// For each figure of the control line, the column of the main table whose sum it is.
pub fn summed(feed: &Feed, main: &TableApproach) -> Vec<Option<usize>> {
    let column = |control: &Control| match control {
        Control::Rows | Control::Digest => None,
        Control::Sum(name) => {
            let columns = &main.fit.layout.columns;
            let by_source = columns.iter().position(|column| column.source == *name);
            let at = by_source.or_else(|| main.fit.layout.find(name))?;
            sums::scale_of(columns[at].ty()).map(|_| at)
        }
    };
    feed.expect.control.iter().map(column).collect()
}

/// Holds what was poured against what the feed expects; gives what is only to be said.
pub fn expected(
    (file, feed, before): (&Candidate, &Feed, &[u64]),
    approach: &[TableApproach],
    poured: &Poured,
    read: u64,
    footer: &[String],
    kind: String,
) -> Result<Vec<String>, Trouble> {
    let main = &approach[0];
    let mut totals = poured.tables.first().map(|main| main.sums.iter()).into_iter().flatten();
    let sums: Vec<Option<Number>> = summed(feed, main)
        .into_iter()
        .map(|at| {
            let ty = main.fit.layout.columns[at?].ty();
            sums::number(totals.next().copied().unwrap_or(0), ty)
        })
        .collect();
    let unmet: Vec<(Unmet, Otherwise)> = approach
        .iter()
        .zip(&poured.tables)
        .flat_map(|(table, figures)| {
            figures.unmet.iter().map(|unmet| (unmet.clone(), table.otherwise(&unmet.column, feed)))
        })
        .collect();
    let facts = Facts { read, rejected: poured.rejected, sums: &sums, footer, unmet: &unmet, before };
    let short = feed.expect.of(file, &facts);
    let held = || {
        let of_table = |table: &TableApproach| {
            let name = table.table.clone();
            table.drift.clone().into_iter().map(move |drift| (name.clone(), undone(drift)))
        };
        HeldFile {
            drift: approach.iter().flat_map(of_table).collect(),
            kind: Some(kind),
            read,
            ..HeldFile::default()
        }
    };
    judged(file, short, held)
}

/// Holds a file against the digest that its sender states; gives what is only to be said.
pub fn as_sent(file: &Candidate, feed: &Feed) -> Result<Vec<String>, Trouble> {
    let short = feed.expect.against_digest(file).map_err(Failure::from)?;
    judged(file, short, HeldFile::default)
}

fn judged(
    file: &Candidate,
    short: Shortfall,
    held: impl FnOnce() -> HeldFile,
) -> Result<Vec<String>, Trouble> {
    if !short.failures.is_empty() {
        let what = format!("{}: {}", file.shown, short.failures.join("; "));
        return Err(Failure::load(what).advise("nothing of it was loaded; ask for it again").into());
    }
    if !short.holds.is_empty() {
        return Err(Trouble::Held(Box::new(HeldFile { holds: short.holds, ..held() })));
    }
    Ok(short.warnings)
}
