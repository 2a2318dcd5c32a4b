//! Finding delimiters and line ends sixty-four bytes at a time.

use wide::u8x32;

/// Walks the places of up to three bytes in a buffer, in order.
pub struct Scanner<'a> {
    bytes: &'a [u8],
    needles: [u8x32; 3],
    /// Where the block in hand begins, and which of its bytes are still to be told.
    base: usize,
    mask: u64,
}

impl<'a> Scanner<'a> {
    /// A scanner that starts at `from`. A byte may be given twice.
    #[inline]
    pub fn new(bytes: &'a [u8], from: usize, needles: [u8; 3]) -> Scanner<'a> {
        let mut scanner = Scanner { bytes, needles: needles.map(u8x32::splat), base: from, mask: 0 };
        scanner.mask = scanner.block(from);
        scanner
    }

    /// The bits of the needles in the 64 bytes from `at`; none beyond the end.
    #[inline]
    fn block(&self, at: usize) -> u64 {
        match self.bytes.get(at..at + 64) {
            Some(block) => self.half(&block[..32]) | self.half(&block[32..]) << 32,
            None => self.last_block(at),
        }
    }

    #[inline]
    fn half(&self, bytes: &[u8]) -> u64 {
        let mut lanes = [0u8; 32];
        lanes.copy_from_slice(bytes);
        let lanes = u8x32::from(lanes);
        let [a, b, c] = self.needles;
        (lanes.simd_eq(a) | lanes.simd_eq(b) | lanes.simd_eq(c)).to_bitmask() as u64
    }

    #[cold]
    fn last_block(&self, at: usize) -> u64 {
        let rest = self.bytes.get(at..).unwrap_or_default();
        let mut padded = [0u8; 64];
        padded[..rest.len()].copy_from_slice(rest);
        let mask = self.half(&padded[..32]) | self.half(&padded[32..]) << 32;
        if rest.len() < 64 { mask & ((1 << rest.len()) - 1) } else { mask }
    }

    /// The next place, or `None` at the end.
    #[inline]
    pub fn next(&mut self) -> Option<usize> {
        while self.mask == 0 {
            self.base += 64;
            if self.base >= self.bytes.len() {
                self.base = self.bytes.len();
                return None;
            }
            self.mask = self.block(self.base);
        }
        let at = self.base + self.mask.trailing_zeros() as usize;
        self.mask &= self.mask - 1;
        Some(at)
    }

    /// Goes on at `at`, which lies ahead: what stands before it is passed over.
    #[inline]
    pub fn skip_to(&mut self, at: usize) {
        let ahead = at - self.base;
        if ahead < 64 {
            self.mask &= u64::MAX << ahead;
        } else {
            self.base = at;
            self.mask = self.block(at);
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn finds_what_a_plain_loop_finds(bytes in prop::collection::vec(prop_oneof![Just(b','), Just(b'\n'), Just(0u8), any::<u8>()], 0..300), from in 0usize..80) {
            let from = from.min(bytes.len());
            let mut scanner = Scanner::new(&bytes, from, [b',', b'\n', b'\n']);
            let found: Vec<usize> = std::iter::from_fn(|| scanner.next()).collect();
            let wanted: Vec<usize> = (from..bytes.len()).filter(|at| matches!(bytes[*at], b',' | b'\n')).collect();
            prop_assert_eq!(found, wanted);
        }

        #[test]
        fn skipping_passes_over(bytes in prop::collection::vec(prop_oneof![Just(b','), Just(b'x')], 1..300), to in 0usize..300) {
            let to = to.min(bytes.len());
            let mut scanner = Scanner::new(&bytes, 0, [b',', b',', b',']);
            scanner.skip_to(to);
            let found: Vec<usize> = std::iter::from_fn(|| scanner.next()).collect();
            let wanted: Vec<usize> = (to..bytes.len()).filter(|at| bytes[*at] == b',').collect();
            prop_assert_eq!(found, wanted);
        }
    }
}
