//! What a feed says of its columns and rows.

use hypodoke_core::evidence::Forced;
use hypodoke_core::layout::{ColumnRule, Expected, Otherwise, UnusualValues};
use hypodoke_core::names::is_reserved_column;
use hypodoke_core::spelling::Fraction;
use hypodoke_core::types::{TYPE_WORDS, Type};

use super::reader::{Placed, Section, suggest};
use crate::failure::Failure;
use crate::values::format;
use hypodoke_engine::job::{KeepRule, KeepTest};

/// What may become of rows that are not as expected.
const OTHERWISE: [(&str, Otherwise); 4] = [
    ("reject", Otherwise::Reject),
    ("hold", Otherwise::Hold),
    ("fail", Otherwise::Fail),
    ("warn", Otherwise::Warn),
];

/// Rules for columns of the file, and columns that hold the same in every row.
type Columns = (Vec<ColumnRule>, Vec<(String, Placed<String>)>);

/// Reads `[feed.NAME.columns.COLUMN]`.
pub fn read(section: &mut Section<'_>) -> Result<Columns, Failure> {
    let (mut rules, mut constants) = (Vec::new(), Vec::new());
    for (source, mut column) in section.inner("columns")? {
        let name = column.text("name")?;
        if let Some(blank) = name.as_ref().filter(|name| name.value.trim().is_empty()) {
            return Err(column.wrong(blank, "`name` is blank"));
        }
        if let Some(reserved) = name.as_ref().filter(|name| is_reserved_column(&name.value)) {
            let what = format!("`{}` is a name that the ledger or the databases keep", reserved.value);
            return Err(column.wrong(reserved, what));
        }
        let ty = match column.text("type")? {
            Some(text) => Some(
                text.value
                    .parse::<Type>()
                    .map_err(|why| suggest(column.wrong(&text, why), &text.value, TYPE_WORDS))?,
            ),
            None => None,
        };
        let forced = match column.text("format")? {
            Some(text) => format(&text.value).map_err(|why| column.wrong(&text, why))?,
            None => Forced::default(),
        };
        let fraction = column.word("fraction", &Fraction::WORDS)?;
        let forced = Forced { fraction, ..forced };
        let also_null = column.texts("also_null")?.map_or_else(Vec::new, |words| words.value);
        let skip = column.truth("skip")?.unwrap_or_default();
        let trim = column.truth("trim")?.unwrap_or_default();
        let default = column.scalar("default")?.map(|text| text.value);
        let constant = column.scalar("constant")?;
        let expected = expected(&mut column)?;
        let values = column.word("values", &UnusualValues::WORDS)?;
        if let Some(constant) = &constant
            && (skip || default.is_some())
        {
            return Err(
                column.wrong(constant, "`constant` fills every row; `skip` and `default` do not go with it")
            );
        }
        column.finish()?;
        constants.extend(constant.map(|constant| (source.clone(), constant)));
        let name = name.map(|name| name.value);
        rules.push(ColumnRule { source, name, ty, forced, also_null, skip, trim, default, expected, values });
    }
    Ok((rules, constants))
}

fn expected(column: &mut Section<'_>) -> Result<Expected, Failure> {
    let between = match column.scalars("between")? {
        Some(found) => match &found.value[..] {
            [least, most] => Some((least.clone(), most.clone())),
            _ => return Err(column.wrong(&found, "`between` takes two values, the least and the greatest")),
        },
        None => None,
    };
    Ok(Expected {
        not_null: column.truth("not_null")?.unwrap_or_default(),
        unique: column.truth("unique")?.unwrap_or_default(),
        one_of: column.scalars("one_of")?.map_or_else(Vec::new, |words| words.value),
        between,
        otherwise: column.word("otherwise", &OTHERWISE)?.unwrap_or_default(),
    })
}

/// Reads `[feed.NAME.keep.COLUMN]`.
pub fn keep(section: &mut Section<'_>) -> Result<Vec<KeepRule>, Failure> {
    let mut rules = Vec::new();
    for (column, mut section) in section.inner("keep")? {
        let mut tests = Vec::new();
        if let Some(found) = section.scalar("equals")? {
            tests.push(KeepTest::OneOf(vec![found.value]));
        }
        if let Some(found) = section.scalars("one_of")? {
            tests.push(KeepTest::OneOf(found.value));
        }
        if let Some(found) = section.scalar("at_least")? {
            tests.push(KeepTest::AtLeast(found.value));
        }
        if let Some(found) = section.scalar("at_most")? {
            tests.push(KeepTest::AtMost(found.value));
        }
        if let Some(found) = section.text("matches")? {
            let pattern = regex::bytes::Regex::new(&found.value).map_err(|_| {
                section.wrong(&found, format!("`{}` is not a regular expression", found.value))
            })?;
            tests.push(KeepTest::Matches(pattern));
        }
        if let Some(wanted) = section.truth("is_null")? {
            tests.push(KeepTest::IsNull(wanted));
        }
        section.finish()?;
        rules.extend(tests.into_iter().map(|test| KeepRule { column: column.clone(), test }));
    }
    Ok(rules)
}
