//! Messages: a subject, the same in plain words, as a page and as data.

use maud::{DOCTYPE, html};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use super::notification::Notification;
use crate::render::receipt::{Detail, tone_of};
use crate::render::{Screen, Tone, receipt, receipt_json};
use crate::settings::notify::NotificationKind;
use hypodoke_core::count;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::clock::rfc3339;
use hypodoke_engine::receipt::{Receipt, ReceiptLine};

/// The version of what a webhook is sent.
///
/// 1: version, at, database, subject, happenings, receipt. Fields may be added without a new version.
const NOTICE_JSON_VERSION: u32 = 1;

/// The most lines of a receipt that a message holds: the worst come first.
const MOST_LINES: usize = 200;

/// A message.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Notice {
    /// What it is about, in a line.
    pub subject: String,
    /// The same in plain words.
    pub text: String,
    /// As a page.
    pub html: String,
    /// As data.
    pub document: Value,
}

impl Notice {
    /// Of what happened, with the receipt of the batch it happened in.
    pub fn of(news: &[&Notification], receipt: Option<&Receipt>, database: &str, at: i64) -> Notice {
        let subject = subject(&headline(news), database);
        let short = receipt.map(shortened);
        let document = json!({
            "version": NOTICE_JSON_VERSION,
            "at": rfc3339(at),
            "database": database,
            "subject": subject,
            "happenings": news,
            "receipt": short.as_ref().map(|(receipt, _)| receipt_json::document(receipt)),
        });
        let (text, html) = (plain(news, short.as_ref()), page(&subject, news, short.as_ref()));
        Notice { subject, text, html, document }
    }

    /// As the ledger keeps it.
    pub fn to_json(&self) -> String {
        serde_json::to_string(self).unwrap_or_default()
    }

    /// What the ledger kept.
    ///
    /// # Errors
    ///
    /// The text is not a message.
    pub fn from_json(text: &str) -> Result<Notice, serde_json::Error> {
        serde_json::from_str(text)
    }
}

/// The most characters of a subject.
const MOST_SUBJECT: usize = 60;

/// What happened, and in which database as far as there is room.
fn subject(what: &str, database: &str) -> String {
    let whole = format!("{what} ({database})");
    let fits = |text: &str| text.chars().count() <= MOST_SUBJECT;
    if fits(&whole) {
        return whole;
    }
    if fits(what) {
        return what.to_owned();
    }
    let cut: String = what.chars().take(MOST_SUBJECT - 1).collect();
    format!("{}…", cut.trim_end())
}

/// `north: 2 files failed, 1 held`.
fn headline(news: &[&Notification]) -> String {
    let parts = NotificationKind::ALL.into_iter().filter_map(|event| {
        let of: Vec<&&Notification> = news.iter().filter(|one| one.event == event).collect();
        let (first, many) = (of.first()?, of.len() as u64);
        Some(match event {
            NotificationKind::Failure if first.path.is_none() => clean(&first.what),
            NotificationKind::Failure => format!("{} failed", count::files(many)),
            NotificationKind::Hold => format!("{} held", count::files(many)),
            NotificationKind::Silence | NotificationKind::Success => clean(&first.what),
            NotificationKind::Rejects => format!("rejects in {}", count::files(many)),
            NotificationKind::Drift => format!("drift in {}", count::files(many)),
        })
    });
    let what = parts.collect::<Vec<_>>().join(", ");
    match news.first().and_then(|first| first.feed.as_ref()) {
        Some(feed) if news.iter().all(|one| one.feed.as_ref() == Some(feed)) => {
            format!("{}: {what}", clean(feed))
        }
        _ => what,
    }
}

/// A receipt that fits a message, and how many lines were left out.
fn shortened(receipt: &Receipt) -> (Receipt, usize) {
    let mut short = receipt.clone();
    let rank = |line: &ReceiptLine| match tone_of(line.outcome) {
        Tone::Bad => 0,
        Tone::Warning => 1,
        _ if line.rows_rejected > 0 => 2,
        Tone::Good => 3,
        _ => 4,
    };
    short.files.sort_by_key(rank);
    let left = short.files.len().saturating_sub(MOST_LINES);
    short.files.truncate(MOST_LINES);
    (short, left)
}

fn plain(news: &[&Notification], receipt: Option<&(Receipt, usize)>) -> String {
    let mut out = String::new();
    for one in news {
        let about = one.path.as_ref().or(one.feed.as_ref()).map(|about| format!("{}: ", clean(about)));
        for line in one.what.lines() {
            out.push_str(&format!("{}{}\n", about.as_deref().unwrap_or_default(), clean(line)));
        }
        if let Some(advice) = &one.advice {
            out.push_str(&format!("  → {advice}\n"));
        }
    }
    if let Some((receipt, left)) = receipt {
        out.push_str(&format!("\n{}", receipt::text(receipt, Detail::Grouped, Screen::plain())));
        if *left > 0 {
            out.push_str(&format!("and {} more\n", count::files(*left as u64)));
        }
    }
    out
}

/// Mail programs know no style sheets: the styles stand with what they are for.
fn page(subject: &str, news: &[&Notification], receipt: Option<&(Receipt, usize)>) -> String {
    const FONT: &str = "font-family:system-ui,sans-serif;font-size:14px;line-height:1.4";
    const CELL: &str = "padding:3px 10px 3px 0;text-align:left;border-bottom:1px solid #ccc";
    const FIGURE: &str = "padding:3px 10px 3px 0;text-align:right;border-bottom:1px solid #ccc";
    let color = |event: NotificationKind| match event {
        NotificationKind::Failure | NotificationKind::Silence => "#b3261e",
        NotificationKind::Hold | NotificationKind::Rejects | NotificationKind::Drift => "#8a5a00",
        NotificationKind::Success => "#1b6e3c",
    };
    let markup = html! {
        (DOCTYPE)
        html { body style=(FONT) {
            h1 style="font-size:18px" { (clean(subject)) }
            @for one in news {
                p style=(format!("border-left:4px solid {};padding-left:10px", color(one.event))) {
                    @if let Some(about) = one.path.as_ref().or(one.feed.as_ref()) { b { (clean(about)) } br; }
                    @for line in one.what.lines() { (clean(line)) br; }
                    @if let Some(advice) = &one.advice { code { (advice) } }
                }
            }
            @if let Some((receipt, left)) = receipt {
                table style="border-collapse:collapse;font-size:13px" {
                    tr { @for heading in ["file", "table", "outcome"] { th style=(CELL) { (heading) } }
                         @for heading in ["read", "loaded", "rejected"] { th style=(FIGURE) { (heading) } } }
                    @for line in &receipt.files {
                        tr {
                            td style=(CELL) { (clean(&line.path)) }
                            td style=(CELL) { (line.table.as_deref().unwrap_or_default()) }
                            td style=(CELL) { (line.outcome.word()) }
                            @for figure in [line.rows_read, line.rows_loaded, line.rows_rejected] {
                                td style=(FIGURE) { (count::number(figure)) }
                            }
                        }
                    }
                }
                @if *left > 0 { p { "and " (count::files(*left as u64)) " more" } }
                p style="color:#555" { (receipt::summary(receipt, Screen::plain()).trim()) }
            }
        } }
    };
    markup.into_string()
}
