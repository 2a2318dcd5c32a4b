//! Previews on the terminal.

use hypodoke_core::types::Type;

use super::grid::{Grid, plain};
use super::{Screen, Tone};
use hypodoke_core::count;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::inspect::Preview;

/// The least room that a column of text is given before columns are left out.
const LEAST_TEXT: usize = 14;

/// A preview as text: as many columns as fit the terminal.
pub fn text(path: &str, preview: &Preview, screen: Screen) -> String {
    let widths = widths(preview);
    let shown = fitting(preview, &widths, screen);
    let columns = &preview.columns[..shown];
    let names: Vec<String> = columns.iter().map(|(name, _)| clean(name)).collect();
    let headings: Vec<&str> = std::iter::once(">line").chain(names.iter().map(String::as_str)).collect();
    let mut grid = Grid::new(screen, &headings);
    let types = columns.iter().map(|(_, ty)| (ty.to_string(), Tone::Faint));
    grid.push(std::iter::once(plain("")).chain(types).collect());
    let mut rejects = String::new();
    for row in &preview.rows {
        let line = count::number(row.line);
        match &row.values {
            Ok(values) => {
                let cells = values.iter().take(shown).map(|value| match value {
                    Some(text) => plain(clean(text)),
                    None => ("·".to_owned(), Tone::Faint),
                });
                grid.push(std::iter::once((line, Tone::Faint)).chain(cells).collect());
            }
            Err(reason) => {
                grid.push(vec![(line.clone(), Tone::Bad), ("rejected".to_owned(), Tone::Bad)]);
                let mark = screen.paint(Tone::Bad, "!");
                rejects.push_str(&format!("{mark} line {line} would be rejected: {reason}\n"));
            }
        }
    }
    grid.keep(0);
    for (at, (_, ty)) in columns.iter().enumerate() {
        if *ty != Type::Text && *ty != Type::Json {
            grid.keep(at + 1);
        }
    }
    let title = if preview.path.is_empty() {
        clean(path)
    } else {
        format!("{}: {}", clean(path), clean(&preview.path))
    };
    let mut out = format!("{}\n{}", screen.paint(Tone::Heading, &title), grid.text());
    if shown < preview.columns.len() {
        let rest: Vec<String> = preview.columns[shown..].iter().map(|(name, _)| clean(name)).collect();
        let more = count::of(rest.len() as u64, "column", "columns");
        out.push_str(&format!("  and {more} more, for which there is no room: {}\n", count::list(&rest)));
    }
    out + &rejects
}

/// The width of each column's widest cell, in characters.
fn widths(preview: &Preview) -> Vec<usize> {
    let of = |(at, (name, ty)): (usize, &(String, Type))| {
        let values = preview.rows.iter().filter_map(|row| row.values.as_ref().ok()?.get(at)?.as_ref());
        let widest = values.map(|value| value.chars().count()).max().unwrap_or(1);
        widest.max(name.chars().count()).max(ty.to_string().len())
    };
    preview.columns.iter().enumerate().map(of).collect()
}

/// How many columns fit, texts cut to the least that is worth reading.
fn fitting(preview: &Preview, widths: &[usize], screen: Screen) -> usize {
    let Some(room) = screen.width else { return widths.len() };
    let mut used = 8;
    for (at, ((_, ty), width)) in preview.columns.iter().zip(widths).enumerate() {
        let least = if *ty == Type::Text || *ty == Type::Json { (*width).min(LEAST_TEXT) } else { *width };
        used += least + 2;
        if used > room as usize {
            return at.max(1);
        }
    }
    widths.len()
}
