//! The page of one file: its story, its columns, how it drifted, and its rejects.

use hypodoke_core::count;
use hypodoke_core::figures::{self, ColumnSummary, FileFigures, percent};
use hypodoke_core::outcome::Outcome;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::decide::Settlement;
use hypodoke_stores::{DecisionEntry, DriftEntry, FileEntry, FileQuery, Ledger, RejectEntry, StoreError};
use maud::{Markup, html};

use super::page::tone;
use crate::render::drift::change_words;
use crate::render::moment;
use crate::wording::{options, quoted, reasons};

/// The most rejects that are shown.
const MOST_REJECTS: usize = 200;

/// All that the ledger has of a file.
pub struct FileReport {
    /// The entry that was asked for.
    entry: FileEntry,
    /// All entries of its path and table, the oldest first.
    story: Vec<FileEntry>,
    decisions: Vec<DecisionEntry>,
    drift: Vec<DriftEntry>,
    rejects: Vec<RejectEntry>,
}

impl FileReport {
    /// Asks the ledger for the file of an entry; `None` if there is no such entry.
    ///
    /// # Errors
    ///
    /// The database does not answer.
    pub fn of(store: &mut dyn Ledger, number: i64) -> Result<Option<FileReport>, StoreError> {
        let query = FileQuery { file: Some(number), ..FileQuery::default() };
        let Some(entry) = store.files(&query)?.into_iter().next() else { return Ok(None) };
        let arrival = &entry.arrival;
        let path = Some((arrival.place.clone(), arrival.path.clone()));
        let mut story = store.files(&FileQuery { path, ..FileQuery::default() })?;
        story.retain(|one| one.table == entry.table);
        story.reverse();
        let mut decisions = store.decisions()?;
        decisions.retain(|one| {
            one.arrival.place == arrival.place
                && one.arrival.path == arrival.path
                && Some(&one.table) == entry.table.as_ref()
        });
        let mut drift = store.drift()?;
        drift.retain(|one| one.file == number);
        let rejects = store.rejects(number, MOST_REJECTS)?;
        Ok(Some(FileReport { entry, story, decisions, drift, rejects }))
    }

    /// The title of its page.
    pub fn title(&self) -> String {
        clean(&self.entry.arrival.path)
    }

    /// The page.
    pub fn main(&self) -> Markup {
        let entry = &self.entry;
        let feed = entry.feed.as_deref().or(entry.table.as_deref()).unwrap_or_default();
        html! {
            p { a href="/" { "← all feeds" } }
            h1 { (clean(&entry.arrival.path)) }
            p.faint { "feed " (clean(feed)) " → " (clean(entry.table.as_deref().unwrap_or_default()))
                @if let Some(kind) = &entry.kind { " · " (clean(kind)) }
                " · " (count::bytes(entry.arrival.bytes)) " · written " (moment::minute(entry.arrival.modified)) }
            (self.message())
            (self.told())
            (self.columns())
            (self.changes())
            (self.refused())
        }
    }

    /// What is said of it, and what to do.
    fn message(&self) -> Markup {
        let entry = &self.entry;
        html! {
            @if let Some(message) = reasons::of_entry(entry) {
                div class=(match entry.outcome { Outcome::Held => "card want", Outcome::Failed => "card want bad", _ => "card" }) {
                    @for line in message.lines() { p { (clean(line)) } }
                    @if entry.outcome == Outcome::Held {
                        p { code { "hypodoke settle " (quoted(&entry.arrival.path)) } }
                    }
                }
            }
        }
    }

    /// Its story: when it came, what became of it, who decided what.
    fn told(&self) -> Markup {
        let mut events: Vec<(i64, &str, Markup)> = Vec::new();
        let mut versions: Vec<i64> = Vec::new();
        for entry in &self.story {
            if !versions.contains(&entry.arrival.modified) {
                let what = if versions.is_empty() { "arrived" } else { "changed" };
                versions.push(entry.arrival.modified);
                let size = count::bytes(entry.arrival.bytes);
                events.push((entry.arrival.modified, "", html! { (what) span.faint { " " (size) } }));
            }
            let is_this = entry.file == self.entry.file;
            let rows = entry.outcome.counts().then(|| {
                let rejected =
                    (entry.rejected > 0).then(|| format!(", {} rejected", count::number(entry.rejected)));
                format!(" {}{}", count::rows(entry.loaded), rejected.unwrap_or_default())
            });
            let what = html! {
                @if is_this { b { (entry.outcome.word()) } }
                @else { a href=(format!("/file/{}", entry.file)) { (entry.outcome.word()) } }
                span.faint { (rows.unwrap_or_default()) ", batch " (entry.batch)
                    @if entry.replaced_by.is_some() { ", replaced since" } }
            };
            events.push((entry.ended, tone(entry), what));
        }
        for decision in &self.decisions {
            let settled = Settlement::parse(&decision.decision).unwrap_or_default();
            let why = decision.why.as_ref().map(|why| format!(": {why}")).unwrap_or_default();
            let what = html! {
                "settled by " (clean(&decision.by)) " with " code { (clean(&options(&settled.remedies()))) } (clean(&why))
            };
            events.push((decision.at, "", what));
        }
        events.sort_by_key(|(at, ..)| *at);
        html! {
            h2 { "Its story" }
            div.card { ol.drift {
                @for (at, tone, what) in &events {
                    li class=(if *tone == "bad" || *tone == "warning" { "warning" } else { "" }) {
                        span.faint { (moment::second(*at)) " " } span class=(tone) { (what) }
                    }
                }
            } }
        }
    }

    /// Its columns, with what they hold.
    fn columns(&self) -> Markup {
        let figures: Option<FileFigures> =
            self.entry.figures.as_deref().and_then(|text| serde_json::from_str(text).ok());
        html! {
            @for (table, columns) in figures.iter().flat_map(|figures| &figures.tables) {
                h2 { "Columns of " (clean(table)) }
                div class="card scroll" { table {
                    tr { th { "column" } th.n { "values" } th.n { "null" } th.n { "mean" } th.n { "least" } th.n { "greatest" }
                         th.n { "length" } th { "words" } }
                    @for (name, column) in columns { (column_row(name, column)) }
                } }
            }
        }
    }

    fn changes(&self) -> Markup {
        html! {
            @if !self.drift.is_empty() {
                h2 { "How it differs" }
                div.card { ol.drift {
                    @for one in &self.drift {
                        li class=(if one.action == "noted" { "" } else { "warning" }) {
                            (clean(&change_words(&one.change, &one.column, one.from.as_deref(), one.to.as_deref())))
                            @if let Some(cause) = &one.cause { " " span.faint { (clean(&cause.words())) } }
                            span.faint { " (" (one.action.replace('_', " ")) ")" }
                        }
                    }
                } }
            }
        }
    }

    fn refused(&self) -> Markup {
        html! {
            @if !self.rejects.is_empty() {
                h2 { "Rejected rows" }
                div class="card scroll" { table {
                    tr { th.n { "line" } th { "column" } th { "value" } th { "reason" } th { "record" } }
                    @for reject in &self.rejects {
                        tr {
                            td.n { (count::number(reject.line)) }
                            td { (clean(reject.column.as_deref().unwrap_or("-"))) }
                            td { code { (clean(reject.value.as_deref().unwrap_or("-"))) } }
                            td.wrap { (clean(&reject.reason))
                                @for more in &reject.more { br; (clean(&more.column)) ": " (clean(&more.reason)) } }
                            td.path { span.faint { (clean(&String::from_utf8_lossy(&reject.raw))) } }
                        }
                    }
                } }
                p { code { "hypodoke rejects " (self.entry.batch) " --export bad.csv" } }
            }
        }
    }
}

fn column_row(name: &str, column: &ColumnSummary) -> Markup {
    let figure = |value: Option<f64>| value.map(figures::figure).unwrap_or_default();
    let is_moment = column.mean.is_none();
    let words = column.words.as_ref().map(|words| {
        let all: Vec<String> =
            words.iter().take(6).map(|(word, times)| format!("{word} {}", count::number(*times))).collect();
        let more = words.len().saturating_sub(6);
        if more > 0 { format!("{} and {more} more", all.join(", ")) } else { all.join(", ") }
    });
    html! {
        tr {
            td { (clean(name)) }
            td.n { (count::number(column.rows - column.nulls.min(column.rows))) }
            td class=(if column.nulls > 0 { "n" } else { "n faint" }) { (percent(column.null_share())) }
            td.n { (figure(column.mean)) }
            td.n { @if !is_moment { (figure(column.least)) } @else { (moment_of(column.least)) } }
            td.n { @if !is_moment { (figure(column.greatest)) } @else { (moment_of(column.greatest)) } }
            td.n { (figure(column.length.map(|length| length.mean))) }
            td.wrap { span.faint { (clean(&words.unwrap_or_default())) } }
        }
    }
}

/// A day or a moment as figures have it: days since 1970, or microseconds.
fn moment_of(value: Option<f64>) -> String {
    const DAY: f64 = 86_400e6;
    match value {
        Some(days) if days.abs() < 4e6 => moment::day((days * DAY) as i64),
        Some(micros) if micros.abs() >= DAY * 365.0 => moment::day(micros as i64),
        _ => String::new(),
    }
}
