//! Texts that hold parts of a file's path: `lookup_{name}`.
//!
//! A brace that is meant as one is written twice.

use crate::pattern::{Part, PartValue};

/// A text with places for the named parts of a path.
///
/// ```
/// use hypodoke_core::pattern::{Part, PartValue};
/// use hypodoke_core::template::Template;
///
/// let template = Template::parse("lookup_{name}").unwrap();
/// let parts = [(Part::plain("name"), PartValue::Text("berths".into()))];
/// assert_eq!(template.fill(&parts), "lookup_berths");
/// ```
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Template {
    pieces: Vec<Piece>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    Text(String),
    Part(String),
}

impl Template {
    /// Reads a template.
    ///
    /// # Errors
    ///
    /// A brace is not closed, or was never opened; in words.
    pub fn parse(text: &str) -> Result<Template, String> {
        let (mut pieces, mut plain, mut rest) = (Vec::new(), String::new(), text);
        while let Some(c) = rest.chars().next() {
            let after = &rest[c.len_utf8()..];
            rest = match c {
                '{' | '}' if after.starts_with(c) => {
                    plain.push(c);
                    &after[1..]
                }
                '{' => {
                    let (name, after) = after.split_once('}').ok_or_else(|| {
                        format!("`{{` is not closed in `{text}`; a brace is written `{{{{`")
                    })?;
                    if !plain.is_empty() {
                        pieces.push(Piece::Text(std::mem::take(&mut plain)));
                    }
                    pieces.push(Piece::Part(name.trim().to_owned()));
                    after
                }
                '}' => return Err(format!("`}}` closes nothing in `{text}`; a brace is written `}}}}`")),
                _ => {
                    plain.push(c);
                    after
                }
            };
        }
        if !plain.is_empty() {
            pieces.push(Piece::Text(plain));
        }
        Ok(Template { pieces })
    }

    /// The value of one named part, and nothing else.
    pub fn of_part(name: &str) -> Template {
        Template { pieces: vec![Piece::Part(name.to_owned())] }
    }

    /// The parts that it names.
    ///
    /// ```
    /// use hypodoke_core::template::Template;
    ///
    /// let template = Template::parse("{quay}_{day}")?;
    /// assert_eq!(template.parts().collect::<Vec<_>>(), ["quay", "day"]);
    /// # Ok::<(), String>(())
    /// ```
    pub fn parts(&self) -> impl Iterator<Item = &str> {
        self.pieces.iter().filter_map(|piece| match piece {
            Piece::Part(name) => Some(name.as_str()),
            Piece::Text(_) => None,
        })
    }

    /// The text with the values that a path's parts hold; a part that is not among them leaves nothing.
    pub fn fill(&self, parts: &[(Part, PartValue)]) -> String {
        let value = |name: &String| parts.iter().find(|(part, _)| part.name == *name);
        let text = |piece: &Piece| match piece {
            Piece::Text(text) => text.clone(),
            Piece::Part(name) => value(name).map(|(_, value)| value.text()).unwrap_or_default(),
        };
        self.pieces.iter().map(text).collect()
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::one("lookup_{name}", "lookup_dues")]
    #[case::two("{name} of {day}", "dues of 2026-03-04")]
    #[case::braces("{{name}} {name}", "{name} dues")]
    #[case::none("plain", "plain")]
    fn parts_fill_their_places(#[case] text: &str, #[case] expected: &str) {
        let day = Part::plain("day");
        let parts = [(Part::plain("name"), PartValue::Text("dues".into())), (day, PartValue::Date(20_516))];
        assert_eq!(Template::parse(text).map(|template| template.fill(&parts)).as_deref(), Ok(expected));
    }

    #[rstest]
    #[case("a{b", "not closed")]
    #[case("a}b", "closes nothing")]
    fn a_brace_alone_is_an_error(#[case] text: &str, #[case] why: &str) {
        assert!(Template::parse(text).is_err_and(|error| error.contains(why)));
    }
}
