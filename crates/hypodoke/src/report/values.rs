//! What the columns of a feed's files hold, file by file: small multiples on one scale of files.

use std::collections::BTreeMap;

use hypodoke_core::figures::{ColumnSummary, FileFigures, figure, percent, unusual};
use hypodoke_core::sanitize::clean;
use maud::{Markup, html};

use super::gather::FeedReport;

/// The most columns that are drawn, and the most files.
const MOST_COLUMNS: usize = 24;
const MOST_FILES: usize = 40;

/// The size of one drawing.
const WIDTH: f64 = 150.0;
const HEIGHT: f64 = 34.0;

/// One figure of a column over the files, the oldest first; nothing where a file has none.
struct Series {
    what: &'static str,
    values: Vec<Option<f64>>,
    is_share: bool,
}

/// The columns of a feed, each with how it went; nothing where figures were not taken.
pub fn section(feed: &FeedReport) -> Markup {
    let files = figures(feed);
    let table = feed.files.first().and_then(|entry| entry.table.as_deref()).unwrap_or_default();
    let columns = columns(&files, table);
    html! {
        @if files.len() > 2 && !columns.is_empty() {
            details id=(format!("values-{}", feed.anchor())) {
                summary { "What its columns hold, over the last " (files.len()) " files" }
                div.multiples {
                    @for (name, summaries) in columns.iter().take(MOST_COLUMNS) {
                        (multiple(name, summaries))
                    }
                }
                @if columns.len() > MOST_COLUMNS {
                    p.faint { "and " (columns.len() - MOST_COLUMNS) " more columns" }
                }
            }
        }
    }
}

/// The figures of the newest files that are in the tables, the oldest first.
fn figures(feed: &FeedReport) -> Vec<FileFigures> {
    let newest = feed.loaded().filter_map(|entry| entry.figures.as_deref()).take(MOST_FILES);
    let mut figures: Vec<FileFigures> = newest.filter_map(|text| serde_json::from_str(text).ok()).collect();
    figures.reverse();
    figures
}

/// For each column of the main table its figures, file by file.
fn columns(files: &[FileFigures], table: &str) -> BTreeMap<String, Vec<Option<ColumnSummary>>> {
    let mut columns: BTreeMap<String, Vec<Option<ColumnSummary>>> = BTreeMap::new();
    for (at, file) in files.iter().enumerate() {
        for (name, summary) in file.tables.get(table).into_iter().flatten() {
            let column = columns.entry(name.clone()).or_insert_with(|| vec![None; files.len()]);
            if let Some(slot) = column.get_mut(at) {
                *slot = Some(summary.clone());
            }
        }
    }
    columns
}

/// What is worth drawing of a column: its mean, else the lengths of its texts; its nulls where it has some.
fn series(summaries: &[Option<ColumnSummary>]) -> Vec<Series> {
    let of = |value: &dyn Fn(&ColumnSummary) -> Option<f64>| -> Vec<Option<f64>> {
        summaries.iter().map(|one| one.as_ref().and_then(value)).collect()
    };
    let means = of(&|one| one.mean);
    let lengths = of(&|one| one.length.map(|length| length.mean));
    let nulls = of(&|one| Some(one.null_share()));
    let mut all = Vec::new();
    if means.iter().any(Option::is_some) {
        all.push(Series { what: "mean", values: means, is_share: false });
    } else if lengths.iter().any(Option::is_some) {
        all.push(Series { what: "length", values: lengths, is_share: false });
    }
    if nulls.iter().flatten().any(|share| *share > 0.0) || all.is_empty() {
        all.push(Series { what: "null", values: nulls, is_share: true });
    }
    all
}

fn multiple(name: &str, summaries: &[Option<ColumnSummary>]) -> Markup {
    let known: Vec<&ColumnSummary> = summaries.iter().flatten().collect();
    let odd = known.split_last().map(|(now, before)| {
        let before: Vec<&ColumnSummary> = before.iter().rev().copied().collect();
        unusual(name, now, before.iter().copied())
    });
    let odd = odd.unwrap_or_default();
    html! {
        div class=(if odd.is_empty() { "multiple" } else { "multiple odd" }) {
            b { (clean(name)) }
            @for series in series(summaries) { (drawing(&series)) }
            @for one in &odd { p.warning { (clean(&one.to_string())) } }
        }
    }
}

/// A line over the files, from 0 where it is a share, with the last value beside it.
fn drawing(series: &Series) -> Markup {
    let values: Vec<f64> = series.values.iter().flatten().copied().collect();
    let least = if series.is_share { 0.0 } else { values.iter().copied().fold(f64::INFINITY, f64::min) };
    let most = if series.is_share { 1.0 } else { values.iter().copied().fold(f64::NEG_INFINITY, f64::max) };
    let height = (most - least).max(f64::MIN_POSITIVE);
    let step = WIDTH / (series.values.len().max(2) - 1) as f64;
    let place = |(at, value): (usize, &Option<f64>)| {
        let y = if most > least { 1.0 - ((*value)? - least) / height } else { 0.5 };
        Some((at as f64 * step, 3.0 + y * (HEIGHT - 6.0)))
    };
    let places: Vec<(f64, f64)> = series.values.iter().enumerate().filter_map(place).collect();
    let line: Vec<String> = places.iter().map(|(x, y)| format!("{x:.1},{y:.1}")).collect();
    let now = series.values.iter().rev().flatten().next().copied().unwrap_or_default();
    let shown = |value: f64| if series.is_share { percent(value) } else { figure(value) };
    let title = format!("{}: {} to {}, now {}", series.what, shown(least), shown(most), shown(now));
    html! {
        div.line {
            svg viewBox=(format!("-4 0 {} {HEIGHT}", WIDTH + 8.0)) role="img" aria-label=(title) {
                title { (title) }
                polyline points=(line.join(" ")) fill="none" stroke="#2F6F9F" stroke-width="1.5" {}
                @if let Some((x, y)) = places.last() {
                    circle cx=(format!("{x:.1}")) cy=(format!("{y:.1}")) r="2.6" fill="#2F6F9F" {}
                }
            }
            span.faint { (series.what) " " (shown(now)) }
        }
    }
}
