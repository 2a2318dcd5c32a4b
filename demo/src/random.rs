//! Numbers that look random and are the same everywhere (SplitMix64).

/// A source of numbers.
#[derive(Clone, Debug)]
pub struct Random(u64);

impl Random {
    /// The source with this seed.
    pub fn new(seed: u64) -> Random {
        Random(seed)
    }

    /// Any number.
    pub fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    }

    /// A number below `limit`.
    pub fn below(&mut self, limit: u64) -> u64 {
        self.next() % limit
    }

    /// A number from `low` up to but not including `high`.
    pub fn between(&mut self, low: u64, high: u64) -> u64 {
        low + self.below(high - low)
    }

    /// One of a list.
    pub fn pick<'a, T: ?Sized>(&mut self, list: &[&'a T]) -> &'a T {
        list[self.below(list.len() as u64) as usize]
    }

    /// True once in so many times.
    pub fn once_in(&mut self, times: u64) -> bool {
        self.below(times) == 0
    }
}
