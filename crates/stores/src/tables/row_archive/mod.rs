//! The rows of files as they were loaded, kept with the ledger: in blocks, packed and compressed. What a
//! table holds follows from them when a file is corrected, taken out, or comes late.

mod pack;
mod unpack;

pub use pack::Packer;
pub use unpack::{ALL_BLOCKS, Next, Unpacked, blocks_of, for_each_row};

/// The name under which the keys of a table's rejected rows are kept beside its rows: a row with its line for each,
/// null where its key could not be read.
pub fn rejected_keys_of(table: &str) -> String {
    format!("rejected keys of {table}")
}

/// How strongly blocks are compressed: the quickest that is worth it.
const LEVEL: i32 = 1;

/// How large a block grows before it is compressed, in bytes.
const BLOCK: usize = 256 * 1024;

/// How much is kept in memory before it is written, in bytes.
const WRITTEN_AT: usize = 4 << 20;

/// The largest block that is read, in bytes: no record is larger.
const LARGEST: usize = 1 << 30;

#[cfg(test)]
mod tests {
    use hypodoke_core::cast::Rows;

    use super::*;
    use crate::ledger::files_in_force::{forget, next_block};
    use crate::load_plan::Mode;
    use crate::sql::SqlConnection;
    use crate::testing::{database, load, plan, rows};

    /// The lines of rows that are kept of a file, in blocks up to one.
    fn lines(connection: &mut dyn SqlConnection, file: i64, until: Option<i64>) -> Vec<u64> {
        let mut lines = Vec::new();
        let range = 0..until.unwrap_or(i64::MAX);
        for_each_row(connection, (file, "moves", false), range, &mut Rows::default(), &mut |unpacked| {
            lines.push(unpacked.row.line);
            assert_eq!(unpacked.columns.len(), 2);
            Ok(Next::Row)
        })
        .expect("read");
        lines
    }

    #[test]
    fn rows_come_out_as_they_went_in_and_those_of_later_blocks_can_be_left_out() {
        let mut store = database();
        let plan = plan("a.csv", Mode::Upsert);
        let (file, _) = load(&mut store, &plan, &[("1", "N1")]);
        let mut batch = rows(&[("1", "N1"), ("x", "N2"), ("3", "N3")]);
        let mut packer = Packer::new(file, 1, 0);
        packer.add(0, &plan.tables[0], &batch).expect("packed");
        packer.finish(&mut store, &plan.tables).expect("written");
        let since = next_block(&mut store, file).expect("a number");
        assert_eq!(since, 1);
        // What the database refuses is not kept.
        let reject = batch.refuse(1, None, "refused".into());
        batch.rejects.push(reject);
        let mut packer = Packer::new(file, 1, since);
        packer.add(0, &plan.tables[0], &batch).expect("packed");
        assert!(!packer.is_full());
        packer.finish(&mut store, &plan.tables).expect("written");
        assert_eq!(lines(&mut store, file, None), [2, 4, 2]);
        assert_eq!(lines(&mut store, file, Some(since)), [2, 4]);
        forget(&mut store, file).expect("forgotten");
        assert!(lines(&mut store, file, None).is_empty());
    }

    #[test]
    fn rows_that_are_only_added_are_not_kept() {
        let mut store = database();
        let plan = plan("a.csv", Mode::Append);
        let (file, _) = load(&mut store, &plan, &[("1", "N1")]);
        let mut packer = Packer::new(file, 1, 0);
        packer.add(0, &plan.tables[0], &rows(&[("1", "N1")])).expect("left out");
        packer.finish(&mut store, &plan.tables).expect("written");
        assert!(lines(&mut store, file, None).is_empty());
    }

    #[test]
    fn a_block_that_is_not_what_was_written_is_told() {
        let mut store = database();
        let (file, _) = load(&mut store, &plan("a.csv", Mode::Upsert), &[("1", "N1")]);
        let sql = format!("INSERT INTO hd_kept_rows VALUES ({file}, 'moves', 0, 1, x'28b52ffd00')");
        store.script(&sql).expect("a block");
        let found =
            for_each_row(&mut store, (file, "moves", false), ALL_BLOCKS, &mut Rows::default(), &mut |_| {
                Ok(Next::Row)
            });
        let told = found.expect_err("damaged").to_string();
        assert!(told.contains("is damaged: block 0 of the rows of file"), "{told}");
    }
}
