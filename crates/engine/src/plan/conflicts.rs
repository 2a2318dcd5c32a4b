//! Files loaded together that disagree about a column.

use std::collections::{HashMap, HashSet};
use std::mem::discriminant;

use hypodoke_core::names::match_key;
use hypodoke_core::types::{Domain, Type};

use crate::job::{Candidate, Feed};
use crate::profile::FileProfile;
use crate::receipt::{Conflict, Side};

/// The columns of a feed's main table that files have different kinds of types for. Numbers of
/// more digits than others are no conflict, nor is a column that holds nothing in some file.
pub fn conflicts<'a>(
    feed: &Feed,
    files: impl Iterator<Item = (&'a Candidate, &'a FileProfile)>,
) -> Vec<Conflict> {
    let mut columns: Vec<(String, Domain, Vec<TypeInFile<'_>>)> = Vec::new();
    let mut by_key: HashMap<String, usize> = HashMap::new();
    for (file, profile) in files {
        let Some(table) = profile.tables.first() else { continue };
        for (column, example) in table.layout.columns.iter().zip(&table.examples) {
            if column.domain == Domain::Unknown {
                continue;
            }
            let found = TypeInFile {
                ty: column.ty(),
                file: &file.shown,
                line: example.as_ref().map(|example| example.spot.line),
                value: example.as_ref().map(|example| example.value.to_string()),
            };
            let key = match_key(&column.name);
            match by_key.get(&key).and_then(|at| columns.get_mut(*at)) {
                Some((_, domain, all)) => {
                    *domain = domain.join(column.domain);
                    all.push(found);
                }
                None => {
                    by_key.insert(key, columns.len());
                    columns.push((column.name.clone(), column.domain, vec![found]));
                }
            }
        }
    }
    let conflict = |(column, domain, found): (String, Domain, Vec<TypeInFile<'_>>)| {
        let kinds: HashSet<_> = found.iter().map(|one| kind(one.ty)).collect();
        (kinds.len() > 1).then(|| Conflict {
            table: feed.table.clone(),
            column,
            joined: domain.ty().to_string(),
            sides: sides(found),
        })
    };
    columns.into_iter().filter_map(conflict).collect()
}

/// What one file has.
struct TypeInFile<'a> {
    ty: Type,
    file: &'a str,
    line: Option<u64>,
    value: Option<String>,
}

/// Types of one kind hold one another's values, with digits enough.
fn kind(ty: Type) -> std::mem::Discriminant<Type> {
    match ty {
        Type::Integer | Type::Decimal { .. } => discriminant(&Type::Integer),
        other => discriminant(&other),
    }
}

fn sides(found: Vec<TypeInFile<'_>>) -> Vec<Side> {
    let mut sides: Vec<(std::mem::Discriminant<Type>, Side)> = Vec::new();
    for one in found {
        match sides.iter_mut().find(|(known, _)| *known == kind(one.ty)) {
            Some((_, side)) => side.files += 1,
            None => {
                let TypeInFile { ty, file, line, value } = one;
                let side = Side { of: ty.to_string(), files: 1, file: file.to_owned(), line, value };
                sides.push((kind(ty), side));
            }
        }
    }
    sides.into_iter().map(|(_, side)| side).collect()
}
