//! What the records of a table showed, column by column.

use std::collections::BTreeMap;

use super::column::ColumnEvidence;
use super::tally::{Spot, Tally};
use crate::record::{Fault, Records, TypedColumns};

/// What the records of a table showed.
#[derive(Clone, Debug, Default)]
pub struct TableEvidence {
    /// One per column.
    pub columns: Vec<ColumnEvidence>,
    /// Records read, those that do not fit included.
    pub rows: u64,
    /// Records with another number of fields, by that number.
    pub ragged: BTreeMap<usize, Tally>,
    /// Records that are broken in themselves.
    pub faulty: Tally,
}

impl TableEvidence {
    /// No evidence yet for so many columns.
    pub fn new(width: usize) -> TableEvidence {
        TableEvidence { columns: vec![ColumnEvidence::default(); width], ..TableEvidence::default() }
    }

    /// Makes room for columns that were not known when the first records came: those lacked them.
    pub fn widen(&mut self, width: usize, blank: impl Fn(usize) -> ColumnEvidence) {
        for column in self.columns.len()..width {
            let mut evidence = blank(column);
            evidence.missing = self.rows;
            self.columns.push(evidence);
        }
    }

    /// Takes a batch of records of one file in. Records with another number of fields than
    /// there are columns are counted and otherwise left alone: they will be rejects.
    pub fn add(&mut self, records: &Records, file: u32) {
        let width = self.columns.len();
        self.rows += records.len() as u64;
        for (at, fault) in records.faults() {
            let note = match fault {
                Fault::Broken(why) => why.as_bytes(),
                _ => records.raw(*at),
            };
            self.faulty.add(|| Spot { file, line: records.line(*at) }, note);
        }
        if let Some(values) = records.typed() {
            return self.add_columns(records, values, file);
        }
        // Column by column: one column's values take the same branches again and again.
        if records.even_width() == Some(width) && records.faults().is_empty() {
            for (index, column) in self.columns.iter_mut().enumerate() {
                for (row, field) in records.column(index, width).enumerate() {
                    column.add_field(records, field, || Spot { file, line: records.line(row) });
                }
            }
            return;
        }
        for row in 0..records.len() {
            let spot = || Spot { file, line: records.line(row) };
            let fields = records.fields(row);
            if records.fault(row).is_some() {
                continue;
            }
            if fields.len() != width && !(records.open_ended && fields.len() < width) {
                self.ragged.entry(fields.len()).or_default().add(spot, records.raw(row));
                continue;
            }
            for (column, field) in self.columns.iter_mut().zip(fields) {
                column.add_field(records, *field, spot);
            }
            self.columns.iter_mut().skip(fields.len()).for_each(|column| column.missing += 1);
        }
    }

    /// Takes in the values of typed records.
    fn add_columns(&mut self, records: &Records, values: &TypedColumns, file: u32) {
        let mut text = Vec::new();
        let is_whole: Vec<bool> = (0..records.len()).map(|row| records.fault(row).is_none()).collect();
        let whole = is_whole.iter().filter(|is_whole| **is_whole).count() as u64;
        for (at, column) in self.columns.iter_mut().enumerate() {
            if at >= values.width() {
                column.missing += whole;
                continue;
            }
            let cells = values.column(at).iter().enumerate().filter(|(row, _)| is_whole[*row]);
            if let Some(domain) = column.declared {
                for (row, cell) in cells {
                    let spot = || Spot { file, line: records.line(row) };
                    column.add_declared(*cell, domain, &records.bytes, &values.wide, spot);
                }
                continue;
            }
            for (row, cell) in cells {
                text.clear();
                cell.write(&records.bytes, &values.wide, &mut text);
                column.add_typed(*cell, &text, &values.wide, || Spot { file, line: records.line(row) });
            }
        }
    }

    /// Takes in what the other saw of the same columns.
    ///
    /// Where one knows more columns than the other, the other's records lacked them.
    ///
    /// ```
    /// use hypodoke_core::evidence::TableEvidence;
    /// use hypodoke_core::record::{Field, Records};
    ///
    /// let evidence = |value: &str| {
    ///     let mut records = Records::default();
    ///     records.bytes.extend_from_slice(value.as_bytes());
    ///     records.push_field(Field::new(0..value.len(), false));
    ///     records.end_record(0..value.len(), 1);
    ///     let mut table = TableEvidence::new(1);
    ///     table.add(&records, 0);
    ///     table
    /// };
    /// // The evidence of two halves merges to that of the whole, in any order.
    /// let mut all = evidence("7");
    /// all.merge(&evidence("7.5"));
    /// assert_eq!((all.rows, all.columns[0].values()), (2, 2));
    /// ```
    pub fn merge(&mut self, other: &TableEvidence) {
        self.widen(other.columns.len(), |_| ColumnEvidence::default());
        for column in self.columns.iter_mut().skip(other.columns.len()) {
            column.missing += other.rows;
        }
        self.rows += other.rows;
        self.columns.iter_mut().zip(&other.columns).for_each(|(a, b)| a.merge(b));
        for (width, tally) in &other.ragged {
            self.ragged.entry(*width).or_default().merge(tally);
        }
        self.faulty.merge(&other.faulty);
    }
}
