//! A tally on the terminal.

use hypodoke_core::count;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::maintain::{Agreement, TallyLine};

use super::grid::{Grid, plain};
use super::paths::shown;
use super::{Screen, Tone};
use crate::wording::quoted;

/// One line per file, what differs below, and a summary.
pub fn text(lines: &[TallyLine], in_tables: u64, screen: Screen) -> String {
    if lines.is_empty() {
        return "there are no files whose rows are in a table\n".to_owned();
    }
    let headings =
        ["file", "table", ">in file", ">loaded", ">rejected", ">left out", ">in table", "sums", "verdict"];
    let mut grid = Grid::new(screen, &headings);
    for line in lines {
        let figure = |value: Option<u64>| plain(value.map_or("·".to_owned(), count::number));
        let (word, tone) = match line.verdict {
            Agreement::Agrees => ("agrees", Tone::Good),
            Agreement::Explained => ("explained", Tone::Faint),
            Agreement::Differs => ("differs", Tone::Bad),
        };
        let same = line.sums.iter().filter(|sum| sum.same).count();
        let sums =
            if line.sums.is_empty() { "·".to_owned() } else { format!("{same} of {}", line.sums.len()) };
        grid.push(vec![
            plain(shown(&line.path)),
            plain(line.table.clone()),
            figure(line.in_file),
            figure(Some(line.loaded)),
            figure(Some(line.rejected)),
            figure(Some(line.left_out)),
            figure(line.in_table),
            plain(sums),
            (word.to_owned(), tone),
        ]);
    }
    let mut out = grid.text();
    out.push('\n');
    out.push_str(&remarks(lines, screen));
    out.push_str(&advice(lines));
    let differing = lines.iter().filter(|line| line.verdict == Agreement::Differs).count() as u64;
    let rows = lines.iter().map(|line| line.loaded).sum();
    let files = count::files(lines.len() as u64);
    let figures =
        format!("{files}: {} loaded, {} in the tables", count::rows(rows), count::number(in_tables));
    let summary = match differing {
        0 => screen.paint(Tone::Good, &format!("{figures}; all figures agree or are explained")),
        1 => screen.paint(Tone::Bad, &format!("{figures}; 1 file differs")),
        some => screen.paint(Tone::Bad, &format!("{figures}; {} differ", count::files(some))),
    };
    out + &format!("{summary}\n")
}

/// The commands that make tables what their files say.
fn advice(lines: &[TallyLine]) -> String {
    let mut tables: Vec<(&str, bool, bool)> = Vec::new();
    for line in lines.iter().filter(|line| line.rows_missing || line.rows_changed || line.rows_stale) {
        match tables.iter_mut().find(|(table, ..)| *table == line.table) {
            Some((_, is_changed, is_stale)) => {
                *is_changed |= line.rows_changed;
                *is_stale |= line.rows_stale;
            }
            None => tables.push((&line.table, line.rows_changed, line.rows_stale)),
        }
    }
    let mut out = String::new();
    for (table, is_changed, is_stale) in tables {
        let command = format!("hypodoke replay {}", quoted(table));
        let stale =
            if is_stale { ", and deletes those of files that were replaced or retracted" } else { "" };
        let also = if is_changed { "" } else { stale };
        out.push_str(&format!("  → {command} puts back rows that are missing{also}\n"));
        if is_changed {
            out.push_str(&format!(
                "  → {command} --overwrite also replaces rows that somebody else has changed{stale}\n"
            ));
        }
    }
    out
}

/// What is said of the files; what is said of many of them is said once.
fn remarks(lines: &[TallyLine], screen: Screen) -> String {
    let mut out = String::new();
    let mut said: Vec<(&str, Tone, Vec<&TallyLine>)> = Vec::new();
    for line in lines {
        let tone = if line.verdict == Agreement::Differs { Tone::Bad } else { Tone::Faint };
        for remark in &line.remarks {
            match said.iter_mut().find(|(known, known_tone, _)| known == remark && *known_tone == tone) {
                Some((.., files)) => files.push(line),
                None => said.push((remark, tone, vec![line])),
            }
        }
    }
    for (remark, tone, files) in said {
        let who = match &files[..] {
            [one] => shown(&one.path),
            [first, ..] => format!("{} and {} more", shown(&first.path), files.len() - 1),
            [] => continue,
        };
        out.push_str(&format!("{who}: {}\n", screen.paint(tone, &clean(remark))));
    }
    out
}
