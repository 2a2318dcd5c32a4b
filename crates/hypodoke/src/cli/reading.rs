//! How files are written, as the command line overrules it.

use hypodoke_core::layout::ColumnRule;
use hypodoke_core::names::match_key;
use hypodoke_engine::job::{Feed, Job};
use hypodoke_formats::FormatOptions;
use hypodoke_formats::bytes::Encoding;
use hypodoke_formats::json::{JsonOptions, JsonPath};
use hypodoke_formats::text::Escape;
use hypodoke_formats::workbook::WorkbookOptions;

use super::ReadingArguments;
use crate::failure::Failure;
use crate::values::{
    ERROR_CELLS, LISTS, NESTED, STRINGS, column_names, delimiter, fixed_fields, format, mark, sheets,
};

impl ReadingArguments {
    /// Puts these over what is configured of the feeds of a job.
    pub fn over_job(&self, job: &mut Job) -> Result<(), Failure> {
        for source in &mut job.feeds {
            self.over_feed(&mut source.feed)?;
        }
        Ok(())
    }

    /// Puts these over what is configured of a feed.
    pub fn over_feed(&self, feed: &mut Feed) -> Result<(), Failure> {
        feed.rules = self.rules(&feed.rules)?;
        feed.format_options = self.over(std::mem::take(&mut feed.format_options))?;
        Ok(())
    }

    /// A feed of which only the table is known, and these.
    pub fn plain_feed(&self, table: String) -> Result<Feed, Failure> {
        Ok(Feed::plain(table, self.over(FormatOptions::default())?, self.rules(&[])?))
    }

    /// These format_options over those of a configuration.
    fn over(&self, mut all: FormatOptions) -> Result<FormatOptions, Failure> {
        let format_options = &mut all.text;
        let usage = |option: &str, why: String| Failure::usage(format!("--{option}: {why}"));
        if let Some(text) = &self.delimiter {
            format_options.dialect.delimiter = Some(delimiter(text).map_err(|why| usage("delimiter", why))?);
        }
        if let Some(text) = &self.quote {
            format_options.dialect.quote = Some(mark(text).map_err(|why| usage("quote", why))?);
        }
        if let Some(label) = &self.encoding {
            format_options.encoding =
                Some(Encoding::named(label).map_err(|error| usage("encoding", error.to_string()))?);
        }
        if let Some(word) = &self.escape {
            format_options.dialect.escape = Some(match word.as_str() {
                "doubled" => Escape::Doubled,
                "backslash" => Escape::Backslash,
                _ => return Err(usage("escape", format!("`{word}` is neither doubled nor backslash"))),
            });
        }
        if let Some(text) = &self.comment {
            format_options.dialect.comment = Some(mark(text).map_err(|why| usage("comment", why))?);
        }
        if let Some(word) = &self.short_rows {
            format_options.table.short_rows = Some(match word.as_str() {
                "null" => true,
                "reject" => false,
                _ => return Err(usage("short-rows", format!("`{word}` is neither null nor reject"))),
            });
        }
        if !self.fields.is_empty() {
            format_options.fields = Some(fixed_fields(&self.fields).map_err(|why| usage("fields", why))?);
        }
        format_options.max_expansion = self.max_expansion.or(format_options.max_expansion);
        format_options.max_record = self.max_record.or(format_options.max_record);
        format_options.table.header_lines = self.header_lines.or(format_options.table.header_lines);
        if !self.header.is_empty() {
            column_names(&self.header).map_err(|why| usage("header", why))?;
            format_options.table.names = Some(self.header.clone());
        }
        format_options.table.skip_lines = self.skip_lines.or(format_options.table.skip_lines);
        self.over_json(&mut all.json)?;
        self.over_workbook(&mut all.workbook)?;
        Ok(all)
    }

    fn over_json(&self, format_options: &mut JsonOptions) -> Result<(), Failure> {
        let usage = |option: &str, why: String| Failure::usage(format!("--{option}: {why}"));
        if let Some(path) = &self.rows_at {
            format_options.rows_at = Some(JsonPath::parse(path).map_err(|why| usage("rows-at", why))?);
        }
        if let Some(word) = &self.nested {
            format_options.nested = one_of("nested", word, &NESTED)?;
        }
        if let Some(word) = &self.lists {
            format_options.plain_lists = one_of("lists", word, &LISTS)?;
        }
        if let Some(word) = &self.strings {
            format_options.strings_are_text = one_of("strings", word, &STRINGS)?;
        }
        format_options.raw |= self.raw;
        Ok(())
    }

    fn over_workbook(&self, format_options: &mut WorkbookOptions) -> Result<(), Failure> {
        if !self.sheets.is_empty() {
            format_options.sheets = Some(sheets(self.sheets.clone()));
        }
        if let Some(word) = &self.error_cells {
            format_options.errors = one_of("error-cells", word, &ERROR_CELLS)?;
        }
        format_options.one_table |= self.one_table;
        format_options.range = self.range.clone().or(format_options.range.take());
        Ok(())
    }

    /// These rules for columns before those of a configuration.
    fn rules(&self, configured: &[ColumnRule]) -> Result<Vec<ColumnRule>, Failure> {
        let mut rules = configured.to_vec();
        for text in &self.types {
            let (column, ty) = split(text, "type")?;
            let ty = ty.parse().map_err(|why| Failure::usage(format!("--type {text}: {why}")))?;
            rule(&mut rules, column).ty = Some(ty);
        }
        for text in &self.formats {
            let (column, written) = split(text, "format")?;
            let forced = format(written).map_err(|why| Failure::usage(format!("--format {text}: {why}")))?;
            rule(&mut rules, column).forced = forced;
        }
        Ok(rules)
    }
}

/// The value of a word, or a complaint that names the words there are.
fn one_of<T: Copy>(option: &str, word: &str, words: &[(&str, T)]) -> Result<T, Failure> {
    let found = words.iter().find(|(known, _)| *known == word).map(|(_, value)| *value);
    found.ok_or_else(|| {
        let all: Vec<&str> = words.iter().map(|(known, _)| *known).collect();
        Failure::usage(format!("--{option}: `{word}` is none of {}", all.join(", ")))
    })
}

fn split<'a>(text: &'a str, option: &str) -> Result<(&'a str, &'a str), Failure> {
    text.split_once('=')
        .ok_or_else(|| Failure::usage(format!("--{option} {text}: write COLUMN={}", option.to_uppercase())))
}

/// The rule of a column, made if there is none.
fn rule<'a>(rules: &'a mut Vec<ColumnRule>, column: &str) -> &'a mut ColumnRule {
    let at =
        rules.iter().position(|rule| match_key(&rule.source) == match_key(column)).unwrap_or_else(|| {
            rules.push(ColumnRule { source: column.to_owned(), ..ColumnRule::default() });
            rules.len() - 1
        });
    &mut rules[at]
}
