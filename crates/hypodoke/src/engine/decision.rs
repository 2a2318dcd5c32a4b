//! What a person decided about a held file, and what it changes.

use hypodoke_core::drift::WayOut;
use hypodoke_core::layout::{ColumnRule, Layout};
use hypodoke_core::names::match_key;
use hypodoke_core::types::Type;
use serde::{Deserialize, Serialize};

use super::Feed;

/// A decision, as the ledger keeps it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Decision {
    /// Columns that are others under new names: the old name, the new one.
    pub rename: Vec<(String, String)>,
    /// Columns that the table gets.
    pub add_column: Vec<String>,
    /// Columns that are left out.
    pub ignore_column: Vec<String>,
    /// Columns that become text.
    pub as_text: Vec<String>,
    /// The file is loaded whatever else is the matter.
    pub load_anyway: bool,
    /// It is never loaded.
    pub discard: bool,
}

impl Decision {
    /// Whether nothing is decided.
    pub fn is_empty(&self) -> bool {
        *self == Decision::default()
    }

    /// What is decided, as the options that say so.
    pub fn words(&self) -> String {
        let renames = self.rename.iter().map(|(old, new)| WayOut::Rename(old.clone(), new.clone()));
        let added = self.add_column.iter().cloned().map(WayOut::AddColumn);
        let ignored = self.ignore_column.iter().cloned().map(WayOut::IgnoreColumn);
        let texts = self.as_text.iter().cloned().map(WayOut::AsText);
        let rest = [self.load_anyway.then_some(WayOut::LoadAnyway), self.discard.then_some(WayOut::Discard)];
        let all = renames.chain(added).chain(ignored).chain(texts).chain(rest.into_iter().flatten());
        all.map(|way| option(&way)).collect::<Vec<_>>().join(" ")
    }

    /// The feed as the decision makes it for this file. `table` is its layout until now.
    pub fn applied(&self, feed: &Feed, table: Option<&Layout>) -> Feed {
        let mut feed = feed.clone();
        for (old, new) in &self.rename {
            if table.is_some_and(|table| table.parts.iter().any(|part| part.path == *old)) {
                feed.part_names.push((new.clone(), old.clone()));
                continue;
            }
            let known = table.and_then(|table| {
                let by_source =
                    table.columns.iter().find(|column| match_key(&column.source) == match_key(old));
                by_source.or_else(|| table.find(old).map(|at| &table.columns[at]))
            });
            let name = known.map_or_else(|| feed.namer.name(old), |column| column.name.clone());
            rule_of(&mut feed.rules, new).name = Some(name);
        }
        for column in &self.as_text {
            rule_of(&mut feed.rules, column).ty = Some(Type::Text);
        }
        feed.policy.add.extend(self.add_column.iter().cloned());
        feed.policy.ignore.extend(self.ignore_column.iter().cloned());
        if self.load_anyway {
            feed.policy = feed.policy.letting_all_through();
            feed.expect.waived = true;
        }
        feed
    }
}

fn rule_of<'a>(rules: &'a mut Vec<ColumnRule>, source: &str) -> &'a mut ColumnRule {
    let at = rules.iter().position(|rule| match_key(&rule.source) == match_key(source));
    let at = at.unwrap_or_else(|| {
        rules.push(ColumnRule { source: source.to_owned(), ..ColumnRule::default() });
        rules.len() - 1
    });
    &mut rules[at]
}

/// A way out as an option of `settle`.
pub fn option(way: &WayOut) -> String {
    match way {
        WayOut::Rename(old, new) => format!("--rename {}", quoted(&format!("{old}={new}"))),
        WayOut::AddColumn(column) => format!("--add-column {}", quoted(column)),
        WayOut::IgnoreColumn(column) => format!("--ignore-column {}", quoted(column)),
        WayOut::AsText(column) => format!("--as-text {}", quoted(column)),
        WayOut::LoadAnyway => "--load-anyway".to_owned(),
        WayOut::Discard => "--discard".to_owned(),
    }
}

/// A word as a shell takes it for one.
pub fn quoted(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "_-./=:%+,@".contains(c);
    if !word.is_empty() && word.chars().all(plain) {
        word.to_owned()
    } else {
        format!("'{}'", word.replace('\'', "'\\''"))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("draught=draft_m", "draught=draft_m")]
    #[case("Draught (m)", "'Draught (m)'")]
    #[case("it's", "'it'\\''s'")]
    #[case("", "''")]
    fn words_are_quoted_for_a_shell(#[case] word: &str, #[case] expected: &str) {
        assert_eq!(quoted(word), expected);
    }

    #[test]
    fn a_decision_is_told_as_its_options() {
        let decision = Decision {
            rename: vec![("a".into(), "b c".into())],
            as_text: vec!["d".into()],
            load_anyway: true,
            ..Decision::default()
        };
        assert_eq!(decision.words(), "--rename 'a=b c' --as-text d --load-anyway");
        let kept = serde_json::to_string(&decision).expect("JSON");
        assert_eq!(serde_json::from_str::<Decision>(&kept).expect("a decision"), decision);
    }
}
