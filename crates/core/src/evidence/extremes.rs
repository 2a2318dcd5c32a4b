//! Least and greatest values, kept cheaply.

/// The most of a text that is compared and kept, in bytes.
const KEPT: usize = 64;

/// The least and greatest of ordered values.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub struct Extremes<T>(pub Option<(T, T)>);

impl<T: Copy + Ord> Extremes<T> {
    /// Takes a value in.
    #[inline]
    pub fn add(&mut self, value: T) {
        match &mut self.0 {
            Some((least, greatest)) => {
                if value < *least {
                    *least = value;
                }
                if value > *greatest {
                    *greatest = value;
                }
            }
            None => self.0 = Some((value, value)),
        }
    }

    /// Takes in what the other saw.
    pub fn merge(&mut self, other: &Extremes<T>) {
        if let Some((least, greatest)) = other.0 {
            self.add(least);
            self.add(greatest);
        }
    }
}

/// The least and greatest of texts, by their bytes, up to the first 64 of them.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TextExtremes {
    least: Box<[u8]>,
    greatest: Box<[u8]>,
    /// The first eight bytes of each, so that most values cost one comparison of numbers.
    least_prefix: u64,
    greatest_prefix: u64,
    seen: bool,
}

impl Default for TextExtremes {
    fn default() -> Self {
        TextExtremes {
            least: Box::default(),
            greatest: Box::default(),
            least_prefix: u64::MAX,
            greatest_prefix: 0,
            seen: false,
        }
    }
}

#[inline]
fn prefix(value: &[u8]) -> u64 {
    match value.first_chunk::<8>() {
        Some(chunk) => u64::from_be_bytes(*chunk),
        None => value.iter().enumerate().fold(0, |all, (at, b)| all | (*b as u64) << (56 - 8 * at)),
    }
}

impl TextExtremes {
    /// Takes a value in.
    #[inline]
    pub fn add(&mut self, value: &[u8]) {
        let prefix = prefix(value);
        if prefix <= self.least_prefix || prefix >= self.greatest_prefix {
            self.add_slowly(value, prefix);
        }
    }

    fn add_slowly(&mut self, value: &[u8], prefix: u64) {
        let kept = &value[..value.len().min(KEPT)];
        if !self.seen || *kept < *self.least {
            self.least = kept.into();
            self.least_prefix = prefix;
        }
        if !self.seen || *kept > *self.greatest {
            self.greatest = kept.into();
            self.greatest_prefix = prefix;
        }
        self.seen = true;
    }

    /// Takes in what the other saw.
    pub fn merge(&mut self, other: &TextExtremes) {
        if other.seen {
            self.add(&other.least);
            self.add(&other.greatest);
        }
    }

    /// The least and the greatest, if any was seen.
    pub fn get(&self) -> Option<(&[u8], &[u8])> {
        self.seen.then_some((&*self.least, &*self.greatest))
    }
}
