//! The forms of keys asked of the database, one block of a file's rows after another.

use std::collections::HashSet;

use hypodoke_core::cast::packed::PackedColumns;
use hypodoke_core::cast::{Cell, Rows};

use super::arena::{cell_now, places_in};
use super::key_forms::{AskedForms, KeyForms, KeyText};
use super::table::TableRows;
use super::target::RebuildTarget;
use crate::error::StoreError;
use crate::sql::{Misread, SqlValue};
use crate::tables::row_archive::{Next, for_each_row};

/// How many forms are asked for in one statement.
const AT_ONCE: usize = 64;

/// Finds how a table compares the texts of its key.
pub fn find_forms(target: &mut dyn RebuildTarget, table: &TableRows<'_>) -> Result<(), StoreError> {
    let columns = target.compared_loosely(&table.plan.table, &table.plan.key)?;
    *table.forms.borrow_mut() = KeyForms::of(columns);
    Ok(())
}

/// Asks for the forms of the keys in one block of a file's rows, and forgets those of other blocks.
pub fn ask_forms(
    target: &mut dyn RebuildTarget,
    table: &TableRows<'_>,
    from: (i64, &str, bool),
    block: i64,
) -> Result<(), StoreError> {
    let texts = texts_in(target, table, from, block)?;
    let mut asked = AskedForms::new();
    for part in 0..table.key.len() {
        let expression = table.forms.borrow().expression(part).map(str::to_owned);
        let Some(expression) = expression else { continue };
        let own: Vec<&[u8]> = texts.iter().filter(|(of, _)| *of == part).map(|(_, text)| &**text).collect();
        for texts in own.chunks(AT_ONCE) {
            let forms = ask(target, &expression, texts)?;
            asked.extend(texts.iter().map(|text| (part, (*text).into())).zip(forms));
        }
    }
    table.forms.borrow_mut().learn(asked);
    Ok(())
}

/// The texts in a block whose forms are asked for, each with its part of the key.
fn texts_in(
    target: &mut dyn RebuildTarget,
    table: &TableRows<'_>,
    from: (i64, &str, bool),
    block: i64,
) -> Result<HashSet<KeyText>, StoreError> {
    let (mut texts, forms) = (HashSet::new(), table.forms.borrow());
    let mut places: Option<(PackedColumns, Vec<Option<usize>>)> = None;
    let blocks = block..block.saturating_add(1);
    for_each_row(target.archive(), from, blocks, &mut Rows::default(), &mut |unpacked| {
        if places.as_ref().is_none_or(|(known, _)| known != unpacked.columns) {
            places = Some((unpacked.columns.clone(), places_in(table, unpacked.columns)));
        }
        let Some((_, places)) = &places else { return Ok(Next::Enough) };
        for (part, at) in table.key.iter().enumerate().filter(|(part, _)| forms.expression(*part).is_some()) {
            if let Some(Cell::Text { start, len }) =
                cell_now(table, places, (unpacked.cells, *at), unpacked.rows)
            {
                texts.insert((part, unpacked.rows.bytes(start, len).into()));
            }
        }
        Ok(Next::Row)
    })?;
    Ok(texts)
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
