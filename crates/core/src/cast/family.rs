//! Records and what is nested in them: they stand or fall together.
//!
//! A record of the main table and the rows that its lists gave to child tables are loaded all or
//! none, so that no child is without its parent and no parent lacks a part of what it said.

use super::{Misfitting, Reject, Rows};

/// Settles what is loaded of a batch cast table by table: a child that is a reject takes its
/// record with it, and a record that is one its children. The rejects that remain are records
/// of the main table, kept whole. `paths` names the lists that the child tables hold.
pub fn settle(family: &mut [Rows], paths: &[String]) {
    let Some((main, children)) = family.split_first_mut() else { return };
    let linked = |rows: &&mut Rows| !rows.records.links().is_empty();
    let whole = main.kept.len() == main.records.len();
    if whole && children.iter_mut().filter(linked).all(|rows| rows.rejects.is_empty()) {
        return;
    }
    let mut good = vec![false; main.records.len()];
    main.kept.iter().for_each(|at| good[*at as usize] = true);
    for (rows, path) in children.iter_mut().zip(paths.iter().skip(1)) {
        if rows.records.links().is_empty() {
            continue;
        }
        for reject in std::mem::take(&mut rows.rejects) {
            let owner = rows.records.links()[reject.record as usize].owner;
            // One reason says enough: the first.
            if std::mem::replace(&mut good[owner as usize], false) {
                main.rejects.push(of_owner(reject, owner, main, path));
            }
        }
    }
    main.kept.retain(|at| good[*at as usize]);
    main.rejects.sort_by_key(|reject| reject.record);
    for rows in children.iter_mut().filter(linked) {
        let Rows { kept, records, .. } = rows;
        kept.retain(|at| good[records.links()[*at as usize].owner as usize]);
    }
}

fn of_owner(reject: Reject, owner: u32, main: &Rows, path: &str) -> Reject {
    Reject {
        line: main.records.line(owner as usize),
        column: reject.column.map(|column| format!("{path}.{column}")),
        more: reject
            .more
            .into_iter()
            .map(|more| Misfitting { column: format!("{path}.{}", more.column), ..more })
            .collect(),
        raw: main.records.raw_record(owner as usize),
        record: owner,
        ..reject
    }
}
