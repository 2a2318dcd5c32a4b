//! Aligned tables that fit the terminal.

use comfy_table::presets::NOTHING;
use comfy_table::{Attribute, Cell, CellAlignment, Color, ColumnConstraint, ContentArrangement, Row, Table};

use super::{Screen, Tone};

/// A table of text, one line per row.
pub struct Grid {
    screen: Screen,
    table: Table,
    right: Vec<bool>,
}

/// A cell: its text and its tone.
pub type Piece = (String, Tone);

/// A cell in no particular tone.
pub fn plain(text: impl Into<String>) -> Piece {
    (text.into(), Tone::Plain)
}

impl Grid {
    /// A table with these headings; those that begin with `>` stand over figures, to the right.
    pub fn new(screen: Screen, headings: &[&str]) -> Grid {
        let mut table = Table::new();
        table.load_style(NOTHING);
        // Cells are cut where the room ends, not at the last blank before that.
        table.set_delimiter('\u{1}');
        table.set_truncation_indicator("…");
        if screen.color {
            table.enforce_styling();
        } else {
            table.force_no_tty();
        }
        match screen.width {
            Some(width) => {
                table.set_content_arrangement(ContentArrangement::Dynamic);
                table.set_width(width);
            }
            None => {
                table.set_content_arrangement(ContentArrangement::Disabled);
            }
        }
        let right: Vec<bool> = headings.iter().map(|heading| heading.starts_with('>')).collect();
        let mut grid = Grid { screen, table, right };
        let cells: Vec<Piece> =
            headings.iter().map(|h| (h.trim_start_matches('>').to_owned(), Tone::Heading)).collect();
        let header = grid.row_of(cells);
        grid.table.set_header(header);
        grid
    }

    /// Adds a row.
    pub fn push(&mut self, cells: Vec<Piece>) {
        let row = self.row_of(cells);
        self.table.add_row(row);
    }

    /// Keeps a column as wide as it is: what is cut for want of room is cut elsewhere.
    pub fn keep(&mut self, column: usize) {
        if let Some(column) = self.table.column_mut(column) {
            column.set_constraint(ColumnConstraint::ContentWidth);
        }
    }

    fn row_of(&self, cells: Vec<Piece>) -> Row {
        let mut row = Row::new();
        for (at, (text, tone)) in cells.into_iter().enumerate() {
            let mut cell = Cell::new(text);
            if self.right.get(at).copied().unwrap_or_default() {
                cell = cell.set_alignment(CellAlignment::Right);
            }
            row.add_cell(if self.screen.color { tinted(cell, tone) } else { cell });
        }
        row.max_height(1);
        row
    }

    /// The table as text, lines without blanks at their ends.
    pub fn text(mut self) -> String {
        let count = self.table.column_count();
        for (at, column) in self.table.column_iter_mut().enumerate() {
            column.set_padding((0, if at + 1 == count { 0 } else { 2 }));
        }
        let mut out = String::new();
        for line in self.table.lines() {
            out.push_str(line.trim_end());
            out.push('\n');
        }
        out
    }
}

fn tinted(cell: Cell, tone: Tone) -> Cell {
    match tone {
        Tone::Plain => cell,
        Tone::Heading => cell.add_attribute(Attribute::Bold),
        Tone::Faint => cell.add_attribute(Attribute::Dim),
        Tone::Good => cell.fg(Color::DarkGreen),
        Tone::Warning => cell.fg(Color::DarkYellow),
        Tone::Bad => cell.fg(Color::DarkRed).add_attribute(Attribute::Bold),
    }
}
