//! Values that come once, remembered by their hashes.

use std::collections::HashSet;
use std::hash::{BuildHasher, Hash, Hasher};

use super::Cell;
use crate::spelling::trim;

const FIRST: foldhash::quality::FixedState = foldhash::quality::FixedState::with_seed(0x51_7e4a_11e5);
const SECOND: foldhash::quality::FixedState = foldhash::quality::FixedState::with_seed(0x0a_b0e7_c0de);

/// The values of a column met so far: 128 bits of each, so that no two of any file that fits a
/// disk are taken for one.
#[derive(Debug, Default)]
pub struct Once {
    seen: HashSet<(u64, u64), foldhash::fast::FixedState>,
}

impl Once {
    /// Takes a value in; `false` if it was there.
    pub fn add(&mut self, cell: Cell, bytes: &[u8], wide: &[i128]) -> bool {
        let hash = |state: foldhash::quality::FixedState| {
            let mut hasher = state.build_hasher();
            feed(cell, bytes, wide, &mut hasher);
            hasher.finish()
        };
        self.seen.insert((hash(FIRST), hash(SECOND)))
    }
}

fn feed(cell: Cell, bytes: &[u8], wide: &[i128], hasher: &mut impl Hasher) {
    match cell {
        Cell::Null => {}
        Cell::Boolean(value) => value.hash(hasher),
        Cell::Integer(value) | Cell::Time(value) | Cell::Timestamp(value) | Cell::TimestampTz(value) => {
            value.hash(hasher)
        }
        Cell::Decimal { mantissa, .. } => i128::from(mantissa).hash(hasher),
        Cell::Wide { index, .. } => wide[index as usize].hash(hasher),
        Cell::Float(value) => value.to_bits().hash(hasher),
        Cell::Date(days) => days.hash(hasher),
        Cell::Text { start, len } => trim(&bytes[start as usize..(start + len) as usize]).hash(hasher),
        Cell::Uuid { start } => bytes[start as usize..start as usize + 36]
            .iter()
            .for_each(|b| b.to_ascii_lowercase().hash(hasher)),
    }
}
