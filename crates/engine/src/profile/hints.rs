//! What is known of how a file is written before it is profiled: from the tables it goes to, and from the files
//! that came with it.

use std::collections::HashMap;

use hypodoke_core::evidence::FormatHint;
use hypodoke_core::layout::{Layout, Reading};
use hypodoke_core::names::match_key;
use hypodoke_formats::TableHead;

use super::{FileProfile, TableProfile};

/// What is known beforehand.
#[derive(Clone, Debug, Default)]
pub struct FormatHints {
    /// Lists that other files have: an object in the place of one is a list of one.
    pub lists: Vec<TableHead>,
    /// Keys of the main table's records that were objects until now.
    objects: Vec<String>,
    /// How many columns the files before had; 0 where that is not known.
    width: usize,
    /// How columns are written, by the path of their table and their name without case and blanks.
    by_table: HashMap<String, HashMap<String, FormatHint>>,
}

impl FormatHints {
    /// What files at hand tell of one another: how their clear columns are written, as far as they
    /// agree about it.
    pub fn among<'a>(files: impl Iterator<Item = &'a FileProfile>) -> FormatHints {
        let mut hints = FormatHints::default();
        for table in files.flat_map(|profile| &profile.tables) {
            let found = hints.by_table.entry(table.head.path.clone()).or_default();
            for (column, decision) in table.layout.columns.iter().zip(&table.decisions) {
                let hint = FormatHint::of(column.domain, column.format);
                if decision.reading == Reading::Shown && hint != FormatHint::default() {
                    // Those who do not agree leave nothing, and nobody comes after them.
                    let known = found.entry(match_key(&column.name)).or_insert(hint);
                    *known = if *known == hint { hint } else { FormatHint::default() };
                }
            }
        }
        hints
    }

    /// The same, knowing these lists, by their paths.
    pub fn with_lists(mut self, paths: impl IntoIterator<Item = String>) -> FormatHints {
        let mut paths: Vec<String> = paths.into_iter().collect();
        paths.sort();
        paths.dedup();
        let list = |path| TableHead { path, is_child: true, ..TableHead::default() };
        let main = TableHead { objects: self.objects.clone(), width: self.width, ..TableHead::default() };
        self.lists = std::iter::once(main).chain(paths.into_iter().map(list)).collect();
        self
    }

    /// The same, knowing how many columns the files before had.
    pub fn with_width(mut self, width: usize) -> FormatHints {
        self.width = width;
        self
    }

    /// The same, knowing that these keys of the main table's records are objects, whose columns stay.
    pub fn with_objects(mut self, objects: Vec<String>) -> FormatHints {
        self.objects = objects;
        self
    }

    /// The same, knowing these sheets that other files have, by their paths.
    pub fn with_sheets(mut self, paths: impl IntoIterator<Item = String>) -> FormatHints {
        let sheet = |path| TableHead { path, ..TableHead::default() };
        let sheets: Vec<TableHead> = paths.into_iter().map(sheet).collect();
        if self.lists.is_empty() && !sheets.is_empty() {
            self.lists.push(TableHead::default());
        }
        self.lists.extend(sheets);
        self
    }

    /// The sheets that other files have.
    pub fn sheets(&self) -> Vec<String> {
        self.lists.iter().skip(1).filter(|head| !head.is_child).map(|head| head.path.clone()).collect()
    }

    /// Takes in how the columns of a table were written until now. `path` is where in files its rows
    /// stand.
    pub fn learn(&mut self, path: &str, layout: Option<&Layout>) {
        let columns = layout.map(|layout| layout.columns.as_slice()).unwrap_or_default();
        let hints = columns.iter().map(|c| (match_key(&c.name), FormatHint::of(c.domain, c.format)));
        self.by_table.insert(path.to_owned(), hints.collect());
    }

    /// How the columns of one of a file's tables were written until now.
    pub fn of_columns(&self, path: &str, columns: &Layout) -> Vec<FormatHint> {
        columns.columns.iter().map(|column| self.hint(path, &column.name)).collect()
    }

    fn hint(&self, path: &str, column: &str) -> FormatHint {
        let known = self.by_table.get(path).and_then(|columns| columns.get(&match_key(column)));
        known.copied().unwrap_or_default()
    }

    /// Whether a table was read in another way than this tells.
    pub fn is_broken_by(&self, table: &TableProfile) -> bool {
        let columns = table.layout.columns.iter().zip(&table.decisions);
        columns
            .filter(|(_, decision)| decision.reading == Reading::Guessed)
            .any(|(column, decision)| self.hint(&table.head.path, &column.name).is_broken_by(decision))
    }
}
