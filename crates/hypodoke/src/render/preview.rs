//! Previews on the terminal.

use super::grid::{Grid, plain};
use super::{Screen, Tone, count};
use crate::engine::preview::Preview;
use crate::failure::clean;

/// A preview as text.
pub fn text(path: &str, preview: &Preview, screen: Screen) -> String {
    let names: Vec<&str> =
        std::iter::once(">line").chain(preview.columns.iter().map(|(name, _)| name.as_str())).collect();
    let mut grid = Grid::new(screen, &names);
    let types = preview.columns.iter().map(|(_, ty)| (ty.to_string(), Tone::Faint));
    grid.push(std::iter::once(plain("")).chain(types).collect());
    let mut rejects = String::new();
    for row in &preview.rows {
        let line = count::number(row.line);
        match &row.values {
            Ok(values) => {
                let cells = values.iter().map(|value| match value {
                    Some(text) => plain(clean(text)),
                    None => ("·".to_owned(), Tone::Faint),
                });
                grid.push(std::iter::once((line, Tone::Faint)).chain(cells).collect());
            }
            Err(reason) => {
                let mark = std::iter::once((line.clone(), Tone::Bad));
                grid.push(mark.chain([("rejected".to_owned(), Tone::Bad)]).collect());
                rejects.push_str(&format!(
                    "{} line {line} would be rejected: {reason}\n",
                    screen.paint(Tone::Bad, "!")
                ));
            }
        }
    }
    format!("{}\n{}{rejects}", screen.paint(Tone::Heading, &clean(path)), grid.text())
}
