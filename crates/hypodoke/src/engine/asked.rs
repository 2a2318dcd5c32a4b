//! What a feed asks of columns and rows, read as the types that the columns turned out to have.

use hypodoke_core::cast::{Condition, Demand, Literal, Test};
use hypodoke_core::layout::{Column, Expected, Format, Otherwise};
use hypodoke_core::names::match_key;
use hypodoke_core::types::Type;

use super::approach::TableApproach;
use super::{Feed, KeepTest};

/// What is asked of a column's values.
pub fn demand(expected: &Expected, column: &Column) -> Result<Demand, String> {
    if !expected.is_any() {
        return Ok(Demand::default());
    }
    let literal = |text: &String| read(text, column.ty(), column);
    let (least, most) = match &expected.between {
        Some((least, most)) => (Some(literal(least)?), Some(literal(most)?)),
        None => (None, None),
    };
    Ok(Demand {
        not_null: expected.not_null,
        one_of: expected.one_of.iter().map(literal).collect::<Result<_, _>>()?,
        least,
        most,
        unique: expected.unique,
        rejects: expected.otherwise == Otherwise::Reject,
    })
}

/// What stands for null in a column, once it is known to be of its type.
pub fn default(text: String, column: &Column) -> Result<String, String> {
    read(&text, column.ty(), column)?;
    Ok(text)
}

/// Whether a text that fills every row is of its column's type.
pub fn constant(text: &str, column: &Column) -> Result<(), String> {
    read(text, column.ty(), column).map(|_| ())
}

fn read(text: &str, ty: Type, column: &Column) -> Result<Literal, String> {
    Literal::read(text, ty).map_err(|why| format!("{why}, which the column `{}` is", column.name))
}

/// The conditions that rows have to meet to be kept.
pub fn conditions(table: &TableApproach, feed: &Feed) -> Result<Vec<Condition>, String> {
    let layout = &table.fit.layout;
    let condition = |rule: &super::KeepRule| {
        let key = match_key(&rule.column);
        let kept = layout.columns.iter().position(|column| {
            column.name == rule.column || match_key(&column.source) == key || match_key(&column.name) == key
        });
        let by_name = || table.head.names.iter().position(|name| match_key(name) == key);
        let field = kept.and_then(|at| table.fit.sources[at]).or_else(by_name);
        let Some(field) = field.filter(|at| *at < table.head.names.len()) else {
            return Err(format!("rows are kept by the column `{}`, which is not in it", rule.column));
        };
        let of_column = |text: &str| {
            let column = kept.map(|at| &layout.columns[at]);
            match column.filter(|column| column.ty() != Type::Text) {
                Some(column) => (column.ty(), table.formats[kept.unwrap_or_default()].0),
                None => (guessed(text), Format::default()),
            }
        };
        let bound = |text: &String| -> Result<(Literal, Type, Format), String> {
            let (ty, format) = of_column(text);
            let literal = Literal::read(text, ty)
                .map_err(|why| format!("{why}, by which rows are kept, as `{}` is", rule.column))?;
            Ok((literal, ty, format))
        };
        let (test, ty, format) = match &rule.test {
            KeepTest::AtLeast(text) => {
                let (literal, ty, format) = bound(text)?;
                (Test::AtLeast(literal), ty, format)
            }
            KeepTest::AtMost(text) => {
                let (literal, ty, format) = bound(text)?;
                (Test::AtMost(literal), ty, format)
            }
            KeepTest::OneOf(texts) => {
                let column = kept.map(|at| &layout.columns[at]);
                let (ty, format) = match column {
                    Some(column) => (column.ty(), table.formats[kept.unwrap_or_default()].0),
                    None => (Type::Text, Format::default()),
                };
                let literals = texts.iter().map(|text| {
                    Literal::read(text, ty)
                        .map_err(|why| format!("{why}, by which rows are kept, as `{}` is", rule.column))
                });
                (Test::OneOf(literals.collect::<Result<_, _>>()?), ty, format)
            }
            KeepTest::Matches(pattern) => (Test::Matches(pattern.clone()), Type::Text, Format::default()),
            KeepTest::IsNull(wanted) => (Test::IsNull(*wanted), Type::Text, Format::default()),
        };
        Ok(Condition { field, ty, format, test })
    };
    feed.keep.iter().map(condition).collect()
}

/// What a bound is of, where the column does not say.
fn guessed(text: &str) -> Type {
    let number = Type::Decimal { precision: 38, scale: 9 };
    let kinds = [number, Type::Date, Type::Timestamp, Type::Time];
    kinds.into_iter().find(|ty| Literal::read(text, *ty).is_ok()).unwrap_or(Type::Text)
}
