//! The words of a column that has few of them: a code list.

use std::collections::BTreeMap;

/// The most words that are told apart; a column with more is no code list.
pub const MOST_WORDS: usize = 24;

/// The longest word, in bytes.
const LONGEST: usize = 24;

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
        self.add_many(word, 1);
    }

    /// Counts a word that comes so often.
    #[inline]
    pub fn add_many(&mut self, word: &[u8], times: u64) {
        let key = key_of(word);
        let is_full = self.words.len() >= MOST_WORDS;
        match self.words.iter_mut().find(|(known, text, _)| *known == key && **text == *word) {
            Some((_, _, count)) => *count += times,
            None if is_full => self.overflow(),
            None => self.words.push((key, word.into(), times)),
        }
    }

    #[cold]
    fn overflow(&mut self) {
        self.overflowed = true;
        self.words = Vec::new();
    }

    /// Takes in what another counted.
    pub fn merge(&mut self, other: &WordCounts) {
        if self.overflowed || other.overflowed {
            return self.overflow();
        }
        for (_, word, count) in &other.words {
            self.add_many(word, *count);
        }
    }

    /// The words and how often each came; `None` where there are too many.
    pub fn words(&self) -> Option<BTreeMap<String, u64>> {
        let text =
            |(_, word, count): &(u64, Box<[u8]>, u64)| (String::from_utf8_lossy(word).into_owned(), *count);
        (!self.overflowed).then(|| self.words.iter().map(text).collect())
    }
}

/// What tells most words apart at a glance: their first eight bytes, their last eight, and their length.
#[inline]
fn key_of(word: &[u8]) -> u64 {
    let length = word.len() as u64;
    match (word.first_chunk::<8>(), word.last_chunk::<8>()) {
        (Some(first), Some(last)) => {
            let (first, last) = (u64::from_le_bytes(*first), u64::from_le_bytes(*last));
            first ^ last.rotate_left(29) ^ length << 56
        }
        _ => word.iter().fold(length, |key, byte| key << 8 | u64::from(*byte)),
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
