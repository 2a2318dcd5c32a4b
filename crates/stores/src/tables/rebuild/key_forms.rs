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

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// The key of one text, in a column that compares like this; the database gives every text the form `same`.
    fn key(loosely: Option<Loosely>, text: &str) -> Vec<u8> {
        let mut forms = KeyForms::of(vec![loosely]);
        forms.learn(AskedForms::from([((0, text.as_bytes().into()), b"same".to_vec())]));
        let (mut rows, mut key) = (Rows::default(), Vec::new());
        rows.records.bytes.extend_from_slice(text.as_bytes());
        forms.put(0, Cell::text(0..text.len()), &rows, &mut key);
        key
    }

    #[rstest]
    #[case::bytes(None, "berth", "Berth", false)]
    #[case::case(Some(Loosely::Case), "berth", "BERTH", true)]
    #[case::only_of_ascii(Some(Loosely::Case), "m\u{f4}le", "M\u{d4}LE", false)]
    #[case::blanks(Some(Loosely::BlanksAtEnd), "N1", "N1  ", true)]
    #[case::blanks_alone(Some(Loosely::BlanksAtEnd), "", "  ", true)]
    #[case::blanks_before(Some(Loosely::BlanksAtEnd), "N1", " N1", false)]
    #[case::tabs(Some(Loosely::BlanksAtEnd), "N1", "N1\t", false)]
    #[case::asked(Some(Loosely::Asked("upper({})".into())), "quai", "qua\u{ef}", true)]
    fn texts_have_one_form_where_they_are_one(
        #[case] loosely: Option<Loosely>,
        #[case] one: &str,
        #[case] other: &str,
        #[case] is_same: bool,
    ) {
        assert_eq!(key(loosely.clone(), one) == key(loosely, other), is_same);
    }

    #[test]
    fn only_columns_that_the_database_is_asked_about_are_asked_about() {
        let asked = Loosely::Asked("upper({})".to_owned());
        let forms = KeyForms::of(vec![None, Some(Loosely::Case), Some(asked)]);
        assert!(forms.are_asked());
        let expressions: Vec<Option<&str>> = (0..4).map(|part| forms.expression(part)).collect();
        assert_eq!(expressions, [None, None, Some("upper({})"), None]);
        assert!(!KeyForms::of(vec![None, Some(Loosely::BlanksAtEnd)]).are_asked());
    }

    /// What is no text is written as it is, and a form is no cell.
    #[test]
    fn numbers_are_their_own_form() {
        let forms = KeyForms::of(vec![Some(Loosely::Case)]);
        let (mut key, mut plain) = (Vec::new(), Vec::new());
        forms.put(0, Cell::Integer(7), &Rows::default(), &mut key);
        put_cell(Cell::Integer(7), &Rows::default(), &mut plain);
        assert_eq!(key, plain);
    }
}
