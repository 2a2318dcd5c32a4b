//! What a person decided about a held file, and what it changes for that file.

use hypodoke_core::drift::Remedy;
use hypodoke_core::layout::{ColumnRule, Layout};
use hypodoke_core::names::match_key;
use hypodoke_core::types::Type;
use serde::{Deserialize, Serialize};

use crate::job::Feed;

/// What a person decided, as the ledger keeps it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Settlement {
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

impl Settlement {
    /// Whether nothing is decided.
    pub fn is_empty(&self) -> bool {
        *self == Settlement::default()
    }

    /// What is decided, one by one.
    pub fn remedies(&self) -> Vec<Remedy> {
        let renames = self.rename.iter().map(|(old, new)| Remedy::Rename(old.clone(), new.clone()));
        let added = self.add_column.iter().cloned().map(Remedy::AddColumn);
        let ignored = self.ignore_column.iter().cloned().map(Remedy::IgnoreColumn);
        let texts = self.as_text.iter().cloned().map(Remedy::AsText);
        let rest = [self.load_anyway.then_some(Remedy::LoadAnyway), self.discard.then_some(Remedy::Discard)];
        renames.chain(added).chain(ignored).chain(texts).chain(rest.into_iter().flatten()).collect()
    }

    /// The decision that the ledger keeps as this text.
    ///
    /// # Errors
    ///
    /// The text is not a decision: it was written by another program, or is damaged.
    pub fn parse(text: &str) -> Result<Settlement, serde_json::Error> {
        serde_json::from_str(text)
    }

    /// As the ledger keeps it.
    ///
    /// # Errors
    ///
    /// It cannot be written as JSON.
    pub fn to_json(&self) -> Result<String, serde_json::Error> {
        serde_json::to_string(self)
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_settlement_is_kept_as_it_is_and_told_one_by_one() {
        let settlement = Settlement {
            rename: vec![("a".into(), "b c".into())],
            as_text: vec!["d".into()],
            load_anyway: true,
            ..Settlement::default()
        };
        let remedies =
            [Remedy::Rename("a".into(), "b c".into()), Remedy::AsText("d".into()), Remedy::LoadAnyway];
        assert_eq!(settlement.remedies(), remedies);
        let kept = settlement.to_json().expect("JSON");
        assert_eq!(Settlement::parse(&kept).expect("a settlement"), settlement);
        assert!(Settlement::parse("{\"rename\": 3}").is_err());
    }
}
