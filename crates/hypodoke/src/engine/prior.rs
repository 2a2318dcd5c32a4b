//! What is known of a file before it is looked at: from the tables it goes to, and from the files
//! that came with it.

use std::collections::HashMap;

use hypodoke_core::evidence::Habit;
use hypodoke_core::layout::{Layout, Reading};
use hypodoke_core::names::match_key;
use hypodoke_formats::TableHead;

use super::ground::Ground;
use super::look::{Looked, LookedTable};

/// What is known beforehand.
#[derive(Clone, Debug, Default)]
pub struct Prior {
    /// Lists that other files have: an object in the place of one is a list of one.
    pub lists: Vec<TableHead>,
    /// How columns are written, by the path of their table and their name without case and blanks.
    habits: HashMap<String, HashMap<String, Habit>>,
}

impl Prior {
    /// What the tables tell that files went to before.
    pub fn of(ground: &Ground) -> Prior {
        let mut prior = Prior::default();
        prior.learn("", ground.main.layout());
        for (part, base) in &ground.parts {
            prior.learn(&part.path, base.layout());
        }
        prior
    }

    /// What files at hand tell of one another: how their clear columns are written, as far as they
    /// agree about it.
    pub fn among<'a>(files: impl Iterator<Item = &'a Looked>) -> Prior {
        let mut prior = Prior::default();
        for table in files.flat_map(|looked| &looked.tables) {
            let found = prior.habits.entry(table.head.path.clone()).or_default();
            for (column, decision) in table.layout.columns.iter().zip(&table.decisions) {
                let habit = Habit::of(column.domain, column.format);
                if decision.reading == Reading::Shown && habit != Habit::default() {
                    // Those who do not agree leave nothing, and nobody comes after them.
                    let known = found.entry(match_key(&column.name)).or_insert(habit);
                    *known = if *known == habit { habit } else { Habit::default() };
                }
            }
        }
        prior
    }

    /// The same, knowing these lists, by their paths.
    pub fn with_lists(mut self, paths: impl IntoIterator<Item = String>) -> Prior {
        let mut paths: Vec<String> = paths.into_iter().collect();
        paths.sort();
        paths.dedup();
        let list = |path| TableHead { path, names: Vec::new(), is_child: true };
        self.lists = std::iter::once(TableHead::default()).chain(paths.into_iter().map(list)).collect();
        self
    }

    fn learn(&mut self, path: &str, layout: Option<&Layout>) {
        let columns = layout.map(|layout| layout.columns.as_slice()).unwrap_or_default();
        let habits = columns.iter().map(|c| (match_key(&c.name), Habit::of(c.domain, c.format)));
        self.habits.insert(path.to_owned(), habits.collect());
    }

    /// How the columns of one of a file's tables were written until now.
    pub fn habits(&self, path: &str, columns: &Layout) -> Vec<Habit> {
        columns.columns.iter().map(|column| self.habit(path, &column.name)).collect()
    }

    fn habit(&self, path: &str, column: &str) -> Habit {
        let known = self.habits.get(path).and_then(|columns| columns.get(&match_key(column)));
        known.copied().unwrap_or_default()
    }

    /// Whether a table was read in another way than this tells.
    pub fn is_broken_by(&self, table: &LookedTable) -> bool {
        let columns = table.layout.columns.iter().zip(&table.decisions);
        columns
            .filter(|(_, decision)| decision.reading == Reading::Guessed)
            .any(|(column, decision)| self.habit(&table.head.path, &column.name).is_broken_by(decision))
    }
}
