//! How many distinct values a column has: exactly up to a few hundred, estimated beyond.
//!
//! The estimate is that of HyperLogLog (Flajolet, Fusy, Gandouet and Meunier, 2007) with
//! linear counting for small numbers; its standard error is 1.6%.

use std::collections::HashSet;
use std::hash::{BuildHasherDefault, Hasher};

/// The most distinct values that are counted one by one.
pub const EXACT: usize = 512;

const BITS: u32 = 12;
const REGISTERS: usize = 1 << BITS;

/// Hashes are already well mixed: the set takes them as they are.
#[derive(Clone, Copy, Debug, Default)]
struct AsIs(u64);

impl Hasher for AsIs {
    fn finish(&self) -> u64 {
        self.0
    }
    fn write(&mut self, bytes: &[u8]) {
        debug_assert!(bytes.is_empty(), "only whole hashes go in");
    }
    fn write_u64(&mut self, value: u64) {
        self.0 = value;
    }
}

/// A mergeable count of distinct values, fed with their 64-bit hashes.
#[derive(Clone, Debug)]
pub struct Sketch {
    kind: Kind,
    /// The hash seen last: a value repeated from row to row costs one comparison.
    last: u64,
}

#[derive(Clone, Debug)]
enum Kind {
    Exact(HashSet<u64, BuildHasherDefault<AsIs>>),
    Estimated(Box<[u8; REGISTERS]>),
}

impl Default for Sketch {
    fn default() -> Self {
        Sketch { kind: Kind::Exact(HashSet::default()), last: 0 }
    }
}

impl Sketch {
    /// Counts a value by its hash.
    #[inline]
    pub fn add(&mut self, hash: u64) {
        if hash == self.last {
            return;
        }
        self.last = hash;
        self.add_mixed(mix(hash));
    }

    #[inline]
    fn add_mixed(&mut self, hash: u64) {
        match &mut self.kind {
            Kind::Estimated(registers) => raise(registers, hash),
            Kind::Exact(set) => {
                set.insert(hash);
                if set.len() > EXACT {
                    self.estimate_from_now();
                }
            }
        }
    }

    /// Counts what the other counted.
    pub fn merge(&mut self, other: &Sketch) {
        match &other.kind {
            Kind::Exact(set) => set.iter().for_each(|hash| self.add_mixed(*hash)),
            Kind::Estimated(theirs) => {
                self.estimate_from_now();
                if let Kind::Estimated(ours) = &mut self.kind {
                    ours.iter_mut().zip(theirs.iter()).for_each(|(a, b)| *a = (*a).max(*b));
                }
            }
        }
    }

    fn estimate_from_now(&mut self) {
        if let Kind::Exact(set) = &self.kind {
            let mut registers = Box::new([0u8; REGISTERS]);
            set.iter().for_each(|hash| raise(&mut registers, *hash));
            self.kind = Kind::Estimated(registers);
        }
    }

    /// Whether a value was counted, by its hash; `None` where that cannot be told any more.
    pub fn holds(&self, hash: u64) -> Option<bool> {
        match &self.kind {
            Kind::Exact(set) => Some(set.contains(&mix(hash))),
            Kind::Estimated(_) => None,
        }
    }

    /// Whether [`Sketch::count`] is exact.
    pub fn is_exact(&self) -> bool {
        matches!(self.kind, Kind::Exact(_))
    }

    /// How many distinct values there were.
    pub fn count(&self) -> u64 {
        match &self.kind {
            Kind::Exact(set) => set.len() as u64,
            Kind::Estimated(registers) => estimate(registers),
        }
    }
}

/// Spreads a fast hash over all bits (the finalizer of MurmurHash3): registers and ranks are
/// taken from its high bits, which fast hashes leave uneven.
#[inline]
fn mix(mut hash: u64) -> u64 {
    hash ^= hash >> 33;
    hash = hash.wrapping_mul(0xff51_afd7_ed55_8ccd);
    hash ^= hash >> 33;
    hash = hash.wrapping_mul(0xc4ce_b9fe_1a85_ec53);
    hash ^ hash >> 33
}

#[inline]
fn raise(registers: &mut [u8; REGISTERS], hash: u64) {
    let index = (hash >> (64 - BITS)) as usize;
    let rank = ((hash << BITS) | 1 << (BITS - 1)).leading_zeros() as u8 + 1;
    if registers[index] < rank {
        registers[index] = rank;
    }
}

fn estimate(registers: &[u8; REGISTERS]) -> u64 {
    let size = REGISTERS as f64;
    let sum: f64 = registers.iter().map(|rank| 0.5f64.powi(*rank as i32)).sum();
    let raw = 0.7213 / (1.0 + 1.079 / size) * size * size / sum;
    let empty = registers.iter().filter(|rank| **rank == 0).count();
    let estimate = if raw <= 2.5 * size && empty > 0 { size * (size / empty as f64).ln() } else { raw };
    estimate.round() as u64
}

#[cfg(test)]
mod tests {
    use std::hash::BuildHasher;

    use super::*;

    fn hash(value: u64) -> u64 {
        foldhash::fast::FixedState::with_seed(7).hash_one(value)
    }

    #[test]
    fn few_are_counted_exactly_and_many_closely() {
        let mut sketch = Sketch::default();
        (0..400).chain(0..400).for_each(|value| sketch.add(hash(value)));
        assert_eq!((sketch.count(), sketch.is_exact()), (400, true));
        (0..200_000).for_each(|value| sketch.add(hash(value)));
        assert!(!sketch.is_exact());
        assert!((190_000..210_000).contains(&sketch.count()), "{}", sketch.count());
    }

    #[test]
    fn halves_merge_to_the_whole() {
        let (mut left, mut right, mut whole) = (Sketch::default(), Sketch::default(), Sketch::default());
        for value in 0..3000u64 {
            if value < 300 {
                left.add(hash(value))
            } else {
                right.add(hash(value))
            }
            whole.add(hash(value));
        }
        left.merge(&right);
        assert_eq!(left.count(), whole.count());
    }
}
