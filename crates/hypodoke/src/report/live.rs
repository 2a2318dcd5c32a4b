//! The report as a page that renews itself, while a watch runs.

use hypodoke_core::count;
use hypodoke_core::sanitize::clean;
use maud::{DOCTYPE, Markup, PreEscaped, html};

use super::gather::Report;
use super::page;
use super::style;
use crate::render::moment;

/// What a feed is at, for the page.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Running {
    /// The feed.
    pub feed: String,
    /// What it is at, in words.
    pub state: String,
    /// A person should know of that state.
    pub is_bad: bool,
    /// What is being loaded, where something is.
    pub load: Option<RunningLoad>,
}

/// A load in hand.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct RunningLoad {
    /// The file, as people know it.
    pub path: String,
    /// Files done, and files in all.
    pub files: (u64, u64),
    /// Bytes read, and bytes in all.
    pub bytes: (u64, u64),
    /// For how long it runs.
    pub seconds: f64,
}

/// How often the page is renewed, in milliseconds.
const RENEW: u32 = 5_000;

/// Renews the page in place: what is open stays open, what has the focus keeps it, and while something is
/// selected to be copied nothing moves.
const SCRIPT: &str = "
const renew = async () => {
  if (document.hidden || String(getSelection())) return;
  try {
    const answer = await fetch(location.pathname, { cache: 'no-store' });
    if (!answer.ok) throw answer.status;
    const text = await answer.text();
    const part = text.slice(text.indexOf('<main>'), text.lastIndexOf('</main>'));
    const fresh = new DOMParser().parseFromString(part, 'text/html').querySelector('main');
    const open = [...document.querySelectorAll('details[open]')].map((one) => one.id);
    const focus = document.activeElement && document.activeElement.getAttribute('href');
    document.querySelector('main').replaceWith(fresh);
    for (const id of open) { const one = document.getElementById(id); if (one) one.open = true; }
    const link = focus && [...document.querySelectorAll('a')].find((one) => one.getAttribute('href') === focus);
    if (link) link.focus({ preventScroll: true });
    document.body.classList.remove('away');
  } catch { document.body.classList.add('away'); }
};
setInterval(renew, EVERY);
";

/// A page around its main part. `nonce` is what lets its own style and script be used, and no others.
pub fn frame(title: &str, nonce: &str, main: Markup) -> String {
    let script = SCRIPT.replace("EVERY", &RENEW.to_string());
    let markup = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (title) }
                style nonce=(nonce) { (PreEscaped(style::SHEET)) }
                noscript { meta http-equiv="refresh" content="15"; }
            }
            body {
                div.lost role="status" { "The watch does not answer; what stands here is what it last said." }
                main { (main) }
                script nonce=(nonce) { (PreEscaped(script)) }
            }
        }
    };
    markup.into_string()
}

/// The page of everything.
pub fn main(report: &Report, running: &[Running]) -> Markup {
    let made = moment::second(report.now.as_microsecond());
    html! {
        h1 { "What comes, and what becomes of it" }
        p.faint { (report.database) " · " (made) " · the last " (report.days) " days" }
        (page::glance(report))
        (now(running))
        (page::wants(report))
        (page::overview(report))
        @for feed in &report.feeds { (page::feed_section(report, feed)) }
        footer { "Hypodoke " (env!("CARGO_PKG_VERSION")) ", read-only; renewed every " (RENEW / 1000) " seconds; times are those of this machine's clock, " (moment::zone()) "." }
    }
}

/// What every feed is at, and how far what is being loaded has come.
fn now(running: &[Running]) -> Markup {
    html! {
        h2 id="now" { "Now" }
        div class="card scroll" { table {
            tr { th { "feed" } th { "at" } th { "file" } th.n { "files" } th.n { "read" } th.n { "rate" } th {} }
            @for one in running {
                tr {
                    td { (clean(&one.feed)) }
                    td class=(if one.is_bad { "bad" } else { "" }) { (one.state) }
                    @match &one.load {
                        Some(load) => (load_cells(load)),
                        None => { td { } td.n { } td.n { } td.n { } td { } }
                    }
                }
            }
        } }
    }
}

fn load_cells(load: &RunningLoad) -> Markup {
    let (done, all) = load.bytes;
    let rate = if load.seconds > 0.2 {
        format!("{}/s", count::bytes((done as f64 / load.seconds) as u64))
    } else {
        String::new()
    };
    html! {
        td.path { (clean(&load.path)) }
        td.n { (count::number(load.files.0)) " of " (count::number(load.files.1)) }
        td.n { (count::bytes(done)) " of " (count::bytes(all)) }
        td.n { (rate) }
        td { progress max=(all.max(1)) value=(done.min(all)) aria-label="read so far" {} }
    }
}
