//! The page itself.

use hypodoke_core::outcome::Outcome;
use hypodoke_stores::FileEntry;
use maud::{DOCTYPE, Markup, PreEscaped, html};

use super::gather::{FeedReport, Report};
use super::{charts, style, values};
use crate::render::{drift, moment};
use crate::wording::{quoted, reasons};
use hypodoke_core::count;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::maintain::RejectGroup;

/// The report as one page.
pub fn page(report: &Report) -> String {
    let made = moment::minute(report.now.as_microsecond());
    let markup = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { "Hypodoke · " (report.database) " · " (made) }
                style { (PreEscaped(style::SHEET)) }
            }
            body { main {
                h1 { "What came, and what became of it" }
                p.faint { (report.database) " · made " (made) " · the last " (report.days) " days" }
                (glance(report))
                (wants(report))
                (overview(report))
                @for feed in &report.feeds { (feed_section(report, feed)) }
                footer { "Made by hypodoke " (env!("CARGO_PKG_VERSION")) " from the ledger; times are those of this machine's clock, " (moment::zone()) "." }
            } }
        }
    };
    markup.into_string()
}

/// Today in some figures.
pub fn glance(report: &Report) -> Markup {
    let sum = |of: fn(&FileEntry) -> u64| -> u64 {
        report
            .feeds
            .iter()
            .flat_map(FeedReport::today)
            .filter(|f| f.outcome.counts() && f.replaced_by.is_none())
            .map(of)
            .sum()
    };
    let open = |outcome| report.feeds.iter().map(|feed| feed.open(outcome).len() as u64).sum::<u64>();
    let late = report.feeds.iter().filter(|feed| feed.late.is_some()).count() as u64;
    let tile = |figure: u64, one: &str, many: &str, to: &str, tone: &str| {
        html! {
            a class=(format!("tile {}", if figure > 0 { tone } else { "" })) href=(to) {
                b { (count::number(figure)) } (if figure == 1 { one } else { many })
            }
        }
    };
    html! {
        h2 id="today" { "Today" }
        div.tiles {
            (tile(sum(|_| 1), "file loaded", "files loaded", "#feeds", "good"))
            (tile(sum(|file| file.loaded), "row loaded", "rows loaded", "#feeds", ""))
            (tile(sum(|file| file.rejected), "row rejected", "rows rejected", "#feeds", "warning"))
            (tile(open(Outcome::Held), "file held", "files held", "#attention", "warning"))
            (tile(open(Outcome::Failed), "file failed", "files failed", "#attention", "bad"))
            (tile(late, "feed late", "feeds late", "#attention", "bad"))
        }
    }
}

/// Needs attention, and what to do about it.
pub fn wants(report: &Report) -> Markup {
    let about = |feed: &FeedReport, entry: &FileEntry| {
        html! {
            p { b { a href=(report.file_link(entry.file)) { (clean(&entry.arrival.path)) } }
                " " span.faint { (feed.name) " · " (moment::minute(entry.ended)) } }
            @for line in reasons::lines_of_entry(entry) { p { (clean(&line)) } }
        }
    };
    let quiet = report.feeds.iter().all(|feed| {
        feed.late.is_none() && feed.open(Outcome::Held).is_empty() && feed.open(Outcome::Failed).is_empty()
    });
    html! {
        h2 id="attention" { "Needs attention" }
        @if quiet { div.card { span.good { "Nothing. All that came is loaded." } } }
        @for feed in &report.feeds {
            @if let Some(late) = &feed.late {
                div class="card want bad" { p { b { (feed.name) } " " span.bad { (late.words()) } } }
            }
            @for entry in feed.open(Outcome::Failed) {
                div class="card want bad" { (about(feed, entry)) }
            }
            @for entry in feed.open(Outcome::Held) {
                div class="card want" {
                    (about(feed, entry))
                    p { code { "hypodoke settle " (quoted(&entry.arrival.path)) } }
                }
            }
        }
    }
}

/// A line for each feed.
pub fn overview(report: &Report) -> Markup {
    html! {
        h2 id="feeds" { "Feeds" }
        div class="card scroll" { table {
            tr { th { "feed" } th { "state" } th { "last file" } th.n { "files today" } th.n { "files" } th.n { "rows" }
                 th.n { "rejected" } th.n { "odd" } }
            @for feed in &report.feeds {
                @let rows: u64 = feed.loaded().map(|entry| entry.loaded).sum();
                @let rejected: u64 = feed.loaded().map(|entry| entry.rejected).sum();
                @let odd = feed.points.iter().filter(|point| point.odd).count() as u64;
                @let link = format!("#feed-{}", feed.anchor());
                tr {
                    td { a href=(link) { (feed.name) } }
                    td { (state(feed)) }
                    td { @match feed.files.first() { Some(entry) => (moment::minute(entry.ended)), None => span.faint { "none" } } }
                    td.n { a href=(format!("#files-{}", feed.anchor())) { (count::number(feed.today().count() as u64)) } }
                    td.n { a href=(format!("#files-{}", feed.anchor())) { (count::number(feed.loaded().count() as u64)) } }
                    td.n { (count::number(rows)) }
                    @if rejected > 0 {
                        td class="n warning" { a href=(format!("#rejects-{}", feed.anchor())) { (count::number(rejected)) } }
                    } @else { td.n { "0" } }
                    td class=(if odd > 0 { "n warning" } else { "n" }) { (count::number(odd)) }
                }
            }
        } }
        p.faint { "In the charts, files stand at the day that their names say, or at the time they were written; a band is what is usual, orange is odd, and every mark leads to its file." }
    }
}

fn state(feed: &FeedReport) -> Markup {
    let (held, failed) = (feed.open(Outcome::Held).len() as u64, feed.open(Outcome::Failed).len() as u64);
    html! {
        @if feed.late.is_some() { span.bad { "late " } }
        @if failed > 0 { span.bad { (count::number(failed)) " failed " } }
        @if held > 0 { span.warning { (count::number(held)) " held" } }
        @if feed.late.is_none() && failed == 0 && held == 0 && !feed.files.is_empty() { span.good { "well" } }
    }
}

/// All there is of one feed.
pub fn feed_section(report: &Report, feed: &FeedReport) -> Markup {
    let name = feed.anchor();
    let figure = |title: &str, unit: &str, svg: String| {
        html! {
            figure { figcaption { (title) " " span { (unit) } } (PreEscaped(svg)) }
        }
    };
    html! {
        section id=(format!("feed-{name}")) {
            h2 { (feed.name) }
            @if !feed.points.is_empty() {
                div.charts {
                    (figure("Size", "rows by file", charts::rows(&feed.points, report.scale())))
                    (figure("Volume", "rows by day", charts::volume(&feed.points, report.scale())))
                    (figure("Arrival", "time of day", charts::arrivals(&feed.points, report.scale())))
                    (figure("Load", "time it took", charts::seconds(&feed.points, report.scale())))
                }
            }
            (rejects(feed, &name))
            (changes(feed))
            (values::section(feed))
            (files(report, feed, &name))
        }
    }
}

fn rejects(feed: &FeedReport, name: &str) -> Markup {
    let most = feed.rejects.iter().map(|group| group.rows).max().unwrap_or(1);
    let file_of = |group: &RejectGroup| {
        feed.files.iter().find(|entry| entry.arrival.path == group.path).map_or(0, |entry| entry.file)
    };
    html! {
        @if !feed.rejects.is_empty() {
            h3 id=(format!("rejects-{name}")) { "Rejected rows, by reason" }
            div class="card scroll" { table {
                tr { th.n { "rows" } th {} th { "column" } th { "reason" } th { "for instance" } th { "where" } }
                @for group in &feed.rejects {
                    tr {
                        td.n { (count::number(group.rows)) }
                        td { svg.bar width="120" height="8" aria-hidden="true" { rect width=((group.rows * 120 / most).max(3)) height="8" rx="4" {} } }
                        td { (clean(group.column.as_deref().unwrap_or("-"))) }
                        td.wrap { (clean(&group.reason)) }
                        td { code { (clean(group.value.as_deref().unwrap_or("-"))) } }
                        td.path { a href=(format!("#file-{}", file_of(group))) { (clean(&group.path)) } ", line " (count::number(group.line)) }
                    }
                }
            } }
        }
    }
}

fn changes(feed: &FeedReport) -> Markup {
    let told: Vec<_> = feed.drift.iter().flat_map(|history| &history.changes).collect();
    html! {
        @if !told.is_empty() {
            h3 { "What changed in its files" }
            div.card { ol.drift {
                @for change in told {
                    @let alters = !matches!(change.action.as_str(), "noted");
                    li class=(if alters { "warning" } else { "" }) {
                        span.faint { (change.at.get(..16).unwrap_or(&change.at).replace('T', " ")) " " }
                        (clean(&drift::words(change))) " "
                        span.faint { "(" (drift::done_in_words(change)) ", " (clean(&change.path))
                            @if change.files > 1 { " and " (count::files(change.files - 1)) " more" } ")" }
                    }
                }
            } }
        }
    }
}

/// How a file's outcome is coloured.
pub fn tone(entry: &FileEntry) -> &'static str {
    match entry.outcome {
        _ if entry.replaced_by.is_some() => "faint",
        Outcome::Loaded | Outcome::Superseded => "good",
        Outcome::Failed => "bad",
        Outcome::Held => "warning",
        _ => "faint",
    }
}

fn files(report: &Report, feed: &FeedReport, name: &str) -> Markup {
    let odd = |entry: &FileEntry| feed.points.iter().any(|point| point.file == entry.file && point.odd);
    html! {
        details id=(format!("files-{name}")) {
            summary { (count::files(feed.files.len() as u64)) ", the newest first"
                @if feed.left_out > 0 { "; " (count::number(feed.left_out as u64)) " older ones are in the ledger only" } }
            div class="card scroll" { table {
                tr { th { "when" } th.n { "batch" } th { "file" } th { "table" } th { "outcome" } th.n { "read" }
                     th.n { "loaded" } th.n { "rejected" } th.n { "size" } th.n { "took" } }
                @for entry in &feed.files {
                    tr id=(format!("file-{}", entry.file)) {
                        td { (moment::minute(entry.ended)) }
                        td.n { (entry.batch) }
                        td.path { @if report.is_live { a href=(report.file_link(entry.file)) { (clean(&entry.arrival.path)) } }
                            @else { (clean(&entry.arrival.path)) } }
                        td { (entry.table.as_deref().unwrap_or_default()) }
                        td class=(tone(entry)) { @if entry.replaced_by.is_some() { "replaced" } @else { (entry.outcome.word()) } }
                        td class=(if odd(entry) { "n warning" } else { "n" }) { (count::number(entry.read)) @if odd(entry) { " odd" } }
                        td.n { (count::number(entry.loaded)) }
                        td class=(if entry.rejected > 0 { "n warning" } else { "n" }) { (count::number(entry.rejected)) }
                        td.n { (count::bytes(entry.arrival.bytes)) }
                        td.n { (count::seconds((entry.ended - entry.began).max(0) as f64 / 1e6)) }
                    }
                }
            } }
        }
    }
}
