//! What stays nested, as JSON.

use arrow_array::Array;
use arrow_array::cast::AsArray;
use arrow_schema::{DataType, Field};
use hypodoke_core::record::{Cell, TypedColumn};
use serde_json::Value;

use super::lists::ListRanges;
use super::values::{Filling, Rows, Told};
use crate::error::ReadError;

/// How deep values may stand in one another.
const MOST_DEPTH: usize = 64;

/// One value of an array as JSON.
///
/// # Errors
///
/// It is nested too deep, or holds a text that is too long.
pub fn value(array: &dyn Array, row: usize, limit: usize, told: &mut Told) -> Result<Value, ReadError> {
    within(array, row, limit, told, 0)
}

fn within(
    array: &dyn Array,
    row: usize,
    limit: usize,
    told: &mut Told,
    depth: usize,
) -> Result<Value, ReadError> {
    if depth > MOST_DEPTH {
        let error = format!("values stand in one another more than {MOST_DEPTH} deep");
        return Err(ReadError::Columnar { what: "columnar", error });
    }
    if array.is_null(row) {
        return Ok(Value::Null);
    }
    match array.data_type() {
        DataType::Struct(fields) => {
            let values = array.as_struct();
            let mut object = serde_json::Map::new();
            for (field, column) in fields.iter().zip(values.columns()) {
                object.insert(field.name().clone(), within(column.as_ref(), row, limit, told, depth + 1)?);
            }
            Ok(object.into())
        }
        DataType::Map(_, _) => {
            let map = array.as_map();
            let ranges = ListRanges::of(array);
            let mut pairs = Vec::new();
            for at in ranges.map_or(0..0, |ranges| ranges.range(row)) {
                let key = within(map.keys().as_ref(), at, limit, told, depth + 1)?;
                pairs.push((key, within(map.values().as_ref(), at, limit, told, depth + 1)?));
            }
            Ok(object_of(pairs))
        }
        DataType::Union(_, _) => {
            let union = array.as_union();
            let child = union.child(union.type_id(row));
            within(child.as_ref(), union.value_offset(row), limit, told, depth + 1)
        }
        _ => match ListRanges::of(array) {
            Some(ranges) => {
                let items = ranges.range(row).map(|at| within(ranges.items(), at, limit, told, depth + 1));
                Ok(Value::Array(items.collect::<Result<_, _>>()?))
            }
            None => scalar(array, row, limit, told),
        },
    }
}

/// An object of the pairs of a map, if its keys are texts that differ, or a list of pairs.
fn object_of(pairs: Vec<(Value, Value)>) -> Value {
    let is_text = |(key, _): &(Value, Value)| key.is_string();
    let mut object = serde_json::Map::new();
    if pairs.iter().all(is_text) {
        for (key, value) in &pairs {
            object.insert(key.as_str().unwrap_or_default().to_owned(), value.clone());
        }
        if object.len() == pairs.len() {
            return object.into();
        }
    }
    Value::Array(pairs.into_iter().map(|(key, value)| Value::Array(vec![key, value])).collect())
}

fn scalar(array: &dyn Array, row: usize, limit: usize, told: &mut Told) -> Result<Value, ReadError> {
    let (mut cells, mut bytes, mut wide) = (Vec::new(), Vec::new(), Vec::new());
    let column = TypedColumn { cells: &mut cells, bytes: &mut bytes, wide: &mut wide };
    let mut filling = Filling { column, told, limit, is_uuid: false };
    filling.fill(array, Rows { numbers: &[row], mask: None })?;
    Ok(cells.first().copied().unwrap_or(Cell::Null).json(&bytes, &wide))
}

/// Whether a field holds identifiers of sixteen bytes.
pub fn is_uuid(field: &Field) -> bool {
    field.metadata().get("ARROW:extension:name").is_some_and(|name| name == "arrow.uuid")
}
