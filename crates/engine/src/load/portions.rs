//! Batches of records handed on in portions: a table may have far more columns than the file, and every record then
//! takes the memory of all of them.

use hypodoke_core::record::Records;
use hypodoke_formats::reader::MOST_CELLS;
use hypodoke_formats::{ReadError, RecordReader, TableHead};

/// The records of a reader, in batches of no more than [`MOST_CELLS`] cells, where one record has no more.
pub struct Portions<'r> {
    reader: &'r mut dyn RecordReader,
    /// How many columns each table has.
    widths: Vec<usize>,
    /// A batch that is handed on in portions, and how many records of each table were handed on.
    whole: Vec<Records>,
    begun: Vec<usize>,
}

impl<'r> Portions<'r> {
    /// The records of a reader; `widths` are the columns of its tables.
    pub fn new(reader: &'r mut dyn RecordReader, widths: Vec<usize>) -> Portions<'r> {
        Portions { reader, widths, whole: Vec::new(), begun: Vec::new() }
    }

    /// The tables of the reader.
    pub fn tables(&self) -> &[TableHead] {
        self.reader.tables()
    }

    /// Fills a batch with the next records; `false` when there are no more.
    ///
    /// # Errors
    ///
    /// The reader cannot go on.
    pub fn next(&mut self, batch: &mut Vec<Records>) -> Result<bool, ReadError> {
        if !self.is_waiting() {
            let more = self.reader.next(batch)?;
            if self.is_small(batch) {
                return Ok(more);
            }
            std::mem::swap(batch, &mut self.whole);
            self.begun = vec![0; self.whole.len()];
        }
        self.hand_on(batch);
        Ok(true)
    }

    fn is_waiting(&self) -> bool {
        self.whole.iter().zip(&self.begun).any(|(records, begun)| records.len() > *begun)
    }

    fn width(&self, table: usize) -> usize {
        self.widths.get(table).copied().unwrap_or(1).max(1)
    }

    fn is_small(&self, batch: &[Records]) -> bool {
        let cells = |(table, records): (usize, &Records)| records.len().saturating_mul(self.width(table));
        batch.iter().enumerate().map(cells).sum::<usize>() <= MOST_CELLS
    }

    /// Hands on the next records of each table, and what is nested in them.
    fn hand_on(&mut self, batch: &mut Vec<Records>) {
        batch.resize_with(self.whole.len(), Records::default);
        let owners = self.begun.first().copied().unwrap_or_default();
        let ends = self.ends(owners);
        for (at, (records, into)) in self.whole.iter().zip(batch).enumerate() {
            let (Some(begun), Some(end)) = (self.begun.get_mut(at), ends.get(at)) else { continue };
            records.copy_portion(*begun..*end, owners, into);
            *begun = *end;
        }
    }

    /// Where the next portion ends in each table.
    fn ends(&self, owners: usize) -> Vec<usize> {
        let main = self.whole.first().map_or(0, Records::len);
        let mut most = (MOST_CELLS / self.width(0)).max(1);
        loop {
            let last = main.min(owners.saturating_add(most));
            let ends: Vec<usize> = (0..self.whole.len()).map(|table| self.end_of(table, last)).collect();
            let cells = |(table, (end, begun)): (usize, (&usize, &usize))| (end - begun) * self.width(table);
            let nested = ends.iter().zip(&self.begun).enumerate().skip(1).map(cells).sum::<usize>();
            if nested <= MOST_CELLS * self.whole.len() || most == 1 {
                return ends;
            }
            most /= 2;
        }
    }

    /// Where the next portion ends in a table, if it ends in the main one at `last`.
    fn end_of(&self, table: usize, last: usize) -> usize {
        let Some(records) = self.whole.get(table) else { return 0 };
        let begun = self.begun.get(table).copied().unwrap_or_default();
        match records.links() {
            [] if table == 0 => last,
            // Its records are parts of no others.
            [] => records.len().min(begun + (MOST_CELLS / self.width(table)).max(1)),
            links => links.partition_point(|link| (link.owner as usize) < last),
        }
    }
}

#[cfg(test)]
mod tests {
    use hypodoke_core::record::{Field, Link};
    use rstest::rstest;

    use super::*;

    /// A reader of one batch.
    struct Once(Option<Vec<Records>>);

    impl RecordReader for Once {
        fn tables(&self) -> &[TableHead] {
            &[]
        }

        fn next(&mut self, batch: &mut Vec<Records>) -> Result<bool, ReadError> {
            let found = self.0.take();
            *batch = found.unwrap_or_default();
            Ok(!batch.is_empty())
        }

        fn facts(&self) -> hypodoke_formats::FormatFacts {
            Default::default()
        }

        fn encoding(&self) -> Option<hypodoke_formats::bytes::Encoding> {
            None
        }

        fn kind(&self) -> String {
            String::new()
        }
    }

    /// So many records of one field, each with so many rows of a list.
    fn batch(records: usize, items: usize) -> Vec<Records> {
        let (mut main, mut list) = (Records::default(), Records::default());
        for at in 0..records {
            main.push_field(Field::new(0..0, false));
            main.end_record(0..0, at as u64 + 1);
            for position in 0..items {
                let link =
                    Link { owner: at as u32, row: 0, parent: at as u64 + 1, position: position as u64 };
                list.push_field(Field::new(0..0, false));
                list.end_child(0..0, at as u64 + 1, link);
            }
        }
        vec![main, list]
    }

    #[rstest]
    #[case::narrow(1000, 0, &[10, 10])]
    #[case::wide(1000, 0, &[5000, 1])]
    #[case::wider_than_a_batch(5, 0, &[MOST_CELLS * 2, 1])]
    #[case::nested(1000, 3, &[2000, 10])]
    #[case::wide_lists(400, 7, &[10, 3000])]
    fn records_come_in_their_order_with_what_is_nested_in_them(
        #[case] records: usize,
        #[case] items: usize,
        #[case] widths: &[usize],
    ) {
        let mut reader = Once(Some(batch(records, items)));
        let mut portions = Portions::new(&mut reader, widths.to_vec());
        let (mut lines, mut parents, mut portion) = (Vec::new(), Vec::new(), Vec::new());
        while portions.next(&mut portion).expect("records") {
            let (main, list) = (&portion[0], &portion[1]);
            assert!(main.len() == 1 || main.len() * widths[0] <= MOST_CELLS, "{} records", main.len());
            assert!(main.len() == 1 || list.len() * widths[1] <= 2 * MOST_CELLS, "{} rows", list.len());
            lines.extend((0..main.len()).map(|at| main.line(at)));
            for (at, link) in list.links().iter().enumerate() {
                assert_eq!(main.line(link.owner as usize), link.parent);
                assert_eq!(list.fields(at).len(), 1);
                parents.push(link.parent);
            }
        }
        assert!(lines.iter().copied().eq(1..=records as u64));
        assert_eq!(parents.len(), records * items);
        assert!(parents.is_sorted());
    }
}
