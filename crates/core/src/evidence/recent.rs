//! Values seen a short while ago: a value that comes again changes no extreme, no digits and
//! no distinct count, so all it costs is a hash and two counters.

/// How many values are remembered per column.
const SLOTS: usize = 512;

/// After how many look-ups it is decided whether remembering pays, and what share of hits it
/// takes: columns of numbers that never repeat do better without.
const TRIAL: u32 = 4096;
const WORTH: u32 = TRIAL / 8;

/// What a value was, as far as counters go.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Remembered {
    /// The class it is counted in.
    pub class: u8,
    /// The set of date orders it is counted in; 0 for none.
    pub orders: u8,
}

/// The values seen a short while ago, by their hashes.
#[derive(Clone, Debug, Default)]
pub struct Recent {
    /// Empty until the column has shown some values, and again once it proved useless.
    slots: Vec<(u64, Remembered)>,
    lookups: u32,
    hits: u32,
    given_up: bool,
}

impl Recent {
    /// What a value of this hash was, if it was seen a short while ago.
    #[inline]
    pub fn get(&mut self, hash: u64) -> Option<Remembered> {
        if self.given_up {
            return None;
        }
        self.get_slowly(hash)
    }

    #[inline]
    fn get_slowly(&mut self, hash: u64) -> Option<Remembered> {
        self.lookups += 1;
        let (found, remembered) = *self.slots.get(hash as usize % SLOTS)?;
        if found == hash {
            self.hits += 1;
            return Some(remembered);
        }
        if self.lookups >= TRIAL {
            self.weigh();
        }
        None
    }

    #[cold]
    fn weigh(&mut self) {
        if self.hits < WORTH {
            self.given_up = true;
            self.slots = Vec::new();
        }
        (self.lookups, self.hits) = (0, 0);
    }

    /// Remembers a value.
    #[inline]
    pub fn put(&mut self, hash: u64, remembered: Remembered) {
        if self.given_up || hash == 0 {
            return;
        }
        if self.slots.is_empty() {
            // Few values are not worth the memory, least of all in a file of many columns.
            if self.lookups < 64 {
                return;
            }
            self.slots = vec![(0, Remembered::default()); SLOTS];
        }
        self.slots[hash as usize % SLOTS] = (hash, remembered);
    }
}
