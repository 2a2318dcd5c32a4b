//! How a table tells keys apart. Where a column compares texts loosely (without regard to case, say), all texts that it
//! takes for one have one form, and keys are the same where their forms are.

use std::collections::HashMap;

use hypodoke_core::cast::packed::put_cell;
use hypodoke_core::cast::{Cell, Rows};

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
    asked: AskedForms,
}

/// A text of a key: its part of the key, and its bytes.
pub type KeyText = (usize, Box<[u8]>);

/// The forms of texts.
pub type AskedForms = HashMap<KeyText, Vec<u8>>;

/// A part of a key that no cell is written as.
const FORM: u8 = u8::MAX;

impl KeyForms {
    /// The forms of a key whose columns compare like this.
    pub fn of(columns: Vec<Option<Loosely>>) -> KeyForms {
        KeyForms { columns, asked: HashMap::new() }
    }

    /// Whether the database is asked for the forms of some texts.
    pub fn are_asked(&self) -> bool {
        self.columns.iter().any(|column| matches!(column, Some(Loosely::Asked(_))))
    }

    /// By which expression the database gives the form of a part of the key.
    pub fn expression(&self, part: usize) -> Option<&str> {
        match self.columns.get(part)? {
            Some(Loosely::Asked(expression)) => Some(expression),
            _ => None,
        }
    }

    /// Takes in the forms that the database gave, in the place of those it gave before.
    pub fn learn(&mut self, asked: AskedForms) {
        self.asked = asked;
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
