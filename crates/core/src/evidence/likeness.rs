//! How alike what a column showed is to what another holds.

use std::hash::{BuildHasher, Hasher};

use super::column::HASH;
use super::{ColumnEvidence, Decision};
use crate::types::Domain;

impl ColumnEvidence {
    /// The least and greatest of a column of numbers.
    pub fn numeric_range(&self, decision: &Decision) -> Option<(f64, f64)> {
        if !matches!(decision.domain, Domain::Number(_)) || decision.domain.ty().is_calendar() {
            return None;
        }
        let (least, greatest) = self.number_range(decision.format.number)?;
        Some((least.to_f64(), greatest.to_f64()))
    }

    /// What share of these values, or of its own if they are fewer, are in both; `None` where
    /// the column's own are too many to be told one by one.
    pub fn share_of(&self, values: &[String]) -> Option<f64> {
        let (own, true) = self.distinct() else { return None };
        let fewer = own.min(values.len() as u64);
        if fewer == 0 {
            return None;
        }
        let hash = |value: &String| {
            let mut hasher = HASH.build_hasher();
            hasher.write(value.as_bytes());
            hasher.finish()
        };
        let common = values.iter().filter(|value| self.distinct.holds(hash(value)) == Some(true)).count();
        Some(common as f64 / fewer as f64)
    }
}

/// What share of two ranges is common to both: 1 if they are the same, 0 if they do not meet.
pub fn overlap(a: (f64, f64), b: (f64, f64)) -> f64 {
    let common = a.1.min(b.1) - a.0.max(b.0);
    let whole = a.1.max(b.1) - a.0.min(b.0);
    if whole <= 0.0 { 1.0 } else { (common / whole).max(0.0) }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::evidence::{Forced, Hints, Spot, decide};

    fn evidence(values: &[&str]) -> ColumnEvidence {
        let mut evidence = ColumnEvidence::default();
        let spot = || Spot { file: 0, line: 2 };
        values.iter().for_each(|value| evidence.add(value.as_bytes(), spot));
        evidence
    }

    #[rstest]
    #[case((0.0, 10.0), (0.0, 10.0), 1.0)]
    #[case((0.0, 10.0), (5.0, 10.0), 0.5)]
    #[case((0.0, 1.0), (2.0, 3.0), 0.0)]
    #[case((4.0, 4.0), (4.0, 4.0), 1.0)]
    fn ranges_overlap(#[case] a: (f64, f64), #[case] b: (f64, f64), #[case] share: f64) {
        assert!((overlap(a, b) - share).abs() < 1e-9);
    }

    #[test]
    fn ranges_and_values_are_told() {
        let column = evidence(&["3,5", "9,25", "-1"]);
        let decision = decide(&column, Hints::default(), Forced::default());
        assert_eq!(column.numeric_range(&decision), Some((-1.0, 9.25)));
        let words = evidence(&["north", "south", "north", "east"]);
        let values = ["north", "west"].map(str::to_owned);
        assert_eq!(words.share_of(&values), Some(0.5));
        assert_eq!(words.share_of(&[]), None);
        assert_eq!(words.numeric_range(&decide(&words, Hints::default(), Forced::default())), None);
    }
}
