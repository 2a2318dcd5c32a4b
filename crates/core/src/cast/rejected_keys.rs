//! The keys of rejected rows: such a row is in its file, and so is its key.

use super::value::{FieldValues, SeenValues};
use super::{Caster, Cell, RejectedRow, Rows, Source, typed};

/// Notes which rows of a batch are not loaded, table by table, once it is cast and its rejects are settled.
///
/// `is_list` says which tables hold lists in the records of the first. The rows of a list are rejected with
/// their record. The lists in a broken record are unknown: its row has no record there.
pub fn note_rejected(family: &mut [Rows], is_list: &[bool]) {
    let Some((main, others)) = family.split_first_mut() else { return };
    note_own(main);
    for (rows, is_list) in others.iter_mut().zip(is_list.iter().skip(1)) {
        if *is_list { note_of_list(rows, main) } else { note_own(rows) }
    }
}

fn note_own(rows: &mut Rows) {
    let row = |reject: &super::Reject| RejectedRow { line: reject.line, record: Some(reject.record) };
    rows.rejected = rows.rejects.iter().map(row).collect();
    rows.rejected.sort_by_key(|row| row.record);
    rows.rejected.dedup_by_key(|row| row.record);
}

fn note_of_list(rows: &mut Rows, main: &Rows) {
    if main.rejected.is_empty() {
        return;
    }
    let is_rejected = |owner: u32| main.rejected.binary_search_by_key(&Some(owner), |row| row.record).is_ok();
    let links = rows.records.links().iter().enumerate().filter(|(_, link)| is_rejected(link.owner));
    let row = |at: usize| RejectedRow { line: rows.records.line(at), record: Some(at as u32) };
    rows.rejected = links.map(|(at, _)| row(at)).collect();
    let is_broken =
        |row: &&RejectedRow| row.record.is_some_and(|at| main.records.fault(at as usize).is_some());
    let broken = main.rejected.iter().filter(is_broken);
    rows.rejected.extend(broken.map(|row| RejectedRow { record: None, ..*row }));
}

impl Caster {
    /// Reads the keys of the rejected rows of a batch into the cells of their records. A row whose key cannot be
    /// read has no record any more.
    ///
    /// `key` holds the places of the key's columns. Call it once [`note_rejected`] was.
    pub fn read_rejected_keys(&self, rows: &mut Rows, key: &[usize]) {
        if rows.rejected.is_empty() || key.is_empty() {
            return;
        }
        // The readers pass over the records that are marked.
        let mut skipped = vec![true; rows.records.len()];
        for record in rows.rejected.iter().filter_map(|row| row.record) {
            if let Some(skipped) = skipped.get_mut(record as usize) {
                *skipped = rows.records.fault(record as usize).is_some();
            }
        }
        self.skip_other_widths(rows, &mut skipped);
        for column in key {
            let mut is_read = vec![false; skipped.len()];
            for (at, cell) in self.read_key_column(rows, *column, &skipped) {
                if let Some(slot) = rows.cells.get_mut(at * rows.width + column) {
                    (*slot, is_read[at]) = (cell, true);
                }
            }
            skipped.iter_mut().zip(is_read).for_each(|(skipped, is_read)| *skipped |= !is_read);
        }
        let is_readable = |record: &u32| skipped.get(*record as usize).is_some_and(|skipped| !skipped);
        rows.rejected.iter_mut().for_each(|row| row.record = row.record.filter(is_readable));
    }

    /// Marks records with another number of fields than the file has: which of theirs is the key is unknown.
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
    use crate::cast::Target;
    use crate::record::{Field, Link, Records};
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

    /// The keys of rejected rows, where they could be read.
    fn keys(rows: &Rows) -> Vec<Option<Cell>> {
        let key = |row: &RejectedRow| Some(rows.cells[row.record? as usize * rows.width]);
        rows.rejected.iter().map(key).collect()
    }

    fn caster() -> Caster {
        let column = |field| Target { source: Source::Field(field), ..target(Type::Integer) };
        Caster::new(vec![column(0), column(1)], 2)
    }

    #[rstest]
    #[case::another_column_is_wrong(&["7,x", "8,9"], &[Some(7)])]
    #[case::the_key_is_wrong(&["x,y", "8,9"], &[None])]
    #[case::the_key_is_null(&[",y"], &[None])]
    #[case::another_number_of_fields(&["7,x,5", "6,x"], &[None, Some(6)])]
    #[case::no_reject(&["7,1", "6,2"], &[])]
    fn keys_of_rejects_are_read_where_they_can_be(#[case] lines: &[&str], #[case] expected: &[Option<i64>]) {
        let mut family = [Rows { records: records(lines), ..Rows::default() }];
        let mut caster = caster();
        caster.cast(&mut family[0]);
        note_rejected(&mut family, &[false]);
        caster.read_rejected_keys(&mut family[0], &[0]);
        let expected: Vec<Option<Cell>> = expected.iter().map(|key| key.map(Cell::Integer)).collect();
        assert_eq!(keys(&family[0]), expected);
        caster.cast(&mut family[0]);
        assert!(family[0].rejected.is_empty(), "it is forgotten with its batch");
    }

    #[test]
    fn rows_of_a_list_are_rejected_with_their_record() {
        let mut list = Records::default();
        for (owner, value) in [(0, "10"), (1, "11"), (1, "12"), (2, "13")] {
            for value in [value, "1"] {
                let start = list.bytes.len();
                list.bytes.extend_from_slice(value.as_bytes());
                list.push_field(Field::new(start..list.bytes.len(), false));
            }
            list.end_child(0..0, u64::from(owner) + 2, Link { owner, ..Link::default() });
        }
        let mut family =
            [records(&["1,1", "2,x", "3,1"]), list].map(|records| Rows { records, ..Rows::default() });
        let mut caster = caster();
        family.iter_mut().for_each(|rows| caster.cast(rows));
        note_rejected(&mut family, &[false, true]);
        family.iter_mut().for_each(|rows| caster.read_rejected_keys(rows, &[0]));
        assert_eq!(keys(&family[0]), [Some(Cell::Integer(2))]);
        assert_eq!(keys(&family[1]), [11, 12].map(|key| Some(Cell::Integer(key))));
    }
}
