//! Receipts as JSON: what the engine collected, with the sentences of its reasons and what to do about each line.

use hypodoke_engine::receipt::{Receipt, ReceiptLine};
use serde::Serialize;
use serde_json::Value;

use crate::wording::{line_advice, reasons};

/// A receipt with advice.
#[derive(Serialize)]
pub struct ReceiptDocument<'a> {
    #[serde(flatten)]
    fields: Fields<'a>,
}

/// The fields of a receipt, the lines with advice in their place.
struct Fields<'a>(&'a Receipt);

/// A line of a receipt with words.
pub struct LineDocument<'a>(&'a ReceiptLine);

/// A receipt as JSON gives it.
pub fn document(receipt: &Receipt) -> ReceiptDocument<'_> {
    ReceiptDocument { fields: Fields(receipt) }
}

/// A line of a receipt as JSON gives it.
pub fn line(line: &ReceiptLine) -> LineDocument<'_> {
    LineDocument(line)
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

impl Serialize for LineDocument<'_> {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let line = self.0;
        let mut value = serde_json::to_value(line).map_err(serde::ser::Error::custom)?;
        if let Some(holds) = value["holds"].as_array_mut() {
            for (hold, of) in holds.iter_mut().zip(&line.holds) {
                hold["why"] = reasons::of_hold(of).into();
            }
        }
        value["message"] = reasons::of_line(line).into();
        value["notes"] = reasons::notes(line).into();
        value["advice"] = line_advice(line).into();
        value.serialize(serializer)
    }
}
