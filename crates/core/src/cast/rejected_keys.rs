//! The keys of rejected rows: such a row is in its file, and so is its key.

use super::value::{FieldValues, SeenValues};
use super::{Caster, Cell, Rows, Source, typed};

impl Caster {
    /// Reads the key of every reject of a batch into the cells of its record. A value that cannot be the key of a
    /// row is null there.
    ///
    /// `key` holds the places of the key's columns. Call it once the batch is cast and its rejects are settled.
    pub fn read_rejected_keys(&self, rows: &mut Rows, key: &[usize]) {
        if rows.rejects.is_empty() || key.is_empty() {
            return;
        }
        // The readers pass over the records that are marked.
        let mut skipped = vec![true; rows.records.len()];
        for reject in &rows.rejects {
            if let Some(skipped) = skipped.get_mut(reject.record as usize) {
                *skipped = false;
            }
        }
        rows.records.faults().iter().for_each(|(at, _)| skipped[*at] = true);
        self.skip_other_widths(rows, &mut skipped);
        for column in key {
            let read = self.read_key_column(rows, *column, &skipped);
            for reject in &rows.rejects {
                if let Some(cell) = rows.cells.get_mut(reject.record as usize * rows.width + column) {
                    *cell = Cell::Null;
                }
            }
            for (at, read) in read {
                if let Some(cell) = rows.cells.get_mut(at * rows.width + column) {
                    *cell = read;
                }
            }
        }
    }

    /// Which field is the key is unknown in a record with another number of fields than the file has.
    fn skip_other_widths(&self, rows: &Rows, skipped: &mut [bool]) {
        let records = &rows.records;
        if records.even_width() == Some(self.fields) || records.typed().is_some() || records.open_ended {
            return;
        }
        for (at, skipped) in skipped.iter_mut().enumerate().filter(|(_, skipped)| !**skipped) {
            *skipped = records.fields(at).len() != self.fields;
        }
    }

    /// The cells of one column for the records that are not skipped, as far as they can be keys.
    fn read_key_column(&self, rows: &mut Rows, column: usize, skipped: &[bool]) -> Vec<(usize, Cell)> {
        let Some(target) = self.targets.get(column) else { return Vec::new() };
        let mut read: Vec<(usize, Cell)> = Vec::new();
        match target.source {
            Source::Field(field) => {
                let Rows { records, wide, .. } = &mut *rows;
                let mut reader = target.reader(SeenValues::default(), wide);
                if records.typed().is_some() {
                    typed::read_column(&mut reader, records, skipped, field, |at, cell| {
                        read.extend(cell.ok().map(|cell| (at, cell)));
                    });
                } else {
                    let even = records.even_width();
                    let values = FieldValues { records, bad: skipped, field, even, at: 0 };
                    reader.read_all(values, |at, cell| read.extend(cell.ok().map(|cell| (at, cell))));
                }
            }
            // These were filled in for every record.
            _ => {
                let cell = |at: usize| rows.cells.get(at * rows.width + column).copied();
                let all = (0..skipped.len()).filter(|at| !skipped[*at]);
                read.extend(all.filter_map(|at| Some((at, cell(at)?))));
            }
        }
        read.retain(|(_, cell)| self.is_key(*cell, rows, column));
        read
    }

    /// Whether a cell can be the key of a row in the table.
    fn is_key(&self, cell: Cell, rows: &Rows, column: usize) -> bool {
        let limit = self.targets.get(column).and_then(|target| target.limit);
        match cell {
            Cell::Null => false,
            Cell::Text { start, len } if !self.takes_nul && rows.bytes(start, len).contains(&0) => false,
            cell => limit.is_none_or(|limit| limit.holds(cell, &rows.records)),
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::super::tests::target;
    use super::*;
    use crate::cast::{Reject, Target};
    use crate::record::{Field, Records};
    use crate::types::Type;

    fn records(lines: &[&str]) -> Records {
        let mut records = Records::default();
        for (at, line) in lines.iter().enumerate() {
            let begin = records.bytes.len();
            for value in line.split(',') {
                let start = records.bytes.len();
                records.bytes.extend_from_slice(value.as_bytes());
                records.push_field(Field::new(start..records.bytes.len(), false));
            }
            records.end_record(begin..records.bytes.len(), at as u64 + 2);
        }
        records
    }

    #[rstest]
    #[case::another_column_is_wrong(&["7,x", "8,9"], &[Cell::Integer(7)])]
    #[case::the_key_is_wrong(&["x,y", "8,9"], &[Cell::Null])]
    #[case::the_key_is_null(&[",y"], &[Cell::Null])]
    #[case::another_number_of_fields(&["7,x,5", "6,x"], &[Cell::Null, Cell::Integer(6)])]
    #[case::no_reject(&["7,1", "6,2"], &[])]
    fn keys_of_rejects_are_read_where_they_can_be(#[case] lines: &[&str], #[case] expected: &[Cell]) {
        let column = |field| Target { source: Source::Field(field), ..target(Type::Integer) };
        let mut caster = Caster::new(vec![column(0), column(1)], 2);
        let mut rows = Rows { records: records(lines), ..Rows::default() };
        caster.cast(&mut rows);
        caster.read_rejected_keys(&mut rows, &[0]);
        let key = |reject: &Reject| rows.cells[reject.record as usize * rows.width];
        assert_eq!(rows.rejects.iter().map(key).collect::<Vec<_>>(), expected);
    }
}
