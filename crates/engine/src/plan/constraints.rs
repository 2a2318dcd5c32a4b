//! What a feed asks of columns and rows, read as the types that the columns turned out to have.

use hypodoke_core::cast::{Condition, Demand, Literal, Test};
use hypodoke_core::layout::{Column, Expected, Format, Layout, Otherwise};
use hypodoke_core::names::match_key;
use hypodoke_core::types::{Domain, Type};

use crate::decide::ConstraintProblem;
use crate::job::{Feed, KeepRule, KeepTest};

/// The columns that constraints are about.
#[derive(Clone, Copy, Debug)]
pub struct Constrained<'a> {
    /// The table's layout.
    pub layout: &'a Layout,
    /// For each of its columns, the field of the file.
    pub sources: &'a [Option<usize>],
    /// For each of its columns, how the file writes it.
    pub formats: &'a [(Format, Domain)],
    /// The names of the file's fields.
    pub names: &'a [String],
}

/// What is asked of a column's values.
pub fn demand(expected: &Expected, column: &Column) -> Result<Demand, ConstraintProblem> {
    if !expected.is_any() {
        return Ok(Demand::default());
    }
    let literal = |text: &String| read(text, column);
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
pub fn default(text: String, column: &Column) -> Result<String, ConstraintProblem> {
    read(&text, column)?;
    Ok(text)
}

/// Whether a text that fills every row is of its column's type.
pub fn constant(text: &str, column: &Column) -> Result<(), ConstraintProblem> {
    read(text, column).map(|_| ())
}

fn read(text: &str, column: &Column) -> Result<Literal, ConstraintProblem> {
    Literal::read(text, column.ty())
        .map_err(|why| ConstraintProblem::OtherType { why, column: column.name.clone() })
}

/// The conditions that rows have to meet to be kept.
pub fn conditions(columns: &Constrained<'_>, feed: &Feed) -> Result<Vec<Condition>, ConstraintProblem> {
    feed.keep.iter().map(|rule| columns.condition(rule)).collect()
}

impl Constrained<'_> {
    fn condition(&self, rule: &KeepRule) -> Result<Condition, ConstraintProblem> {
        let key = match_key(&rule.column);
        let kept = self.layout.columns.iter().position(|column| {
            column.name == rule.column || match_key(&column.source) == key || match_key(&column.name) == key
        });
        let by_name = || self.names.iter().position(|name| match_key(name) == key);
        let field = kept.and_then(|at| self.sources.get(at).copied().flatten()).or_else(by_name);
        let Some(field) = field.filter(|at| *at < self.names.len()) else {
            return Err(ConstraintProblem::NoKeptColumn { column: rule.column.clone() });
        };
        let literal = |text: &String, ty: Type| {
            Literal::read(text, ty)
                .map_err(|why| ConstraintProblem::OtherTypeOfKept { why, column: rule.column.clone() })
        };
        let (ty, format, test) = match &rule.test {
            KeepTest::AtLeast(text) => {
                let (ty, format) = self.bound_type(kept, text);
                (ty, format, Test::AtLeast(literal(text, ty)?))
            }
            KeepTest::AtMost(text) => {
                let (ty, format) = self.bound_type(kept, text);
                (ty, format, Test::AtMost(literal(text, ty)?))
            }
            KeepTest::OneOf(texts) => {
                let (ty, format) = self.column_type(kept).unwrap_or((Type::Text, Format::default()));
                let literals = texts.iter().map(|text| literal(text, ty)).collect::<Result<_, _>>()?;
                (ty, format, Test::OneOf(literals))
            }
            KeepTest::Matches(pattern) => (Type::Text, Format::default(), Test::Matches(pattern.clone())),
            KeepTest::IsNull(wanted) => (Type::Text, Format::default(), Test::IsNull(*wanted)),
        };
        Ok(Condition { field, ty, format, test })
    }

    /// The type of a column of the table, and how the file writes it.
    fn column_type(&self, at: Option<usize>) -> Option<(Type, Format)> {
        let at = at?;
        Some((self.layout.columns.get(at)?.ty(), self.formats.get(at)?.0))
    }

    /// The type that a bound is read as: the column's, or what it looks like where the column is text.
    fn bound_type(&self, at: Option<usize>, text: &str) -> (Type, Format) {
        let typed = self.column_type(at).filter(|(ty, _)| *ty != Type::Text);
        typed.unwrap_or_else(|| (guessed(text), Format::default()))
    }
}

/// What a bound is of, where the column does not say.
fn guessed(text: &str) -> Type {
    let number = Type::Decimal { precision: 38, scale: 9 };
    let kinds = [number, Type::Date, Type::Timestamp, Type::Time];
    kinds.into_iter().find(|ty| Literal::read(text, *ty).is_ok()).unwrap_or(Type::Text)
}
