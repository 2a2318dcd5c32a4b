//! The lasting part of a decision: a change of the configuration, its comments kept.

use std::path::{Path, PathBuf};

use hypodoke_core::layout::Layout;
use hypodoke_core::names::match_key;
use similar::TextDiff;
use toml_edit::{DocumentMut, Item, Table, value};

use super::FILE_NAME;
use crate::failure::Failure;
use hypodoke_engine::decide::Settlement;
use hypodoke_engine::job::Feed;

/// A rule that a decision leaves for the files to come.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Rule {
    /// A column of the file has this name in the table.
    Name(String, String),
    /// A column is text.
    Text(String),
    /// A column is left out.
    Skip(String),
    /// A sheet is known by another name.
    Sheet(String, String),
}

/// The lasting rules in a settlement. `table` is the table's layout until now.
pub fn of(settlement: &Settlement, feed: &Feed, table: Option<&Layout>) -> Vec<Rule> {
    let rename = |(old, new): &(String, String)| {
        let is_sheet = table.is_some_and(|table| table.parts.iter().any(|part| part.path == *old));
        if is_sheet {
            return Rule::Sheet(new.clone(), old.clone());
        }
        let known = table.and_then(|table| {
            let by_source = table.columns.iter().find(|column| match_key(&column.source) == match_key(old));
            by_source.or_else(|| table.find(old).map(|at| &table.columns[at]))
        });
        let name = known.map_or_else(|| feed.namer.name(old), |column| column.name.clone());
        Rule::Name(new.clone(), name)
    };
    let texts = settlement.as_text.iter().cloned().map(Rule::Text);
    let skips = settlement.ignore_column.iter().cloned().map(Rule::Skip);
    settlement.rename.iter().map(rename).chain(texts).chain(skips).collect()
}

/// A change of the configuration, not made yet.
pub struct Lasting {
    file: PathBuf,
    before: String,
    after: String,
}

impl Lasting {
    /// The configuration with the rules in it.
    pub fn propose(named: Option<&Path>, feed: &str, rules: &[Rule]) -> Result<Lasting, Failure> {
        let file = named.unwrap_or(Path::new(FILE_NAME)).to_path_buf();
        let failed = |why: String| Failure::usage(format!("the configuration `{}`: {why}", file.display()));
        let before = std::fs::read_to_string(&file).map_err(|error| failed(error.to_string()))?;
        let mut document: DocumentMut =
            before.parse().map_err(|error: toml_edit::TomlError| failed(error.message().to_owned()))?;
        for rule in rules {
            let (section, column) = match rule {
                Rule::Sheet(new, _) => ("sheet_names", new),
                Rule::Name(column, _) | Rule::Text(column) | Rule::Skip(column) => ("columns", column),
            };
            let table = inner(document.as_table_mut(), "feed")
                .and_then(|feeds| inner(feeds, feed))
                .and_then(|feed| inner(feed, section))
                .ok_or_else(|| failed(format!("[feed.{feed}.{section}] is not a section")))?;
            if let Rule::Sheet(new, known) = rule {
                table.set_implicit(false);
                table.insert(new, value(known.as_str()));
                continue;
            }
            let own = inner(table, column)
                .ok_or_else(|| failed(format!("[feed.{feed}.columns.{column}] is not a section")))?;
            own.set_implicit(false);
            match rule {
                Rule::Name(_, name) => own.insert("name", value(name.as_str())),
                Rule::Text(_) => own.insert("type", value("text")),
                _ => own.insert("skip", value(true)),
            };
        }
        let after = document.to_string();
        Ok(Lasting { file, before, after })
    }

    /// The change as lines taken out and put in.
    pub fn diff(&self) -> String {
        let diff = TextDiff::from_lines(&self.before, &self.after);
        let name = self.file.display().to_string();
        diff.unified_diff().context_radius(2).header(&name, &name).to_string()
    }

    /// Makes the change. The file is written anew beside the old one and takes its place whole.
    pub fn write(&self) -> Result<(), Failure> {
        let failed = |error: std::io::Error| {
            Failure::usage(format!(
                "the configuration `{}` could not be written: {error}",
                self.file.display()
            ))
        };
        let fresh = self.file.with_extension("toml.new");
        std::fs::write(&fresh, &self.after).map_err(failed)?;
        std::fs::rename(&fresh, &self.file).map_err(failed)
    }
}

/// A section in a section, made if there is none; `None` if something else bears its name.
fn inner<'a>(table: &'a mut Table, name: &str) -> Option<&'a mut Table> {
    let fresh = || {
        let mut table = Table::new();
        table.set_implicit(true);
        Item::Table(table)
    };
    table.entry(name).or_insert_with(fresh).as_table_mut()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rules_are_put_in_and_comments_stay() {
        let folder = tempfile::tempdir().expect("a folder");
        let file = folder.path().join("h.toml");
        let before = "# ours\n[feed.north] # the quay\nplace = \"q\"\n\n[feed.north.columns.cargo]\n# tonnes\nname = \"cargo_t\"\n";
        std::fs::write(&file, before).expect("a file");
        let rules = [
            Rule::Name("draft m".into(), "draught".into()),
            Rule::Text("cargo".into()),
            Rule::Skip("junk".into()),
            Rule::Sheet("Dues 2027".into(), "Dues".into()),
        ];
        let lasting = Lasting::propose(Some(&file), "north", &rules).expect("a proposal");
        let diff = lasting.diff();
        assert!(diff.contains("+type = \"text\"") && !diff.contains("\n-"), "{diff}");
        lasting.write().expect("written");
        let after = std::fs::read_to_string(&file).expect("text");
        for part in [
            "# ours",
            "# the quay",
            "# tonnes",
            "[feed.north.columns.\"draft m\"]\nname = \"draught\"",
            "[feed.north.columns.junk]\nskip = true",
            "[feed.north.sheet_names]\n\"Dues 2027\" = \"Dues\"",
        ] {
            assert!(after.contains(part), "{part} in {after}");
        }
    }
}
