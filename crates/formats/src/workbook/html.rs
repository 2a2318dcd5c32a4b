//! Tables in HTML: what many programs write when they are asked for a workbook.

use html5gum::{Token, Tokenizer};

use super::book::Grid;

/// The most tables that are taken from one page.
const MOST_TABLES: usize = 256;

/// The widest that a cell may stretch over others.
const WIDEST: usize = 1000;

/// Whether a text is HTML: a page, or a bare table.
pub fn looks_like_html(head: &[u8]) -> bool {
    let head = head.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(head).trim_ascii_start();
    let start: Vec<u8> = head.iter().take(512).map(u8::to_ascii_lowercase).collect();
    let begins = [&b"<!doctype html"[..], b"<html", b"<table", b"<head", b"<body", b"<style", b"<meta"];
    begins.iter().any(|mark| start.starts_with(mark))
        || start.starts_with(b"<")
            && !start.starts_with(b"<?xml")
            && memchr::memmem::find(&start, b"<table").is_some()
}

/// The tables of a page. A table inside a cell is part of that cell's text.
pub fn tables(text: &str) -> Vec<(String, Grid)> {
    let mut reader = PageReader::default();
    for Ok(token) in Tokenizer::new(text) {
        match token {
            Token::StartTag(tag) => {
                let number = |name: &[u8]| {
                    let value = tag.attributes.get(name)?;
                    String::from_utf8_lossy(value).trim().parse::<usize>().ok()
                };
                let spans = (number(b"colspan").unwrap_or(1), number(b"rowspan").unwrap_or(1));
                reader.start(&tag.name, spans);
            }
            Token::EndTag(tag) => reader.end(&tag.name),
            Token::String(text) => reader.text(&String::from_utf8_lossy(&text)),
            _ => {}
        }
    }
    reader.end(b"table");
    reader.tables.into_iter().enumerate().map(|(at, grid)| (format!("table {}", at + 1), grid)).collect()
}

#[derive(Default)]
struct PageReader {
    tables: Vec<Grid>,
    depth: usize,
    grid: Grid,
    /// Per column, for how many more rows a cell from above stands there, and its text.
    hanging: Vec<(usize, String)>,
    row: Option<Vec<String>>,
    cell: Option<(String, usize, usize)>,
    /// Inside an element whose text is not shown.
    unseen: usize,
}

impl PageReader {
    fn start(&mut self, name: &[u8], (columns, rows): (usize, usize)) {
        match name {
            b"script" | b"style" | b"title" => self.unseen += 1,
            b"table" => self.depth += 1,
            _ if self.depth != 1 => {}
            b"tr" => {
                self.close_row();
                self.row = Some(Vec::new());
            }
            b"td" | b"th" => {
                self.close_cell();
                if self.row.is_none() {
                    self.row = Some(Vec::new());
                }
                self.cell = Some((String::new(), columns.clamp(1, WIDEST), rows.clamp(1, 65_535)));
            }
            b"br" | b"p" | b"div" => self.text(" "),
            _ => {}
        }
    }

    fn end(&mut self, name: &[u8]) {
        match name {
            b"script" | b"style" | b"title" => self.unseen = self.unseen.saturating_sub(1),
            b"table" => {
                self.depth = self.depth.saturating_sub(1);
                if self.depth == 0 {
                    self.close_row();
                    self.hanging.clear();
                    let grid = std::mem::take(&mut self.grid);
                    if !grid.is_empty() && self.tables.len() < MOST_TABLES {
                        self.tables.push(grid);
                    }
                }
            }
            _ if self.depth != 1 => {}
            b"td" | b"th" => self.close_cell(),
            b"tr" => self.close_row(),
            _ => {}
        }
    }

    fn text(&mut self, text: &str) {
        if self.unseen == 0
            && let Some((cell, ..)) = &mut self.cell
        {
            cell.push_str(text);
        }
    }

    /// Puts the texts in that hang down from above.
    fn fill(&mut self) {
        let Some(row) = &mut self.row else { return };
        while let Some((left, text)) = self.hanging.get_mut(row.len()).filter(|(left, _)| *left > 0) {
            *left -= 1;
            row.push(text.clone());
        }
    }

    fn close_cell(&mut self) {
        let Some((text, columns, rows)) = self.cell.take() else { return };
        self.fill();
        let Some(row) = &mut self.row else { return };
        let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
        for at in 0..columns {
            let place = row.len();
            // A cell that stretches over columns shows its text once.
            let shown = if at == 0 { text.clone() } else { String::new() };
            if rows > 1 {
                self.hanging.resize(self.hanging.len().max(place + 1), (0, String::new()));
                self.hanging[place] = (rows - 1, shown.clone());
            }
            row.push(shown);
        }
    }

    fn close_row(&mut self) {
        self.close_cell();
        self.fill();
        if let Some(row) = self.row.take() {
            self.grid.push(row);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_stretch_and_hang_and_keep_their_text_together() {
        let page = "<html><style>td{}</style><table><tr><th colspan=2>Cargo</th><th>Berth</th></tr>\
            <tr><td rowspan=2>Cod &amp; ling</td><td>1<br>ton</td><td>N1<tr><td>2</td><td>N2</td></table>";
        let grid = vec![
            vec!["Cargo", "", "Berth"],
            vec!["Cod & ling", "1 ton", "N1"],
            vec!["Cod & ling", "2", "N2"],
        ];
        let found = tables(page);
        assert_eq!(found[0].0, "table 1");
        assert_eq!(found[0].1, grid);
    }
}
