//! How files are written, as the command line overrules it.

use hypodoke_formats::bytes::Encoding;
use hypodoke_formats::text::TextWishes;

use super::ReadingArguments;
use crate::failure::Failure;
use crate::settings::{delimiter, mark};

impl ReadingArguments {
    /// These wishes over those of a configuration.
    pub fn over(&self, mut wishes: TextWishes) -> Result<TextWishes, Failure> {
        let usage = |option: &str, why: String| Failure::usage(format!("--{option}: {why}"));
        if let Some(text) = &self.delimiter {
            wishes.dialect.delimiter = Some(delimiter(text).map_err(|why| usage("delimiter", why))?);
        }
        if let Some(text) = &self.quote {
            wishes.dialect.quote = Some(mark(text).map_err(|why| usage("quote", why))?);
        }
        if let Some(label) = &self.encoding {
            wishes.encoding =
                Some(Encoding::named(label).map_err(|error| usage("encoding", error.to_string()))?);
        }
        wishes.table.header_lines = self.header_lines.or(wishes.table.header_lines);
        wishes.table.skip_lines = self.skip_lines.or(wishes.table.skip_lines);
        Ok(wishes)
    }
}
