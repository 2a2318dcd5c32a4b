//! Where the table stands in a text: what comes before it, whether it has a header, and over how
//! many lines.

use hypodoke_core::names::match_key;
use hypodoke_core::record::{Origin, Records};
use hypodoke_core::spelling::{Class, Family, Recognised, recognise, trim};

use super::detect::usual_width;
use crate::error::ReadError;

/// The most records that are looked at for the table's beginning.
const LOOKED_AT: usize = 200;

/// Where a table begins.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TableStart {
    /// Records before the header.
    pub preamble: usize,
    /// Records of the header: 0 where there is none.
    pub header: usize,
    /// Records beneath it that are no rows: remarks over columns of figures.
    pub remarks: usize,
    /// How many fields the table's records have.
    pub width: usize,
    /// The names of the columns, as the header has them; blank where it says nothing.
    pub names: Vec<String>,
    /// Every record ends in a delimiter that begins no field.
    pub trailing_delimiter: bool,
    /// Many records end early: the fields they lack are null.
    pub short_rows: bool,
}

/// What the user says of the table; the rest is found.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TableOptions {
    /// How many lines the header has; 0 is none.
    pub header_lines: Option<usize>,
    /// How many lines to skip before it.
    pub skip_lines: Option<u64>,
    /// Whether records that end early are filled up with nulls, or are rejects.
    pub short_rows: Option<bool>,
    /// The names of the columns, where they are not taken from the file. Nothing is taken for a header then
    /// but a row of just these names, unless `header_lines` says so.
    pub names: Option<Vec<String>>,
}

impl TableOptions {
    /// Holds the names that the user gives against the number of columns found.
    ///
    /// # Errors
    ///
    /// There is another number of them.
    pub fn check_names(&self, columns: usize, sheet: Option<&str>) -> Result<(), ReadError> {
        match &self.names {
            Some(names) if names.len() != columns => {
                Err(ReadError::OtherNames { named: names.len(), columns, sheet: sheet.map(str::to_owned) })
            }
            _ => Ok(()),
        }
    }
}

/// Finds the table in the first records of a text. Files before may have had so many columns; 0 where that
/// is not known.
pub fn find(records: &Records, options: &TableOptions, width_before: usize) -> TableStart {
    let count = records.len().min(LOOKED_AT);
    let skipped =
        options.skip_lines.map(|lines| (0..count).take_while(|at| records.line(*at) <= lines).count());
    let from = skipped.unwrap_or(0);
    let widths: Vec<usize> = (from..count).map(|at| records.fields(at).len()).collect();
    if widths.is_empty() {
        return TableStart { preamble: from, ..TableStart::default() };
    }
    let short_rows = options.short_rows.unwrap_or_else(|| rows_end_early(&widths));
    let width = if short_rows { widths.iter().copied().max().unwrap_or(1) } else { usual_width(&widths) };
    let mut view = View { records, count, width, trailing: false, short_rows };
    let first = |view: &View<'_>| skipped.unwrap_or_else(|| view.first_row(from));
    let mut start = first(&view);
    if view.ends_blank(start) {
        view.trailing = true;
        view.width -= 1;
        start = first(&view);
    }
    let header = match options.header_lines {
        Some(lines) => lines.min(count - start),
        None if options.names.is_some() => {
            usize::from(options.names.as_ref().is_some_and(|names| view.holds(start, names)))
        }
        None if skipped.is_some() => view.header_lines(start),
        None => {
            // Titles that a spreadsheet padded to the table's width fill few of its columns; but
            // only before a header are rows passed over for that.
            let full = view.full_row(start);
            let (first, lines) = match view.header(from, full) {
                (_, 0) => view.header(from, start),
                found => found,
            };
            let (first, lines) = view.deeper_header(first, lines).unwrap_or((first, lines));
            start = first;
            lines
        }
    };
    if header == 0 && view.trailing && view.width + 1 == width_before {
        // Without a header, and as wide as ever: the last column is empty, and no delimiter too many.
        view.trailing = false;
        view.width += 1;
    }
    if header == 1 && view.names_one_more(start) {
        // Its last column is missing in every row.
        view.width += 1;
        view.short_rows = true;
    }
    let names = options.names.clone().unwrap_or_else(|| view.names(start, header));
    let has_remark = header > 0 && options.header_lines.is_none() && view.is_remark(start + header);
    TableStart {
        preamble: start,
        header,
        remarks: usize::from(has_remark),
        width: view.width,
        names,
        trailing_delimiter: view.trailing,
        short_rows: view.short_rows,
    }
}

/// Whether records end early as a habit: a good part of many is shorter than the widest, which
/// are many too. One short record, or a few, is a record that was cut.
fn rows_end_early(widths: &[usize]) -> bool {
    let widest = widths.iter().copied().max().unwrap_or(0);
    let full = widths.iter().filter(|width| **width == widest).count();
    let short = widths.iter().filter(|width| **width < widest && **width * 2 >= widest).count();
    let others = widths.len() - full - short;
    widths.len() >= 20
        && widest > 2
        && short >= 5
        && short * 10 >= widths.len()
        && full * 10 >= widths.len()
        && others * 20 <= widths.len()
}

/// The records looked at, as rows of trimmed cells.
struct View<'a> {
    records: &'a Records,
    count: usize,
    width: usize,
    /// Rows end in a delimiter that begins no field.
    trailing: bool,
    /// Rows may end early.
    short_rows: bool,
}

impl View<'_> {
    fn cells(&self, row: usize) -> impl Iterator<Item = &[u8]> {
        self.records.fields(row).iter().map(|field| trim(self.records.value(*field)))
    }

    fn cell(&self, row: usize, column: usize) -> &[u8] {
        self.records.fields(row).get(column).map_or(&[][..], |field| trim(self.records.value(*field)))
    }

    fn filled(&self, row: usize) -> usize {
        self.cells(row).filter(|cell| !cell.is_empty()).count()
    }

    fn has_width(&self, row: usize) -> bool {
        let fields = self.records.fields(row).len();
        let fits = fields == self.width
            || self.trailing && fields == self.width + 1
            || self.short_rows && (2..self.width).contains(&fields);
        fits && self.records.fault(row).is_none()
    }

    /// The first record that is as wide as the table and filled about as well as its rows.
    fn first_row(&self, from: usize) -> usize {
        let mut fills: Vec<usize> =
            (from..self.count).filter(|at| self.has_width(*at)).map(|at| self.filled(at)).collect();
        fills.sort_unstable();
        let usual = fills.get(fills.len() / 2).copied().unwrap_or(1);
        let least = if self.width > 1 { (usual / 2).max(2).min(usual) } else { 1 };
        let start =
            (from..self.count).find(|at| self.has_width(*at) && self.filled(*at) >= least).unwrap_or(from);
        // A header one field short or long of its rows stands right before them.
        let near = |row: usize| {
            let fields = self.records.fields(row).len();
            fields > 1
                && fields.abs_diff(self.width) == 1
                && self.cells(row).all(|c| is_word(c) || c.is_empty())
        };
        if start > from && start == from + 1 && near(from) && !self.is_short_header(start) {
            from
        } else {
            start
        }
    }

    /// The first record from `start` on that is filled nearly as well as the rows usually are.
    fn full_row(&self, start: usize) -> usize {
        let mut fills: Vec<usize> =
            (start..self.count).filter(|at| self.has_width(*at)).map(|at| self.filled(at)).collect();
        fills.sort_unstable();
        let usual = fills.get(fills.len() / 2).copied().unwrap_or(0);
        let full = |at: &usize| self.has_width(*at) && self.filled(*at) * 4 >= usual * 3;
        if usual < 4 { start } else { (start..self.count.min(start + 30)).find(full).unwrap_or(start) }
    }

    /// Every row ends in an empty field, and so does the header or it is one field shorter.
    fn ends_blank(&self, start: usize) -> bool {
        if self.width < 2 {
            return false;
        }
        // Several blank columns at the end are columns.
        if self.width > 2 && (start..self.count).all(|row| self.cell(row, self.width - 2).is_empty()) {
            return false;
        }
        let blank = |row: usize| self.cell(row, self.width - 1).is_empty();
        let mut rows = (start..self.count).filter(|at| self.has_width(*at)).peekable();
        rows.peek().is_some() && rows.all(blank) && (start + 1 < self.count)
    }

    /// Names over all columns but the first, which holds the names of the rows.
    fn is_short_header(&self, start: usize) -> bool {
        let row = start.wrapping_sub(1);
        !self.short_rows
            && row < self.count
            && self.records.fields(row).len() + 1 == self.width
            && self.cells(row).all(is_word)
            && !self.cells(start).all(is_word)
    }

    /// Names that end in a delimiter which the rows do not.
    fn is_long_header(&self, row: usize) -> bool {
        let cells = self.records.fields(row).len();
        cells == self.width + 1
            && self.cell(row, self.width).is_empty()
            && self.cells(row).take(self.width).all(is_word)
    }

    /// One name more than every row has values.
    fn names_one_more(&self, row: usize) -> bool {
        !self.trailing
            && self.records.fields(row).len() == self.width + 1
            && is_word(self.cell(row, self.width))
            && (row + 1..self.count).all(|at| self.records.fields(at).len() <= self.width)
    }

    /// A row of names further down, from which on the columns keep their kinds: what was taken for the
    /// header is a note that fills several cells.
    fn deeper_header(&self, start: usize, lines: usize) -> Option<(usize, usize)> {
        let first = if self.are_notes(start) { start + 1 } else { start + lines };
        let full = self.full_row(first);
        let deeper = (first..self.count.min(first + 30))
            .find(|row| *row >= full && self.cells(*row).any(is_word) && self.starts_columns(start, *row))?;
        Some(match self.header(start, deeper) {
            (at, found) if found > 0 => (at, found),
            _ => (deeper, 1),
        })
    }

    /// Whether a row is filled better than those above it, down from another, and two or more columns are
    /// of one kind from it on that are not above.
    fn starts_columns(&self, from: usize, row: usize) -> bool {
        let filled = self.filled(row);
        let is_fuller = (from..row).all(|above| self.filled(above) < filled);
        let is_named = self.cells(row).all(|cell| cell.is_empty() || is_word(cell));
        if !is_fuller || !is_named || row + 2 >= self.count {
            return false;
        }
        let begins = |column: &usize| {
            let beneath = (row + 1..self.count).filter(|at| self.has_width(*at));
            let typed = typed_share(beneath.map(|at| self.cell(at, *column)));
            let above = (from..row).filter(|at| typed_share(std::iter::once(self.cell(*at, *column))) > 0.0);
            typed > 0.7 && !self.cell(row, *column).is_empty() && above.count() * 2 < row - from
        };
        (0..self.width).filter(begins).count() >= 2.min(self.width)
    }

    /// Whether the row is names though they are numbers: they are quoted and the values beneath are not,
    /// or they name columns as the first one names rows, or they follow one another.
    fn is_header_of_numbers(&self, row: usize, body: &[usize]) -> bool {
        let cells: Vec<&[u8]> = self.cells(row).collect();
        let numbers = cells.iter().filter(|cell| typed_share(std::iter::once(**cell)) > 0.0).count();
        if self.width < 2 || numbers < 2 || cells.iter().skip(1).any(|cell| cell.is_empty()) {
            return false;
        }
        let is_quoted = |at: usize, column: usize| {
            let field = self.records.fields(at).get(column);
            field.is_some_and(|field| field.origin() == Origin::Quoted)
        };
        let are_quoted =
            (0..self.width).all(|column| is_quoted(row, column) || self.cell(row, column).is_empty());
        let are_bare = body.iter().all(|at| (0..self.width).any(|column| !is_quoted(*at, column)));
        if are_quoted && are_bare && !body.is_empty() {
            return true;
        }
        // `,1,2,3` over rows that begin with 1, 2 and 3.
        let is_blank = cells.first().is_some_and(|cell| cell.is_empty());
        let firsts = body.iter().map(|at| self.cell(*at, 0));
        let are_of_rows = is_blank
            && body.len() + 1 >= self.width
            && cells.iter().skip(1).copied().eq(firsts.take(self.width - 1));
        let years = cells.iter().skip(1).filter(|cell| is_year(cell)).count();
        are_of_rows || is_blank && years + 1 == self.width && self.rises(row)
    }

    fn is_group_row(&self, row: usize) -> bool {
        let filled = self.filled(row);
        self.has_width(row)
            && filled >= 2
            && filled < self.width
            && self.cells(row).all(|c| c.is_empty() || is_word(c))
    }

    /// Whether a row and the one above it are filled from the left and stop short, as notes do.
    fn are_notes(&self, row: usize) -> bool {
        let is_note = |row: usize| {
            let filled = self.filled(row);
            filled > 0 && filled < self.width && self.cells(row).take(filled).all(|cell| !cell.is_empty())
        };
        is_note(row) && row.checked_sub(1).is_some_and(is_note)
    }

    /// Where the header begins and how many records it takes, group names above it and names
    /// that leave the first column out included.
    fn header(&self, from: usize, start: usize) -> (usize, usize) {
        if start + 1 < self.count && self.is_group_row(start) && !self.are_notes(start) {
            let inner = self.header_lines(start + 1);
            let names = self.cells(start + 1).all(|c| is_word(c) || c.is_empty());
            let figures = (0..self.width)
                .any(|column| typed_share((start + 2..self.count).map(|row| self.cell(row, column))) > 0.7);
            if inner > 0 && names && figures && self.filled(start + 1) > self.filled(start) {
                return (start, inner + 1);
            }
        }
        if start > from && (self.is_short_header(start) || self.is_long_header(start - 1)) {
            return (start - 1, 1);
        }
        match self.header_lines(start) {
            lines
                if lines > 0
                    && start > from
                    && self.is_group_row(start - 1)
                    && !self.are_notes(start - 1) =>
            {
                (start - 1, lines + 1)
            }
            lines => (start, lines),
        }
    }

    /// Whether a row holds just these names.
    fn holds(&self, row: usize, names: &[String]) -> bool {
        let mut cells = self.cells(row);
        let same = |name: &String| {
            cells.next().is_some_and(|cell| match_key(&String::from_utf8_lossy(cell)) == match_key(name))
        };
        self.width == names.len() && names.iter().all(same)
    }

    fn header_lines(&self, start: usize) -> usize {
        let body: Vec<usize> = (start + 1..self.count).filter(|at| self.has_width(*at)).collect();
        if self.is_header_of_numbers(start, &body) {
            return 1;
        }
        if !self.cells(start).any(is_word) {
            return 0;
        }
        if body.is_empty() {
            return usize::from(self.cells(start).all(|c| is_word(c) || c.is_empty()));
        }
        if self.header_score(start, &body) <= 0.0 {
            return 0;
        }
        let mut lines = 1;
        while lines < 4 && self.continues_header(start, lines, &body[lines - 1..]) {
            lines += 1;
        }
        lines
    }

    /// How much a row looks like names over the rows beneath it.
    fn header_score(&self, row: usize, body: &[usize]) -> f64 {
        let mut score = 0.0;
        let mut years = 0;
        for column in 0..self.width {
            let cell = self.cell(row, column);
            let values: Vec<&[u8]> =
                body.iter().map(|at| self.cell(*at, column)).filter(|v| !v.is_empty()).collect();
            years += usize::from(is_year(cell));
            score += column_score(cell, &values);
        }
        // `station,2024,2025,2026`: years over figures are names too.
        let words = self.cells(row).filter(|c| is_word(c)).count();
        if years > 2 && years + words == self.width && words > 0 && self.rises(row) {
            return 1.0;
        }
        let mut names: Vec<&[u8]> = self.cells(row).filter(|c| !c.is_empty()).collect();
        names.sort_unstable();
        let all = names.len();
        names.dedup();
        // No name over the names of the rows.
        let is_headless = self.width > 2
            && self.cells(row).enumerate().all(|(at, cell)| cell.is_empty() == (at == 0))
            && body.len() > 2
            && body.iter().all(|at| !self.cell(*at, 0).is_empty());
        score - (all - names.len()) as f64 * 0.3 + if is_headless { 2.0 } else { 0.0 }
    }

    /// The years of a row follow one another.
    fn rises(&self, row: usize) -> bool {
        let years: Vec<&[u8]> = self.cells(row).filter(|c| is_year(c)).collect();
        years.len() > 1 && years.windows(2).all(|pair| pair[0] < pair[1])
    }

    /// Whether the row `lines` under the header's first belongs to it: words or nothing over
    /// columns of figures. One that may as well be a row, since it has a word like those beneath it
    /// or only a single column of figures to tell by, is a row: a name too few does less harm
    /// than a row lost.
    fn continues_header(&self, start: usize, lines: usize, body: &[usize]) -> bool {
        let row = start + lines;
        if row >= self.count || !self.has_width(row) || body.len() < 3 || body[0] != row {
            return false;
        }
        let rest = &body[1..];
        let (mut over_figures, mut over_words) = (0, 0);
        for column in 0..self.width {
            let cell = self.cell(row, column);
            let values: Vec<&[u8]> = rest.iter().map(|at| self.cell(*at, column)).collect();
            let typed = typed_share(values.iter().copied());
            if !cell.is_empty() && !is_word(cell) {
                return false;
            }
            if cell.is_empty() || matches!(recognise(cell), Recognised::Null(_)) {
                continue;
            }
            if typed > 0.9 {
                over_figures += 1;
            } else if column_score(cell, &values) < 0.0 {
                return false;
            } else {
                over_words += 1;
            }
        }
        if over_words > 0 && over_figures < 2 || over_figures == 1 && !self.cells(row).all(is_unit) {
            return false;
        }
        let typed_columns = (0..self.width)
            .filter(|column| typed_share(rest.iter().map(|at| self.cell(*at, *column))) > 0.9)
            .count();
        over_figures > 0 && over_figures * 2 >= typed_columns
    }

    /// Whether a row right beneath the header is a remark: one cell of several words, or in brackets, over
    /// figures. A word alone may be a value that is wrong, and words in several cells a row.
    fn is_remark(&self, row: usize) -> bool {
        let body: Vec<usize> = (row + 1..self.count).filter(|at| self.has_width(*at)).collect();
        if row >= self.count || self.width < 2 || body.len() < 3 || !self.has_width(row) {
            return false;
        }
        let mut filled = (0..self.width).filter(|column| !self.cell(row, *column).is_empty());
        let (Some(column), None) = (filled.next(), filled.next()) else { return false };
        let cell = self.cell(row, column);
        let is_said = cell.contains(&b' ') || matches!(cell.first(), Some(b'(' | b'[' | b'*'));
        let typed = typed_share(body.iter().map(|at| self.cell(*at, column)));
        is_said && is_word(cell) && typed > 0.9
    }

    fn names(&self, start: usize, header: usize) -> Vec<String> {
        let mut names = vec![String::new(); self.width];
        for row in start..start + header {
            let shift = usize::from(self.records.fields(row).len() + 1 == self.width);
            let group = header > 1 && row == start && self.is_group_row(row);
            let mut carried = String::new();
            for (column, name) in names.iter_mut().enumerate() {
                let cell = if column < shift { &[][..] } else { self.cell(row, column - shift) };
                let mut text = String::from_utf8_lossy(cell).split_whitespace().collect::<Vec<_>>().join(" ");
                if group {
                    if text.is_empty() { text.clone_from(&carried) } else { carried.clone_from(&text) }
                }
                if !text.is_empty() {
                    if !name.is_empty() {
                        name.push(' ');
                    }
                    name.push_str(&text);
                }
            }
        }
        names
    }
}

fn column_score(cell: &[u8], values: &[&[u8]]) -> f64 {
    if cell.is_empty() || values.is_empty() {
        return 0.0;
    }
    let typed = typed_share(values.iter().copied());
    let truth =
        |value: &[u8]| recognise(value).class().is_some_and(|class| class.family() == Family::Boolean);
    if truth(cell) && values.iter().filter(|value| truth(value)).count() * 2 > values.len() {
        return -1.5;
    }
    if !is_word(cell) {
        return if typed > 0.5 { -1.5 } else { -0.5 };
    }
    if typed > 0.7 {
        return 1.0;
    }
    if values.contains(&cell) {
        return -0.6;
    }
    let shape = shape(cell);
    // Codes of one length: a name among them would stand out.
    let length = values[0].len();
    if values.len() >= 5
        && length <= 8
        && cell.len() == length
        && values.iter().all(|v| v.len() == length && self::shape(v) == shape)
    {
        return -0.8;
    }
    let alike = values.iter().filter(|value| self::shape(value) == shape).count() * 10 >= values.len() * 8;
    let coded = shape.contains(&b'9');
    match (alike, coded) {
        (true, true) => -0.8,
        (true, false) => 0.05,
        // Names hold a digit or two, values many.
        (false, true) if cell.iter().filter(|b| b.is_ascii_digit()).count() > 2 => -0.6,
        (false, true) => -0.1,
        (false, false) => 0.3,
    }
}

/// Nothing, or a word short enough for a unit.
fn is_unit(cell: &[u8]) -> bool {
    cell.len() <= 12 && !cell.contains(&b' ')
}

/// The form of a value: letters, digits and runs of them told apart.
fn shape(value: &[u8]) -> Vec<u8> {
    let kind = |b: &u8| match b {
        b'0'..=b'9' => b'9',
        b'A'..=b'Z' => b'A',
        b if b.is_ascii_lowercase() || !b.is_ascii() => b'a',
        b => *b,
    };
    let mut out: Vec<u8> = value.iter().map(kind).collect();
    out.dedup();
    out
}

fn typed_share<'a>(values: impl Iterator<Item = &'a [u8]>) -> f64 {
    let (mut typed, mut all) = (0, 0);
    for value in values {
        if let Some(class) = recognise(value).class() {
            all += 1;
            typed += usize::from(class.family() != Family::Text || class == Class::LeadingZero);
        }
    }
    if all == 0 { 0.0 } else { typed as f64 / all as f64 }
}

/// Text that could be a name: not a number, a date or any other value.
fn is_word(cell: &[u8]) -> bool {
    match recognise(cell).class() {
        // `no`, `on` and `n` are names of columns too.
        Some(class) => class == Class::Text || class.family() == Family::Boolean,
        None => cell.len() > 1,
    }
}

fn is_year(cell: &[u8]) -> bool {
    matches!(cell, [b'1', b'8' | b'9', _, _] | [b'2', b'0' | b'1', _, _])
        && cell.iter().all(u8::is_ascii_digit)
}

/// Names that stand in the last comment before the table, if it has one for each column.
pub fn names_in_comment(comment: &[u8], mark: u8, delimiter: char, width: usize) -> Option<Vec<String>> {
    let text = std::str::from_utf8(comment).ok()?.trim_end().trim_start_matches(mark as char).trim_start();
    let mut names: Vec<String> = text.split(delimiter).map(|name| name.trim().to_owned()).collect();
    if names.len() != width {
        // Tabs that line the names up begin no field.
        names.retain(|name| !name.is_empty());
    }
    (width > 1 && names.len() == width && names.iter().all(|name| is_word(name.as_bytes()))).then_some(names)
}
