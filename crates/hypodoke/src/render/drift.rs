//! Drift on the terminal: a timeline for each table, or two layouts side by side.

use hypodoke_core::count;
use hypodoke_core::drift::{Action, Difference};
use hypodoke_core::sanitize::clean;
use hypodoke_engine::inspect::{History, ToldChange};

use super::grid::{Grid, plain};
use super::paths::shown;
use super::{Screen, Tone, moment};

/// The history of tables.
pub fn timeline(histories: &[History], screen: Screen) -> String {
    let mut out = String::new();
    for history in histories {
        let feed = match &history.feed {
            Some(feed) if *feed != history.table => format!(" (feed {feed})"),
            _ => String::new(),
        };
        let versions = count::of(history.versions.len() as u64, "version", "versions");
        let columns = history.versions.last().map_or(0, |version| version.columns);
        let columns = count::of(columns as u64, "column", "columns");
        let heading = format!("{}{feed}: {versions} of its layout, {columns}", history.table);
        out.push_str(&format!("{}\n", screen.paint(Tone::Heading, &heading)));
        let when = moment::heading();
        let mut grid =
            Grid::new(screen, &[when.as_str(), "version", "file", "what changed", "what was done"]);
        if let Some(first) = history.versions.first() {
            grid.push(vec![
                plain(minute(&first.at)),
                plain(first.version.to_string()),
                plain(shown(&first.path)),
                (
                    format!("first seen, with {}", count::of(first.columns as u64, "column", "columns")),
                    Tone::Faint,
                ),
                plain(""),
            ]);
        }
        let mut rest = &history.changes[..];
        while let Some(first) = rest.first() {
            // What one file does to many columns alike is one line.
            let alike = |other: &&ToldChange| {
                other.path == first.path
                    && other.at == first.at
                    && other.change == first.change
                    && other.action == first.action
                    && other.files == first.files
                    && matches!(first.change.as_str(), "respelled" | "missing" | "added")
            };
            let many = rest.iter().take_while(alike).count().max(1);
            grid.push(line(&rest[..many]));
            rest = &rest[many..];
        }
        grid.keep(0);
        out.push_str(&grid.text());
        out.push_str("\n\n");
    }
    if histories.is_empty() {
        out.push_str("the ledger holds no files yet\n");
    }
    out.trim_end().to_owned() + "\n"
}

/// The minute by the clock of this machine.
fn minute(at: &str) -> String {
    match at.parse::<jiff::Timestamp>() {
        Ok(moment) => moment::minute(moment.as_microsecond()),
        Err(_) => clean(at),
    }
}

fn line(changes: &[ToldChange]) -> Vec<super::grid::Piece> {
    let change = &changes[0];
    let and_more = match changes.len() {
        1 => String::new(),
        many => format!(", and {} more", many - 1),
    };
    let action = Action::from_word(&change.action).unwrap_or_default();
    let tone = match action {
        Action::Held => Tone::Bad,
        Action::Noted => Tone::Faint,
        _ => Tone::Warning,
    };
    let more = match change.files {
        1 => String::new(),
        files => format!(", in {}", count::files(files)),
    };
    vec![
        plain(minute(&change.at)),
        plain(change.version.map(|version| version.to_string()).unwrap_or_default()),
        plain(shown(&change.path)),
        plain(format!("{}{and_more}", clean(&words(change)))),
        (format!("{}{more}", done(action)), tone),
    ]
}

fn done(action: Action) -> &'static str {
    match action {
        Action::Noted => "noted",
        other => other.words(),
    }
}

/// What was done about a change, in words.
pub fn done_in_words(change: &ToldChange) -> &'static str {
    done(Action::from_word(&change.action).unwrap_or_default())
}

/// A change as the ledger keeps it, in words, with the value that forced it.
pub fn words(change: &ToldChange) -> String {
    let words = change_words(&change.change, &change.column, change.from.as_deref(), change.to.as_deref());
    match &change.cause {
        Some(cause) => format!("{words}, {}", cause.words()),
        None => words,
    }
}

/// What changed, of its parts as the ledger keeps them.
pub fn change_words(change: &str, column: &str, from: Option<&str>, to: Option<&str>) -> String {
    let (from, to) = (from.unwrap_or("-"), to.unwrap_or("-"));
    match change {
        "added" => format!("new column `{column}` ({to})"),
        "widened" if from == "unknown" => format!("`{column}` was empty until now and holds {to}"),
        "widened" => format!("`{column}` needs {to} instead of {from}"),
        "other_kind" => format!("`{column}` has values that are not {from}"),
        "unusual" => to.to_owned(),
        "missing_sheet" => format!("the sheet `{column}` is missing"),
        "missing" => format!("`{column}` is missing"),
        "renamed" => format!("`{column}` is called `{to}`, until now `{from}`"),
        "respelled" => format!("`{from}` is written `{to}`"),
        "format" => format!("values of `{column}` are written {to}, until now {from}"),
        "misread" => {
            format!("values of `{column}` are {to}; until now none told, and they were read as {from}")
        }
        "reordered" => format!("columns stand in another order, from `{column}` on"),
        "written" => format!("its {column} is {to}, until now {from}"),
        "part" => format!("`{column}` is new, for the table `{to}`"),
        other => format!("`{column}`: {other}"),
    }
}

/// Two layouts side by side.
pub fn between(names: (&str, &str), columns: &[Difference], written: &[String], screen: Screen) -> String {
    let mut grid = Grid::new(screen, &["column", names.0, names.1, "what differs"]);
    for column in columns {
        let piece = |ty: &Option<String>| match ty {
            Some(ty) => plain(ty.clone()),
            None => ("·".to_owned(), Tone::Faint),
        };
        grid.push(vec![
            plain(clean(&column.column)),
            piece(&column.first),
            piece(&column.second),
            (clean(&column.what), Tone::Warning),
        ]);
    }
    let mut out = grid.text();
    out.push('\n');
    for what in written {
        out.push_str(&format!("{}\n", screen.paint(Tone::Warning, &clean(what))));
    }
    let differing = columns.iter().filter(|column| !column.what.is_empty()).count() as u64;
    let summary = match differing {
        0 => "no column differs".to_owned(),
        some => format!("{} of {} differ", count::of(some, "column", "columns"), columns.len()),
    };
    out + &format!("{}\n", screen.paint(Tone::Heading, &summary))
}
