//! Receipts as JSON: what the engine collected, with what to do about each line.

use hypodoke_engine::receipt::{Receipt, ReceiptLine};
use serde::Serialize;
use serde_json::Value;

use crate::wording::line_advice;

/// A receipt with advice.
#[derive(Serialize)]
pub struct ReceiptDocument<'a> {
    #[serde(flatten)]
    fields: Fields<'a>,
}

/// The fields of a receipt, the lines with advice in their place.
struct Fields<'a>(&'a Receipt);

/// A line of a receipt with advice.
#[derive(Serialize)]
pub struct LineDocument<'a> {
    #[serde(flatten)]
    line: &'a ReceiptLine,
    /// What to do about it.
    advice: Option<String>,
}

/// A receipt as JSON gives it.
pub fn document(receipt: &Receipt) -> ReceiptDocument<'_> {
    ReceiptDocument { fields: Fields(receipt) }
}

/// A line of a receipt as JSON gives it.
pub fn line(line: &ReceiptLine) -> LineDocument<'_> {
    LineDocument { line, advice: line_advice(line) }
}

impl Serialize for Fields<'_> {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut value = serde_json::to_value(self.0).map_err(serde::ser::Error::custom)?;
        let lines: Vec<LineDocument<'_>> = self.0.files.iter().map(line).collect();
        let lines = serde_json::to_value(lines).map_err(serde::ser::Error::custom)?;
        if let Value::Object(fields) = &mut value {
            fields.insert("files".to_owned(), lines);
        }
        value.serialize(serializer)
    }
}
