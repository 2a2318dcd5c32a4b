//! Where on a sheet the table stands.
//!
//! The first rows are looked at: columns that are filled side by side make a block, blank
//! columns divide blocks, and of several blocks the fullest is the table. Where in it the header
//! is, is found as it is for text.

use std::collections::{BTreeMap, HashMap};

use hypodoke_core::record::{Field, Records};

use super::range::{CellRange, cell};
use crate::text::TableOptions;
use crate::text::table::{self, TableStart};

/// How many filled rows are looked at.
pub const LOOKED_AT: usize = 400;

/// The first rows of a sheet, their cells as they are shown.
#[derive(Debug, Default)]
pub struct Head {
    /// Filled rows, by their number from 0; a cell's column, and where its text stands.
    rows: BTreeMap<u32, Vec<(u32, String)>>,
    /// The sheet has more rows than these.
    pub more: bool,
}

impl Head {
    /// Takes a cell in; `false` once there are rows enough.
    pub fn take(&mut self, row: u32, column: u32, text: &str) -> bool {
        if self.rows.len() >= LOOKED_AT && !self.rows.contains_key(&row) {
            self.more = true;
            return false;
        }
        if !text.is_empty() {
            self.rows.entry(row).or_default().push((column, text.to_owned()));
        }
        true
    }

    /// How many rows hold something, of those looked at.
    pub fn filled_rows(&self) -> usize {
        self.rows.len()
    }

    /// Whether nothing is on the sheet.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }
}

/// Where a table stands on its sheet.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Region {
    /// Its columns, from left to right; blank ones between them are left out.
    pub columns: Vec<u32>,
    /// The first row behind the header.
    pub first_row: u32,
    /// The last row, where the range says one.
    pub last_row: Option<u32>,
    /// Rows of the header.
    pub header_rows: usize,
    /// The names of the columns.
    pub names: Vec<String>,
    /// Rows before the header that hold something.
    pub titles: u64,
    /// Other tables on the sheet.
    pub others: Vec<CellRange>,
    /// Rows seen behind the header.
    pub rows: usize,
    /// Rows beneath the header that are left out, in words.
    pub remarks: Vec<String>,
    /// Most of its texts are sentences.
    is_prose: bool,
}

impl Region {
    /// Whether this is a table, however small, and not a few notes: sentences one under another.
    pub fn is_table(&self) -> bool {
        !self.columns.is_empty() && (self.columns.len() > 1 || !self.is_prose)
    }
}

/// A block of filled columns.
#[derive(Clone, Debug)]
struct Block {
    left: u32,
    right: u32,
    top: u32,
    bottom: u32,
    rows: usize,
    cells: usize,
}

/// Finds the table of a sheet, within a range where one is given.
pub fn find(head: &Head, range: Option<CellRange>, merged: &[CellRange], options: &TableOptions) -> Region {
    let within = range.unwrap_or(CellRange::ALL);
    let inside = |row: u32, column: u32| within.holds(row, column);
    let mut blocks = blocks(head, inside);
    if range.is_none() {
        blocks = with_far_columns(join_spaced(blocks, head));
    } else {
        blocks = join_all(blocks);
    }
    let Some(main) = blocks.iter().max_by_key(|block| fullness(block)).cloned() else {
        return Region { first_row: within.top, last_row: bottom_of(within), ..Region::default() };
    };
    let mut columns = filled_columns(head, &main, within);
    let (records, numbers) = records_of(head, &columns, &main, within);
    let options = TableOptions {
        // A range begins where the user says.
        skip_lines: options.skip_lines.or(range.filter(|r| r.top > 0).map(|r| u64::from(r.top))),
        ..options.clone()
    };
    let TableStart { preamble, header, remarks, names, width, .. } =
        table::find(&records, &options, options.names.as_ref().map_or(0, Vec::len));
    columns.truncate(width.max(names.len()));
    let mut names = names;
    names.resize(columns.len(), String::new());
    let header_rows = numbers.get(preamble..preamble + header).unwrap_or_default();
    if header > 1 && options.names.is_none() && merged.iter().any(|range| header_rows.contains(&range.top)) {
        names = columns.iter().map(|column| merged_name(head, header_rows, *column, merged)).collect();
    }
    let first = numbers.get(preamble + header + remarks).copied();
    let remarks = (preamble + header..preamble + header + remarks).filter_map(|at| {
        let text: Vec<String> = records
            .fields(at)
            .iter()
            .map(|field| String::from_utf8_lossy(records.value(*field)).into_owned())
            .filter(|text| !text.is_empty())
            .collect();
        Some(format!("row {} beneath the header left out: {}", numbers.get(at)? + 1, text.join(" ")))
    });
    let remarks = remarks.collect();
    let after_header =
        preamble.checked_add(header).and_then(|n| n.checked_sub(1)).and_then(|at| numbers.get(at));
    let others = blocks.iter().filter(|block| block.left != main.left && block.rows > 1).map(|block| {
        CellRange { top: block.top, left: block.left, bottom: block.bottom, right: block.right }
    });
    Region {
        first_row: first.or(after_header.map(|row| row + 1)).unwrap_or(main.top),
        last_row: bottom_of(within),
        header_rows: header,
        titles: head.rows.keys().filter(|row| numbers.get(preamble).is_some_and(|first| *row < first)).count()
            as u64,
        rows: numbers.len().saturating_sub(preamble + header),
        is_prose: is_prose(head, &main),
        remarks,
        others: others.collect(),
        columns,
        names,
    }
}

/// Whether most cells of a block are texts of four words or more.
fn is_prose(head: &Head, block: &Block) -> bool {
    let rows = head.rows.range(block.top..=block.bottom);
    let cells =
        rows.flat_map(|(_, cells)| cells).filter(|(column, _)| (block.left..=block.right).contains(column));
    let (mut all, mut sentences) = (0, 0);
    for (_, text) in cells {
        all += 1;
        sentences += usize::from(text.split_whitespace().count() > 3);
    }
    sentences * 2 > all
}

/// The name of a column under a header of several rows, some cells of which stretch over others:
/// what stands over the column in each row, each text once.
fn merged_name(head: &Head, rows: &[u32], column: u32, merged: &[CellRange]) -> String {
    let mut words: Vec<&str> = Vec::new();
    for row in rows {
        let (top, left) = merged
            .iter()
            .find(|range| range.holds(*row, column))
            .map_or((*row, column), |range| (range.top, range.left));
        let text = head.rows.get(&top).and_then(|cells| cells.iter().find(|(at, _)| *at == left));
        if let Some((_, text)) = text
            && words.last() != Some(&text.as_str())
        {
            words.push(text);
        }
    }
    words.join(" ").split_whitespace().collect::<Vec<_>>().join(" ")
}

fn bottom_of(range: CellRange) -> Option<u32> {
    (range.bottom != u32::MAX).then_some(range.bottom)
}

/// Rows of one cell are titles and notes: they say nothing of where the columns are, unless all
/// rows are so.
fn blocks(head: &Head, inside: impl Fn(u32, u32) -> bool) -> Vec<Block> {
    let cells = |least: usize| {
        let mut columns: BTreeMap<u32, Block> = BTreeMap::new();
        for (row, cells) in &head.rows {
            let found: Vec<u32> =
                cells.iter().map(|(column, _)| *column).filter(|c| inside(*row, *c)).collect();
            if found.len() < least {
                continue;
            }
            for column in found {
                let block = Block { left: column, right: column, top: *row, bottom: *row, rows: 0, cells: 0 };
                let block = columns.entry(column).or_insert(block);
                (block.top, block.bottom) = (block.top.min(*row), block.bottom.max(*row));
                block.cells += 1;
                block.rows = block.rows.max(block.cells);
            }
        }
        columns
    };
    let mut columns = cells(2);
    if columns.is_empty() {
        columns = cells(1);
    }
    let mut blocks: Vec<Block> = Vec::new();
    for (column, one) in columns {
        match blocks.last_mut() {
            Some(block) if block.right + 1 == column => absorb(block, &one),
            _ => blocks.push(one),
        }
    }
    blocks
}

fn absorb(block: &mut Block, other: &Block) {
    (block.left, block.right) = (block.left.min(other.left), block.right.max(other.right));
    block.top = block.top.min(other.top);
    block.bottom = block.bottom.max(other.bottom);
    block.rows = block.rows.max(other.rows);
    block.cells += other.cells;
}

/// A blank column within one table has the same rows on both sides; two tables that stand side
/// by side end on different rows, or repeat their names.
fn join_spaced(blocks: Vec<Block>, head: &Head) -> Vec<Block> {
    let mut joined: Vec<Block> = Vec::new();
    for block in blocks {
        match joined.last_mut() {
            Some(last) if are_side_by_side(last, &block) && !share_names(last, &block, head) => {
                absorb(last, &block);
            }
            _ => joined.push(block),
        }
    }
    joined
}

/// How full a block is; of two that are as full, the left one is the table.
fn fullness(block: &Block) -> (usize, std::cmp::Reverse<u32>) {
    (block.cells, std::cmp::Reverse(block.left))
}

/// The fullest block takes in the columns that stand by themselves beside its rows.
fn with_far_columns(mut blocks: Vec<Block>) -> Vec<Block> {
    let fullest = (0..blocks.len()).max_by_key(|at| blocks.get(*at).map(fullness));
    let Some(mut main) = fullest.map(|at| blocks.remove(at)) else { return blocks };
    let (columns, mut others): (Vec<Block>, Vec<Block>) =
        blocks.into_iter().partition(|block| is_column_of(block, &main));
    columns.iter().for_each(|column| absorb(&mut main, column));
    others.retain(|block| block.right < main.left || block.left > main.right);
    others.push(main);
    others
}

fn are_side_by_side(left: &Block, right: &Block) -> bool {
    left.bottom == right.bottom && left.top.abs_diff(right.top) <= 1 && right.left - left.right <= 3
}

/// Whether a block is one column that belongs to the rows of another, however far away it stands: one that
/// begins with the other's first row, or is filled in half of its rows, is no note beside it.
fn is_column_of(one: &Block, other: &Block) -> bool {
    let is_within = one.top + 1 >= other.top && one.bottom <= other.bottom + 1;
    let belongs = one.top.abs_diff(other.top) <= 1 && one.cells > 1 || one.cells * 2 >= other.rows;
    one.left == one.right && is_within && belongs
}

fn join_all(blocks: Vec<Block>) -> Vec<Block> {
    let mut blocks = blocks.into_iter();
    let Some(mut all) = blocks.next() else { return Vec::new() };
    blocks.for_each(|block| absorb(&mut all, &block));
    vec![all]
}

/// Whether the first rows of two blocks hold the same texts.
fn share_names(a: &Block, b: &Block, head: &Head) -> bool {
    let names = |block: &Block| -> Vec<&str> {
        let cells = head.rows.get(&block.top).into_iter().flatten();
        cells.filter(|(c, _)| (block.left..=block.right).contains(c)).map(|(_, text)| text.as_str()).collect()
    };
    let (a, b) = (names(a), names(b));
    let shared = b.iter().filter(|name| a.contains(name)).count();
    shared > 1 && shared * 2 > b.len()
}

/// The columns of a block that hold anything; all of them where the range names both ends.
fn filled_columns(head: &Head, block: &Block, within: CellRange) -> Vec<u32> {
    if within.right != u32::MAX {
        return (within.left..=within.right).collect();
    }
    let mut counts: HashMap<u32, usize> = HashMap::new();
    for (row, cells) in head.rows.range(block.top..=block.bottom) {
        for (column, _) in cells.iter().filter(|(column, _)| within.holds(*row, *column)) {
            *counts.entry(*column).or_default() += 1;
        }
    }
    (block.left..=block.right).filter(|column| counts.contains_key(column)).collect()
}

/// The rows looked at as records of the block's columns, and their numbers on the sheet.
fn records_of(head: &Head, columns: &[u32], block: &Block, within: CellRange) -> (Records, Vec<u32>) {
    let mut records = Records::default();
    let mut numbers = Vec::new();
    for (row, cells) in &head.rows {
        let mut found =
            cells.iter().filter(|(c, _)| (block.left..=block.right).contains(c) && within.holds(*row, *c));
        if found.clone().next().is_none() {
            continue;
        }
        let start = records.bytes.len();
        let mut next = found.next();
        for column in columns {
            while next.is_some_and(|(at, _)| at < column) {
                next = found.next();
            }
            let from = records.bytes.len();
            if let Some((at, text)) = next
                && at == column
            {
                records.bytes.extend_from_slice(text.as_bytes());
            }
            records.push_field(Field::new(from..records.bytes.len(), false));
        }
        records.end_record(start..records.bytes.len(), u64::from(*row) + 1);
        numbers.push(*row);
    }
    (records, numbers)
}

/// The others in words: where they stand.
pub fn others_in_words(region: &Region, sheet: &str) -> Option<String> {
    let first = region.columns.first().map(|left| cell(region.first_row, *left))?;
    let list: Vec<String> = region.others.iter().map(|range| format!("`{range}`")).collect();
    let (stand, is) =
        if list.len() == 1 { ("another table stands", "it") } else { ("other tables stand", "one") };
    (!list.is_empty()).then(|| {
        format!(
            "sheet `{sheet}`: {stand} beside the one at {first}, at {}; to read {is}, give its range",
            list.join(", ")
        )
    })
}
