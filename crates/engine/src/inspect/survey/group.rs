//! Layouts: files whose columns are the same, or nearly and by names alike.

use std::collections::{BTreeMap, HashMap, HashSet};

use hypodoke_core::count;
use hypodoke_core::evidence::{ColumnEvidence, ColumnReport, Hints, TableEvidence, decide_all};
use hypodoke_core::layout::Column;
use hypodoke_core::names::{Namer, match_key, numbered};
use hypodoke_core::sanitize::clean;
use hypodoke_core::types::Type;

use super::pattern;
use super::report::{FileReport, FoundFormat, FoundTable};
use super::warnings::open_choice;
use crate::discover::table_name;
use crate::job::Candidate;
use crate::profile::{FileProfile, dialect_hints};

/// Files of one layout.
pub struct Group {
    /// What the layout is called.
    pub name: String,
    /// Where in its files it stands: a sheet, the path of a nested list; empty for the main table.
    pub path: String,
    /// The pattern that the names of its files share.
    pub pattern: String,
    /// Its files, by their numbers in the survey, in the order of their days and names.
    pub files: Vec<usize>,
    /// Records in all.
    pub rows: u64,
    /// Its columns, reconciled over all files.
    pub columns: Vec<ColumnReport>,
    /// The first and last day that names or times tell, in days since 1970.
    pub days: Option<(i32, i32)>,
    /// Columns whose types differ from file to file.
    pub conflicts: Vec<TypeConflict>,
    /// What is worth a look.
    pub warnings: Vec<String>,
}

/// A column that is not of one type in all files.
pub struct TypeConflict {
    /// The column.
    pub column: String,
    /// The type all of them fit.
    pub joined: Type,
    /// The types, and the files that have them.
    pub types: Vec<(Type, Vec<usize>)>,
}

/// Evidence being gathered, by header.
#[derive(Default)]
pub struct Gathering {
    by_header: HashMap<Vec<String>, Part>,
}

/// Files with the very same header.
struct Part {
    /// Where in the files it stands.
    path: String,
    names: Vec<String>,
    sources: Vec<String>,
    evidence: TableEvidence,
    files: Vec<usize>,
    hints: Hints,
}

impl Gathering {
    /// Takes a file in, table by table.
    pub fn add(&mut self, at: usize, files: &[Candidate], profile: &FileProfile) {
        let named = !profile.facts.is_nameless;
        let hints = dialect_hints(&profile.facts);
        for table in profile.real_tables() {
            let name = |c: &Column| if named { match_key(&c.name) } else { String::new() };
            let mut key: Vec<String> = table.layout.columns.iter().map(name).collect();
            if !named || table.head.is_child {
                // Without a header only files whose names are alike are taken to be of one kind;
                // and a list is never of one kind with the records it stands in.
                key.push(pattern::stem(&files[at].seen.arrival.path));
                key.push(table.head.path.clone());
            }
            let part = self.by_header.entry(key).or_insert_with(|| Part {
                path: table.head.path.clone(),
                names: table.layout.columns.iter().map(|c| c.name.clone()).collect(),
                sources: table.header.clone(),
                evidence: TableEvidence::new(table.evidence.columns.len()),
                files: Vec::new(),
                hints,
            });
            part.evidence.merge(&table.evidence);
            if part.files.last() != Some(&at) {
                part.files.push(at);
            }
        }
    }

    /// Puts parts together that are one layout, and says what there is to say of each.
    pub fn finish(self, reports: &[FileReport], files: &[Candidate]) -> Vec<Group> {
        let mut parts: Vec<(Vec<String>, Part)> = self.by_header.into_iter().collect();
        for (_, part) in &mut parts {
            part.files.sort_unstable();
        }
        // The order in which threads came must not show.
        parts.sort_by(|a, b| (b.1.files.len(), a.1.files[0]).cmp(&(a.1.files.len(), b.1.files[0])));
        let mut merged: Vec<(Vec<String>, Part)> = Vec::new();
        for (key, part) in parts {
            match merged.iter_mut().find(|(other, kept)| akin(other, kept, &key, &part, files)) {
                Some((other, kept)) => kept.absorb(other, &key, part),
                None => merged.push((key, part)),
            }
        }
        let mut taken = HashSet::new();
        merged.into_iter().map(|(_, part)| part.describe(reports, files, &mut taken)).collect()
    }
}

/// Two headers are of one layout where the files are named alike and most columns are shared.
fn akin(a: &[String], part_a: &Part, b: &[String], part_b: &Part, files: &[Candidate]) -> bool {
    let stem = |part: &Part| pattern::stem(&files[part.files[0]].seen.arrival.path);
    let names = |key: &[String]| key.iter().filter(|k| !k.is_empty()).cloned().collect::<HashSet<_>>();
    let (a, b) = (names(a), names(b));
    let shared = a.intersection(&b).count();
    shared * 2 > a.union(&b).count() && stem(part_a) == stem(part_b) && part_a.path == part_b.path
}

impl Part {
    fn absorb(&mut self, key: &mut Vec<String>, other_key: &[String], other: Part) {
        let place = |wanted: &String, key: &[String]| key.iter().position(|k| k == wanted);
        let rows_before = self.evidence.rows;
        for (column, evidence) in self.evidence.columns.iter_mut().enumerate() {
            match place(&key[column], other_key) {
                Some(at) => evidence.merge(&other.evidence.columns[at]),
                None => evidence.missing += other.evidence.rows,
            }
        }
        for (at, wanted) in other_key.iter().enumerate().take(other.evidence.columns.len()) {
            if place(wanted, key).is_none() {
                let mut evidence = ColumnEvidence::default();
                evidence.missing = rows_before;
                evidence.merge(&other.evidence.columns[at]);
                self.evidence.columns.push(evidence);
                self.names.push(other.names[at].clone());
                self.sources.push(other.sources[at].clone());
                key.push(wanted.clone());
            }
        }
        self.evidence.rows += other.evidence.rows;
        self.files.extend(other.files);
    }

    fn describe(mut self, reports: &[FileReport], files: &[Candidate], taken: &mut HashSet<String>) -> Group {
        let path = |at: &usize| files[*at].seen.arrival.path.as_str();
        self.files.sort_by_key(|at| (pattern::day(path(at)), path(at).to_owned()));
        let paths: Vec<&str> = self.files.iter().map(path).collect();
        let decisions = decide_all(&self.evidence, self.hints, &[], &[]);
        let columns: Vec<ColumnReport> = self
            .names
            .iter()
            .zip(&self.sources)
            .zip(self.evidence.columns.iter().zip(&decisions))
            .map(|((name, source), (evidence, decision))| ColumnReport::of(name, source, evidence, decision))
            .collect();
        let dates = self
            .files
            .iter()
            .map(|at| pattern::day(path(at)).unwrap_or_else(|| day_of(reports[*at].modified)));
        let days = dates.clone().min().zip(dates.max());
        let conflicts = conflicts(&columns, &self.path, &self.files, reports);
        let mut warnings = Vec::new();
        warnings.extend(doubles(&self.files, reports));
        warnings.extend(short_files(&self.files, reports));
        warnings.extend(comings_and_goings(&columns, &self.path, &self.files, reports));
        warnings.extend(columns.iter().filter_map(open_choice));
        let pattern = pattern::shared(&paths);
        Group {
            name: unique_name(paths[0], &self.path, taken),
            path: self.path,
            pattern,
            rows: self.evidence.rows,
            columns,
            days,
            conflicts,
            warnings,
            files: self.files,
        }
    }
}

fn day_of(micros: i64) -> i32 {
    micros.div_euclid(hypodoke_core::spelling::temporal::DAY) as i32
}

fn unique_name(path: &str, part: &str, taken: &mut HashSet<String>) -> String {
    let mut base = table_name(std::path::Path::new(path));
    if !part.is_empty() {
        base = format!("{base}_{}", Namer::default().name(part));
    }
    let mut name = base.clone();
    let mut number = 2;
    while !taken.insert(name.clone()) {
        name = numbered(&base, number);
        number += 1;
    }
    name
}

fn found(report: &FileReport) -> Option<&FoundFormat> {
    report.found.as_ref().ok()
}

fn conflicts(
    columns: &[ColumnReport],
    path: &str,
    files: &[usize],
    reports: &[FileReport],
) -> Vec<TypeConflict> {
    let mut seen: Vec<BTreeMap<String, (Type, Vec<usize>)>> = vec![BTreeMap::new(); columns.len()];
    let index: HashMap<String, usize> =
        columns.iter().enumerate().map(|(at, c)| (match_key(&c.name), at)).collect();
    for file in files {
        let Some(found) = found(&reports[*file]) else { continue };
        let types = found.tables.iter().filter(|table| table.path == path).flat_map(FoundTable::types);
        for (name, ty) in types.filter(|(_, ty)| *ty != Type::Unknown) {
            if let Some(at) = index.get(&match_key(name)) {
                // Decimals that differ in their digits only are no conflict to tell of.
                let word = match ty {
                    Type::Decimal { .. } => "decimal".to_owned(),
                    other => other.to_string(),
                };
                let (widest, list) = seen[*at].entry(word).or_insert((ty, Vec::new()));
                if let (Type::Decimal { precision: a, .. }, Type::Decimal { precision: b, .. }) =
                    (*widest, ty)
                    && b > a
                {
                    *widest = ty;
                }
                list.push(*file);
            }
        }
    }
    let conflict = |(column, types): (&ColumnReport, BTreeMap<String, (Type, Vec<usize>)>)| {
        let mut types: Vec<(Type, Vec<usize>)> = types.into_values().collect();
        types.sort_by_key(|(_, files)| std::cmp::Reverse(files.len()));
        (types.len() > 1).then(|| TypeConflict { column: column.name.clone(), joined: column.ty, types })
    };
    columns.iter().zip(seen).filter_map(conflict).collect()
}

fn doubles(files: &[usize], reports: &[FileReport]) -> Vec<String> {
    let mut by_hash: HashMap<&str, usize> = HashMap::new();
    let mut warnings = Vec::new();
    for file in files {
        let Some(found) = found(&reports[*file]) else { continue };
        let Some(hash) = found.hash.as_deref().filter(|_| found.rows() > 0) else { continue };
        match by_hash.get(hash) {
            Some(first) => warnings.push(format!(
                "{} has the same content as {}",
                clean(&reports[*file].path),
                clean(&reports[*first].path)
            )),
            None => {
                by_hash.insert(hash, *file);
            }
        }
    }
    warnings
}

/// Files with less than a quarter of the rows that are usual, where there are enough to tell.
fn short_files(files: &[usize], reports: &[FileReport]) -> Vec<String> {
    let rows_of = |file: &usize| found(&reports[*file]).map(|found| found.rows());
    let mut rows: Vec<u64> = files.iter().filter_map(rows_of).collect();
    rows.sort_unstable();
    if rows.len() < 4 {
        return Vec::new();
    }
    let usual = rows[rows.len() / 2];
    let short = files.iter().filter(|file| rows_of(file).is_some_and(|rows| rows * 4 < usual));
    let warning = |file: &usize| {
        let rows = count::rows(rows_of(file).unwrap_or_default());
        format!(
            "{} is much shorter than its fellows: {rows}, usually {}",
            clean(&reports[*file].path),
            count::number(usual)
        )
    };
    short.map(warning).collect()
}

/// Columns that are there from some file on, or up to one.
fn comings_and_goings(
    columns: &[ColumnReport],
    path: &str,
    files: &[usize],
    reports: &[FileReport],
) -> Vec<String> {
    let have: Vec<(usize, HashSet<String>)> = files
        .iter()
        .filter_map(|file| {
            let table = found(&reports[*file])?.tables.iter().find(|table| table.path == path)?;
            Some((*file, table.columns.iter().map(|c| match_key(&c.name)).collect()))
        })
        .collect();
    let mut warnings = Vec::new();
    for column in columns {
        let key = match_key(&column.name);
        let there: Vec<bool> = have.iter().map(|(_, names)| names.contains(&key)).collect();
        let (Some(first), Some(last)) = (there.iter().position(|t| *t), there.iter().rposition(|t| *t))
        else {
            continue;
        };
        let name = &column.name;
        let path = |at: usize| clean(&reports[have[at].0].path);
        if first > 0 {
            warnings.push(format!("column `{name}` appears with {}", path(first)));
        }
        if last + 1 < there.len() {
            warnings.push(format!("column `{name}` is gone since {}", path(last + 1)));
        }
        let gaps = there[first..=last].iter().filter(|t| !**t).count();
        if gaps > 0 {
            warnings
                .push(format!("column `{name}` is missing from {} in between", count::files(gaps as u64)));
        }
    }
    warnings
}
