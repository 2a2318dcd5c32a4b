//! The pattern that file names share, and the days they name.

use hypodoke_core::partition::named_value;
use hypodoke_core::spelling::temporal;

/// A piece of a name: letters and marks, or a run of digits.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    Words(String),
    Figures(String),
}

/// A date in a name: how it is written, and which pieces it takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Dated {
    at: usize,
    pieces: usize,
    format: &'static str,
}

/// A name with its runs of digits taken for one and the same: files alike in it may be of
/// one kind.
pub fn stem(path: &str) -> String {
    let folder = |folder: &str| match named_value(folder) {
        Some((name, _)) => format!("{name}=#"),
        None => folder.to_owned(),
    };
    let path = path.split('/').map(folder).collect::<Vec<_>>().join("/");
    pieces(&path)
        .iter()
        .map(|piece| match piece {
            Piece::Words(words) => words.as_str(),
            Piece::Figures(_) => "#",
        })
        .collect()
}

fn pieces(path: &str) -> Vec<Piece> {
    let mut found: Vec<Piece> = Vec::new();
    for c in path.chars() {
        match (found.last_mut(), c.is_ascii_digit()) {
            (Some(Piece::Figures(text)), true) | (Some(Piece::Words(text)), false) => text.push(c),
            (_, true) => found.push(Piece::Figures(c.to_string())),
            (_, false) => found.push(Piece::Words(c.to_string())),
        }
    }
    found
}

/// Finds a date in a name: `20260302`, `2026-03-02`, `02.03.2026` or `260302`.
fn dated(pieces: &[Piece]) -> Option<(Dated, i32)> {
    let figures = |at: usize| match pieces.get(at) {
        Some(Piece::Figures(text)) => Some(text.as_str()),
        _ => None,
    };
    let mark = |at: usize| match pieces.get(at) {
        Some(Piece::Words(text)) if matches!(text.as_str(), "-" | "_" | ".") => Some(text.as_str()),
        _ => None,
    };
    for at in 0..pieces.len() {
        let Some(first) = figures(at) else { continue };
        let parse = |text: &str| text.parse::<u32>().ok();
        if first.len() == 8
            && let Some(days) = days(parse(&first[..4]), parse(&first[4..6]), parse(&first[6..]))
        {
            return Some((Dated { at, pieces: 1, format: "%Y%m%d" }, days));
        }
        if let (Some(a), Some(second), Some(b), Some(third)) =
            (mark(at + 1), figures(at + 2), mark(at + 3), figures(at + 4))
            && a == b
        {
            let format = match (first.len(), second.len(), third.len(), a) {
                (4, 2, 2, "-") => "%Y-%m-%d",
                (4, 2, 2, "_") => "%Y_%m_%d",
                (4, 2, 2, ".") => "%Y.%m.%d",
                (2, 2, 4, "-") => "%d-%m-%Y",
                (2, 2, 4, ".") => "%d.%m.%Y",
                (2, 2, 4, "_") => "%d_%m_%Y",
                _ => continue,
            };
            let (year, day) = if first.len() == 4 { (first, third) } else { (third, first) };
            if let Some(days) = days(parse(year), parse(second), parse(day)) {
                return Some((Dated { at, pieces: 5, format }, days));
            }
        }
        if first.len() == 6
            && let Some(days) =
                days(parse(&first[..2]).map(|y| y + 2000), parse(&first[2..4]), parse(&first[4..]))
        {
            return Some((Dated { at, pieces: 1, format: "%y%m%d" }, days));
        }
    }
    None
}

fn days(year: Option<u32>, month: Option<u32>, day: Option<u32>) -> Option<i32> {
    let year = year.filter(|year| (1950..2100).contains(year))?;
    temporal::days(year as i32, month?, day?)
}

/// The day that a name holds, in days since 1970.
pub fn day(path: &str) -> Option<i32> {
    dated(&pieces(path)).map(|(_, days)| days)
}

/// A pattern that fits all names: dates become a named part, other figures a star; of folders that are named
/// after a value, the value.
pub fn shared(paths: &[&str]) -> String {
    if let Some(pattern) = partitioned(paths) {
        return pattern;
    }
    let split: Vec<Vec<Piece>> = paths.iter().map(|path| pieces(path)).collect();
    let Some(first) = split.first() else { return "*".to_owned() };
    if split.len() == 1 {
        return with_date(first, &|at| escaped(&first[at])).unwrap_or_else(|| escape(paths[0]));
    }
    let alike = split
        .iter()
        .all(|one| one.len() == first.len() && one.iter().zip(first).all(|(a, b)| same_shape(a, b)));
    if !alike {
        return dated_ends(&split).unwrap_or_else(|| by_ends(paths));
    }
    let part = |at: usize| {
        let fixed = split.iter().all(|one| one[at] == first[at]);
        if fixed { escaped(&first[at]) } else { "*".to_owned() }
    };
    let same_date =
        |date: &Dated| split.iter().all(|one| dated(one).is_some_and(|(other, _)| other == *date));
    match dated(first) {
        Some((date, _)) if same_date(&date) => with_date(first, &part).unwrap_or_default(),
        _ => (0..first.len()).map(part).collect(),
    }
}

/// The pattern of names in folders of which each is named after a value, `country=NO/day=2026-03-04`;
/// `None` where the folders are not of that kind in all names.
fn partitioned(paths: &[&str]) -> Option<String> {
    let split: Vec<Vec<&str>> = paths.iter().map(|path| path.split('/').collect()).collect();
    let depth = split.first()?.len();
    if split.iter().any(|parts| parts.len() != depth) {
        return None;
    }
    let at = |at: usize| -> Vec<&str> { split.iter().filter_map(|parts| parts.get(at).copied()).collect() };
    let folders: Vec<Option<String>> = (0..depth - 1).map(|level| partition(&at(level))).collect();
    let names: Vec<&String> = folders.iter().flatten().collect();
    let is_twice = |name: &&String| names.iter().filter(|other| other == &name).count() > 1;
    if names.is_empty() || names.iter().any(is_twice) {
        return None;
    }
    let mut has_day = names.iter().any(|name| name.starts_with("day="));
    let part = |level: usize| {
        let pattern = folders.get(level).cloned().flatten().unwrap_or_else(|| shared(&at(level)));
        // A column has one name: of days besides the first, only that they differ is said.
        let is_named = pattern.contains("{day:") && !pattern.starts_with("day=");
        match is_named && std::mem::replace(&mut has_day, true) {
            true => without_day(&pattern),
            false => pattern,
        }
    };
    Some((0..depth).map(part).collect::<Vec<_>>().join("/"))
}

/// What stands for folders of one name and several values.
fn partition(folders: &[&str]) -> Option<String> {
    let (name, _) = named_value(folders.first()?)?;
    let values: Vec<&str> = folders
        .iter()
        .map(|folder| named_value(folder).filter(|(other, _)| *other == name).map(|(_, value)| value))
        .collect::<Option<_>>()?;
    let split: Vec<Vec<Piece>> = values.iter().map(|value| pieces(value)).collect();
    let whole = |one: &Vec<Piece>| dated(one).filter(|(date, _)| date.pieces == one.len());
    let format = split.first().and_then(&whole).map(|(date, _)| date.format);
    let is_date = split.iter().all(|one| whole(one).map(|(date, _)| date.format) == format);
    Some(match format.filter(|_| is_date) {
        Some(format) => format!("{name}={{{name}:{format}}}"),
        None => format!("{name}={{{name}}}"),
    })
}

fn without_day(pattern: &str) -> String {
    match (pattern.find("{day:"), pattern.find('}')) {
        (Some(from), Some(to)) if from < to => format!("{}*{}", &pattern[..from], &pattern[to + 1..]),
        _ => pattern.to_owned(),
    }
}

fn same_shape(a: &Piece, b: &Piece) -> bool {
    match (a, b) {
        (Piece::Words(a), Piece::Words(b)) => a == b,
        (Piece::Figures(_), Piece::Figures(_)) => true,
        _ => false,
    }
}

fn with_date(pieces: &[Piece], part: &dyn Fn(usize) -> String) -> Option<String> {
    let (date, _) = dated(pieces)?;
    let mut out = String::new();
    let mut at = 0;
    while at < pieces.len() {
        if at == date.at {
            out.push_str(&format!("{{day:{}}}", date.format));
            at += date.pieces;
        } else {
            out.push_str(&part(at));
            at += 1;
        }
    }
    Some(out)
}

/// Names that agree up to a date and then go their own ways: `m_{day:%Y%m%d}*.csv`.
fn dated_ends(split: &[Vec<Piece>]) -> Option<String> {
    let (date, _) = dated(&split[0])?;
    let same = |one: &Vec<Piece>| {
        dated(one).is_some_and(|(other, _)| other == date) && one[..date.at] == split[0][..date.at]
    };
    if !split.iter().all(same) {
        return None;
    }
    let rest = |one: &Vec<Piece>| -> String {
        one[date.at + date.pieces..]
            .iter()
            .map(|piece| match piece {
                Piece::Words(text) | Piece::Figures(text) => text.as_str(),
            })
            .collect()
    };
    let rests: Vec<String> = split.iter().map(rest).collect();
    let head: String = split[0][..date.at].iter().map(escaped).collect();
    let tail = by_ends(&rests.iter().map(String::as_str).collect::<Vec<_>>());
    Some(format!("{head}{{day:{}}}{tail}", date.format))
}

/// What the names have in common at both ends.
fn by_ends(paths: &[&str]) -> String {
    let folder = |path: &str| path.rfind('/').map_or(0, |at| at + 1);
    let first = paths[0];
    let mut head = first.len();
    let mut tail = first.len();
    for path in paths {
        head = head.min(first.bytes().zip(path.bytes()).take_while(|(a, b)| a == b).count());
        tail = tail.min(first.bytes().rev().zip(path.bytes().rev()).take_while(|(a, b)| a == b).count());
    }
    while !first.is_char_boundary(head) {
        head -= 1;
    }
    tail = tail.min(first.len() - head);
    while !first.is_char_boundary(first.len() - tail) {
        tail -= 1;
    }
    let shortest = paths.iter().map(|path| path.len()).min().unwrap_or_default();
    let tail = tail.min(shortest.saturating_sub(head));
    let same_folder = paths.iter().all(|path| path[..folder(path)] == first[..folder(first)]);
    let star = if same_folder { "*" } else { "**" };
    format!("{}{star}{}", escape(&first[..head]), escape(&first[first.len() - tail..]))
}

fn escaped(piece: &Piece) -> String {
    match piece {
        Piece::Words(text) | Piece::Figures(text) => escape(text),
    }
}

/// Characters that mean something in a pattern stand for any one character.
fn escape(text: &str) -> String {
    text.chars().map(|c| if matches!(c, '*' | '?' | '[' | ']' | '{' | '}') { '?' } else { c }).collect()
}

#[cfg(test)]
mod tests {
    use hypodoke_core::pattern::Pattern;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(&["m_20260302.csv", "m_20260303.csv"], "m_{day:%Y%m%d}.csv")]
    #[case(&["b_2026-03-02.csv", "b_2026-03-03.csv"], "b_{day:%Y-%m-%d}.csv")]
    #[case(&["E260302.tsv", "E260303.tsv"], "E{day:%y%m%d}.tsv")]
    #[case(&["r_1.csv", "r_12.csv"], "r_*.csv")]
    #[case(&["a/x.csv", "a/y.csv"], "a/*.csv")]
    #[case(&["a/x.csv", "b/x.csv"], "**/x.csv")]
    #[case(&["m_20260302_1.csv", "m_20260303_2.csv"], "m_{day:%Y%m%d}_*.csv")]
    #[case(&["only.csv"], "only.csv")]
    #[case(&["m_20260302.csv", "m_20260303_again.csv"], "m_{day:%Y%m%d}*.csv")]
    #[case(&["a[1].csv"], "a?1?.csv")]
    #[case(&["c=NO/day=2026-03-04/p-0.csv", "c=SE/day=2026-03-05/p-1.csv"], "c={c}/day={day:%Y-%m-%d}/p-*.csv")]
    #[case(&["x/y=2026/p_20260304.csv", "x/y=2025/p_20260305.csv"], "x/y={y}/p_{day:%Y%m%d}.csv")]
    #[case(&["day=20260304/p_20260304.csv", "day=20260305/p_20260305.csv"], "day={day:%Y%m%d}/p_*.csv")]
    #[case(&["c=NO/p.csv"], "c={c}/p.csv")]
    fn names_share_a_pattern_that_fits_them_all(#[case] names: &[&str], #[case] pattern: &str) {
        assert_eq!(shared(names), pattern);
        let parsed = Pattern::parse(pattern).unwrap();
        assert!(names.iter().all(|name| parsed.matches(name).is_some()));
    }
}
