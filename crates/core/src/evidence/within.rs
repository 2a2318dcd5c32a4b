//! What a column holds besides values of another kind: a column of numbers with a word in it, say.

use super::{ColumnEvidence, Example, Forced};
use crate::format::Format;
use crate::spelling::temporal::ANY_ORDER;
use crate::spelling::words::{BoolWords, NullSet};
use crate::spelling::{Class, Family, NumberStyle};
use crate::types::{Digits, Domain};

/// The values of a column that are of one kind, and how many are not.
#[derive(Clone, Debug, PartialEq)]
pub struct Within {
    /// What those of the kind come to.
    pub domain: Domain,
    /// How they are written.
    pub format: Format,
    /// How many there are.
    pub fitting: u64,
    /// How many are of another kind.
    pub outside: u64,
    /// The first of these.
    pub first: Option<Example>,
}

impl ColumnEvidence {
    /// The values that are of the kind of a domain; `None` if they do not agree on anything narrower than
    /// text. `before` is how the column was written until now, and counts where
    /// its values cannot all be read in one way.
    pub fn within(&self, kind: Domain, before: Format, forced: Forced) -> Option<Within> {
        let mut format = Format { nulls: NullSet::ALL, ..before };
        let (domain, is_inside): (Domain, Box<dyn Fn(Class) -> bool>) = match kind {
            Domain::Number(_) => {
                let style = self.style_within(before.number, forced);
                format.number = style;
                let fits =
                    move |class: Class| class.family() == Family::Number && class.styles() & style.bit() != 0;
                let unit = self.unit_in_common()?;
                let digits =
                    Digits { unit, not_days: true, not_moments: true, ..self.digits_of(style, &fits) };
                (Domain::Number(digits), Box::new(fits))
            }
            Domain::Date | Domain::Timestamp | Domain::TimestampTz => {
                let orders = self.orders_in_common();
                if orders != ANY_ORDER && orders & before.date.bit() == 0 {
                    return None;
                }
                let fits = |class: Class| class.family() == Family::Temporal && !class.is_fine();
                let of_class = |class: Class| match class {
                    Class::Date => Domain::Date,
                    Class::Timestamp => Domain::Timestamp,
                    _ => Domain::TimestampTz,
                };
                let classes = self.classes().map(|(class, _)| class).filter(|class| fits(*class));
                (classes.map(of_class).fold(Domain::Unknown, Domain::join), Box::new(fits))
            }
            Domain::Boolean => {
                format.truth = BoolWords::first_of(self.pairs)?;
                (kind, Box::new(|class: Class| class.family() == Family::Boolean))
            }
            Domain::Time => (kind, Box::new(|class: Class| class.family() == Family::Time)),
            Domain::Uuid => (kind, Box::new(|class: Class| class.family() == Family::Uuid)),
            Domain::Json => (kind, Box::new(|class: Class| class.family() == Family::Json)),
            Domain::Unknown | Domain::Text => return None,
        };
        let (mut fitting, mut outside, mut first) = (0, 0, None::<Example>);
        for (class, tally) in self.classes() {
            if is_inside(class) {
                fitting += tally.count;
                continue;
            }
            outside += tally.count;
            if let Some(example) = &tally.first
                && first.as_ref().is_none_or(|first| example < first)
            {
                first = Some(example.clone());
            }
        }
        // Of none nothing is known but what they would be.
        let domain = if fitting == 0 { kind } else { domain };
        Some(Within { domain, format, fitting, outside, first })
    }

    /// The style of numbers in a column where not all agree on one.
    fn style_within(&self, before: NumberStyle, forced: Forced) -> NumberStyle {
        if let Some(style) = forced.style {
            return style;
        }
        let common = self.styles_in_common();
        if common & before.bit() != 0 {
            return before;
        }
        let first = NumberStyle::ALL.into_iter().find(|style| common & style.bit() != 0);
        first.unwrap_or_else(|| self.commonest_style())
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::evidence::Spot;
    use crate::types::Type;

    fn evidence(values: &[&str]) -> ColumnEvidence {
        let mut column = ColumnEvidence::default();
        for (at, value) in values.iter().enumerate() {
            column.add(value.as_bytes(), || Spot { file: 0, line: at as u64 + 2 });
        }
        column
    }

    fn whole() -> Domain {
        Domain::of(Type::Integer)
    }

    #[rstest]
    #[case::words(&["1", "2", "x1", "3"], whole(), Some((Type::Integer, 3, 1, "x1")))]
    #[case::wider_within(&["1", "2.5", "lost"], whole(), Some((Type::Decimal { precision: 2, scale: 1 }, 2, 1, "lost")))]
    #[case::marks(&["1.5", "2.25", "3,5"], whole(), Some((Type::Decimal { precision: 3, scale: 2 }, 2, 1, "3,5")))]
    #[case::days(&["2026-03-04", "soon", "2026-03-05 10:00:00"], Domain::Date, Some((Type::Timestamp, 2, 1, "soon")))]
    #[case::truths(&["yes", "no", "7"], Domain::Boolean, Some((Type::Boolean, 2, 1, "7")))]
    #[case::none_left(&["a", "b"], whole(), Some((Type::Integer, 0, 2, "a")))]
    fn values_of_the_kind_are_told_from_others(
        #[case] values: &[&str],
        #[case] kind: Domain,
        #[case] expected: Option<(Type, u64, u64, &str)>,
    ) {
        let within = evidence(values).within(kind, Format::default(), Forced::default());
        let found = within.as_ref().map(|within| {
            let first = within.first.as_ref().map(|example| &*example.value).unwrap_or_default();
            (within.domain.ty(), within.fitting, within.outside, first)
        });
        assert_eq!(found, expected);
    }
}
