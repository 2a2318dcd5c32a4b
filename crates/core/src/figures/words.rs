//! The words of a column that has few of them: a code list.

use std::collections::BTreeMap;
use std::hash::{BuildHasher, Hasher};

/// The most words that are told apart; a column with more is no code list.
pub const MOST_WORDS: usize = 24;

/// The longest word, in bytes.
const LONGEST: usize = 24;

const HASH: foldhash::fast::FixedState = foldhash::fast::FixedState::with_seed(0x0ddc_0de5);

/// How often each word of a column was met, as long as they are few.
#[derive(Clone, Debug, Default)]
pub struct WordCounts {
    words: Vec<(u64, Box<[u8]>, u64)>,
    /// There are more than are told apart, or longer ones.
    overflowed: bool,
}

impl WordCounts {
    /// Whether there is no more to count.
    #[inline]
    pub fn is_over(&self) -> bool {
        self.overflowed
    }

    /// Counts a word.
    #[inline]
    pub fn add(&mut self, word: &[u8]) {
        if self.overflowed {
            return;
        }
        if word.len() > LONGEST {
            return self.overflow();
        }
        let mut hasher = HASH.build_hasher();
        hasher.write(word);
        let hash = hasher.finish();
        let is_full = self.words.len() >= MOST_WORDS;
        match self.words.iter_mut().find(|(known, text, _)| *known == hash && **text == *word) {
            Some((_, _, count)) => *count += 1,
            None if is_full => self.overflow(),
            None => self.words.push((hash, word.into(), 1)),
        }
    }

    fn overflow(&mut self) {
        self.overflowed = true;
        self.words = Vec::new();
    }

    /// Takes in what another counted.
    pub fn merge(&mut self, other: &WordCounts) {
        if self.overflowed || other.overflowed {
            return self.overflow();
        }
        for (hash, word, count) in &other.words {
            let is_full = self.words.len() >= MOST_WORDS;
            match self.words.iter_mut().find(|(known, text, _)| known == hash && text == word) {
                Some((_, _, known)) => *known += count,
                None if is_full => return self.overflow(),
                None => self.words.push((*hash, word.clone(), *count)),
            }
        }
    }

    /// The words and how often each came; `None` where there are too many.
    pub fn words(&self) -> Option<BTreeMap<String, u64>> {
        let text =
            |(_, word, count): &(u64, Box<[u8]>, u64)| (String::from_utf8_lossy(word).into_owned(), *count);
        (!self.overflowed).then(|| self.words.iter().map(text).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn few_words_are_counted_and_many_are_not() {
        let mut counts = WordCounts::default();
        ["a", "b", "a"].iter().for_each(|word| counts.add(word.as_bytes()));
        let mut other = WordCounts::default();
        other.add(b"c");
        counts.merge(&other);
        let words = counts.words().expect("few");
        assert_eq!(
            words.into_iter().collect::<Vec<_>>(),
            [("a".into(), 2), ("b".into(), 1), ("c".into(), 1)]
        );
        (0..100).for_each(|at| counts.add(format!("w{at}").as_bytes()));
        assert_eq!(counts.words(), None);
    }
}
