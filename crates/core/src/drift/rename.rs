//! Which new column is likely to be one that is gone, under another name.

use crate::layout::Column;
use crate::names::match_key;
use crate::types::{Domain, Type};

/// How alike two columns are.
#[derive(Clone, Copy, Debug, Default, PartialEq, serde::Serialize)]
pub struct Alike {
    /// Their names, 0 to 1.
    pub names: f64,
    /// What share of their ranges they have in common, 0 to 1, where both have one.
    pub range: Option<f64>,
    /// What share of the old one's values the new one has, where that is known.
    pub values: Option<f64>,
    /// Their types are of one kind.
    pub kinds: bool,
    /// The new one stands where the old one stood.
    pub place: bool,
}

impl Alike {
    /// How likely it is one column, 0 to 1. Columns of different kinds are not taken for one.
    ///
    /// Alike names are the better sign; alike values have to be very much so where names are not,
    /// since two counts or two days of one delivery often cover one range.
    pub fn likelihood(&self) -> f64 {
        if !self.kinds {
            return 0.0;
        }
        let evidence = self.values.or(self.range);
        match evidence {
            // In the same place, holding the same: under whatever name.
            Some(evidence) if self.place && self.names < 0.6 => 0.5 + 0.5 * evidence,
            Some(evidence) if self.names >= 0.6 => 0.6 * self.names + 0.4 * evidence,
            Some(evidence) => 0.35 * self.names + 0.65 * evidence,
            None => self.names,
        }
    }

    /// Whether there is no doubt: the names say it, or the place and what it holds.
    pub fn is_certain(&self) -> bool {
        let evidence = self.values.or(self.range);
        let by_names = self.names >= 0.75 && evidence.is_none_or(|evidence| evidence >= 0.3);
        let by_place = self.place && evidence.is_some_and(|evidence| evidence >= 0.7);
        self.kinds && (by_names || by_place)
    }
}

/// How likely it has to be to be said.
const LIKELY: f64 = 0.68;

/// One column likely to be another.
#[derive(Clone, Debug, PartialEq)]
pub struct Rename {
    /// The table's column that is gone, by its place in the table's layout.
    pub gone: usize,
    /// The file's column that is new, by its place in the file's layout.
    pub new: usize,
    /// How alike they are.
    pub alike: Alike,
}

/// Pairs columns that are gone with columns that are new, the likeliest first, each once.
pub fn likeliest(mut candidates: Vec<Rename>) -> Vec<Rename> {
    candidates.retain(|one| one.alike.likelihood() >= LIKELY);
    candidates.sort_by(|a, b| {
        b.alike.likelihood().total_cmp(&a.alike.likelihood()).then((a.gone, a.new).cmp(&(b.gone, b.new)))
    });
    let mut chosen: Vec<Rename> = Vec::new();
    for one in candidates {
        if !chosen.iter().any(|other| other.gone == one.gone || other.new == one.new) {
            chosen.push(one);
        }
    }
    chosen
}

/// How alike two names are: the words they are made of, then their letters.
///
/// ```
/// use hypodoke_core::drift::name_likeness;
///
/// assert!(name_likeness("draught", "draught_m") > name_likeness("draught", "captain"));
/// ```
pub fn name_likeness(a: &str, b: &str) -> f64 {
    let words = |name: &str| -> Vec<String> {
        name.split(|c: char| !c.is_alphanumeric())
            .filter(|word| !word.is_empty())
            .map(str::to_lowercase)
            .collect()
    };
    let (ours, theirs) = (words(a), words(b));
    // `draught` and `draught_m`: the words of the one are all in the other.
    let (few, many) = if ours.len() <= theirs.len() { (&ours, &theirs) } else { (&theirs, &ours) };
    let within = !few.is_empty() && few.iter().all(|word| many.contains(word));
    let share = few.iter().filter(|word| many.contains(word)).count() as f64 / many.len().max(1) as f64;
    let by_words = if within { 0.75 + 0.2 * share } else { share * 0.8 };
    let (a, b) = (match_key(a), match_key(b));
    let letters = strsim::normalized_damerau_levenshtein(&a, &b);
    // `draught_m` and `draft`: each word of the shorter is much like one of the longer.
    let nearest = |word: &String| many.iter().map(|other| word_likeness(word, other)).fold(0.0, f64::max);
    let wordwise = few.iter().map(nearest).sum::<f64>() / few.len().max(1) as f64;
    let spread = 0.85 + 0.15 * few.len() as f64 / many.len().max(1) as f64;
    by_words.max(letters).max(wordwise * spread)
}

/// How alike two words are: their letters, or their consonants, which spellings share.
fn word_likeness(a: &str, b: &str) -> f64 {
    let bones = |word: &str| -> String { word.chars().filter(|c| !"aeiouyh".contains(*c)).collect() };
    let (ours, theirs) = (bones(a), bones(b));
    let consonants = if ours.len().min(theirs.len()) < 3 {
        0.0
    } else {
        strsim::normalized_damerau_levenshtein(&ours, &theirs) * 0.9
    };
    consonants.max(strsim::normalized_damerau_levenshtein(a, b))
}

/// Whether two columns' types are of one kind, so that one may be the other.
pub fn same_kind(old: &Column, new: &Column) -> bool {
    let kind = |ty: Type| match ty {
        Type::Integer | Type::Decimal { .. } | Type::Float => 1,
        Type::Date | Type::Timestamp | Type::TimestampTz => 2,
        Type::Time => 3,
        Type::Boolean => 4,
        Type::Uuid => 5,
        Type::Json => 6,
        Type::Text => 7,
        Type::Unknown => 0,
    };
    let (old, new) = (old.ty(), new.ty());
    // An empty column may be any; a column of text may have been one of numbers with a word in it.
    old == Type::Unknown || Domain::of(new) == Domain::Unknown || kind(old) == kind(new)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("draught", "draft_m", 0.5, 1.0)]
    #[case("draught", "draught_m", 0.8, 1.0)]
    #[case("cargo_t", "cargo_tonnes", 0.5, 1.0)]
    #[case("vessel", "vessel_name", 0.8, 1.0)]
    #[case("arrived_at", "arrival", 0.5, 1.0)]
    #[case("berth", "remarks", 0.0, 0.4)]
    #[case("pilot", "agent", 0.0, 0.4)]
    #[case("tugs", "crew", 0.0, 0.5)]
    fn names_are_more_or_less_alike(#[case] a: &str, #[case] b: &str, #[case] least: f64, #[case] most: f64) {
        let likeness = name_likeness(a, b);
        assert!((least..=most).contains(&likeness), "{likeness}");
        assert!((likeness - name_likeness(b, a)).abs() < 1e-9);
    }

    fn alike(names: f64, range: Option<f64>, values: Option<f64>) -> Alike {
        Alike { names, range, values, kinds: true, place: false }
    }

    #[rstest]
    #[case::name_and_range(alike(0.6, Some(0.98), None), true)]
    #[case::range_alone(alike(0.1, Some(0.7), None), false)]
    #[case::values_alone(alike(0.2, None, Some(0.97)), true)]
    #[case::name_alone(alike(0.9, None, None), true)]
    #[case::name_but_other_values(alike(0.7, Some(0.0), None), false)]
    #[case::place_and_range(Alike { place: true, ..alike(0.1, Some(0.6), None) }, true)]
    #[case::place_and_other_values(Alike { place: true, ..alike(0.1, Some(0.1), None) }, false)]
    #[case::place_alone(Alike { place: true, ..alike(0.1, None, None) }, false)]
    #[case::other_kind(Alike { kinds: false, ..alike(1.0, Some(1.0), None) }, false)]
    fn evidence_and_names_weigh_together(#[case] alike: Alike, #[case] likely: bool) {
        let found = likeliest(vec![Rename { gone: 0, new: 0, alike }]);
        assert_eq!(!found.is_empty(), likely, "{}", alike.likelihood());
    }

    #[test]
    fn each_column_is_paired_once_and_the_likeliest_wins() {
        let one = |gone, new, names| Rename { gone, new, alike: alike(names, Some(1.0), None) };
        let found = likeliest(vec![one(0, 0, 0.7), one(0, 1, 0.9), one(1, 0, 0.8), one(1, 1, 0.85)]);
        assert_eq!(found.iter().map(|r| (r.gone, r.new)).collect::<Vec<_>>(), [(0, 1), (1, 0)]);
    }
}
