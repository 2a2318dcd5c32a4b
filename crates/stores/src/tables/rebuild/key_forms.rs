//! How a table tells keys apart. Where a column compares texts loosely (without regard to case, say), all texts that it
//! takes for one have one form, and keys are the same where their forms are.

use std::collections::{HashMap, HashSet};

use hypodoke_core::cast::packed::{PackedColumns, put_cell};
use hypodoke_core::cast::{Cell, Rows};

use super::arena::{cell_now, places_in};
use super::table::TableRows;
use super::target::RebuildTarget;
use crate::error::StoreError;
use crate::sql::{Misread, SqlValue};
use crate::tables::row_archive::{Next, for_each_row};

/// How a column compares texts, where it does not compare their bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Loosely {
    /// The letters of ASCII are the same in either case.
    Case,
    /// Blanks at the end do not count.
    BlanksAtEnd,
    /// The database gives the form of a text by this expression, in which `{}` stands for the text.
    Asked(String),
}

/// The forms of the texts in a table's key.
#[derive(Debug, Default)]
pub struct KeyForms {
    /// How each column of the key compares, where it does so loosely.
    columns: Vec<Option<Loosely>>,
    /// The forms that the database gave, of the texts of one block of rows.
    asked: HashMap<(usize, Box<[u8]>), Vec<u8>>,
}

/// A part of a key that no cell is written as.
const FORM: u8 = u8::MAX;

/// How many forms are asked for in one statement.
const AT_ONCE: usize = 64;

impl KeyForms {
    /// How a table compares the columns of its key.
    pub fn of(target: &mut dyn RebuildTarget, table: &TableRows<'_>) -> Result<KeyForms, StoreError> {
        let columns = target.compared_loosely(&table.plan.table, &table.plan.key)?;
        Ok(KeyForms { columns, asked: HashMap::new() })
    }

    /// Whether the database is asked for the forms of some texts.
    pub fn are_asked(&self) -> bool {
        self.columns.iter().any(|column| matches!(column, Some(Loosely::Asked(_))))
    }

    /// Asks for the forms of the keys in one block of a file's rows, and forgets those of other blocks.
    pub fn learn(
        &mut self,
        target: &mut dyn RebuildTarget,
        table: &TableRows<'_>,
        (file, name, is_child): (i64, &str, bool),
        block: i64,
    ) -> Result<(), StoreError> {
        let mut texts: HashSet<(usize, Box<[u8]>)> = HashSet::new();
        let mut places: Option<(PackedColumns, Vec<Option<usize>>)> = None;
        let (from, blocks) = ((file, name, is_child), block..block.saturating_add(1));
        for_each_row(target.archive(), from, blocks, &mut Rows::default(), &mut |unpacked| {
            if places.as_ref().is_none_or(|(known, _)| known != unpacked.columns) {
                places = Some((unpacked.columns.clone(), places_in(table, unpacked.columns)));
            }
            let Some((_, places)) = &places else { return Ok(Next::Enough) };
            for (part, at) in table.key.iter().enumerate() {
                let cell = cell_now(table, places, (unpacked.cells, *at), unpacked.rows);
                if let Some(Cell::Text { start, len }) = cell
                    && matches!(self.columns.get(part), Some(Some(Loosely::Asked(_))))
                {
                    texts.insert((part, unpacked.rows.bytes(start, len).into()));
                }
            }
            Ok(Next::Row)
        })?;
        self.asked.clear();
        for (part, column) in self.columns.iter().enumerate() {
            let Some(Loosely::Asked(expression)) = column else { continue };
            let own: Vec<&[u8]> =
                texts.iter().filter(|(of, _)| *of == part).map(|(_, text)| &**text).collect();
            for texts in own.chunks(AT_ONCE) {
                let forms = ask(target, expression, texts)?;
                self.asked.extend(texts.iter().map(|text| (part, (*text).into())).zip(forms));
            }
        }
        Ok(())
    }

    /// Adds a part of a key to it: the form of its text, or the cell as it is.
    pub fn put(&self, part: usize, cell: Cell, rows: &Rows, key: &mut Vec<u8>) {
        let (Some(Some(loosely)), Cell::Text { start, len }) = (self.columns.get(part), cell) else {
            return put_cell(cell, rows, key);
        };
        let text = rows.bytes(start, len);
        let mut put = |form: &[u8]| {
            key.push(FORM);
            key.extend_from_slice(&(form.len() as u64).to_le_bytes());
            key.extend_from_slice(form);
        };
        match loosely {
            Loosely::Case => put(&text.to_ascii_lowercase()),
            Loosely::BlanksAtEnd => put(without_blanks(text)),
            Loosely::Asked(_) => match self.asked.get(&(part, text.into())) {
                Some(form) => put(form),
                None => put(text),
            },
        }
    }
}

fn without_blanks(text: &[u8]) -> &[u8] {
    let end = text.iter().rposition(|byte| *byte != b' ').map_or(0, |last| last + 1);
    text.get(..end).unwrap_or_default()
}

/// The forms of some texts, no more than [`AT_ONCE`].
fn ask(
    target: &mut dyn RebuildTarget,
    expression: &str,
    texts: &[&[u8]],
) -> Result<Vec<Vec<u8>>, StoreError> {
    // Always as many, so that there is one statement to prepare.
    let parts: Vec<String> = (1..=AT_ONCE).map(|at| expression.replace("{}", &format!("?{at}"))).collect();
    let sql = format!("SELECT {}", parts.join(", "));
    let value = |at: usize| {
        let text = texts.get(at).map(|text| String::from_utf8_lossy(text)).unwrap_or_default();
        SqlValue::from(&*text)
    };
    let values: Vec<SqlValue> = (0..AT_ONCE).map(value).collect();
    let found = target.query(&sql, &values)?;
    let forms = found.first().map_or(Ok(Vec::new()), |row| {
        (0..texts.len()).map(|at| Ok(row.text(at)?.into_bytes())).collect::<Result<Vec<_>, Misread>>()
    });
    forms.map_err(|misread| StoreError::Damaged { shown: target.shown(), what: misread.0 })
}
