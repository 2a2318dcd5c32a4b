//! Held files and decisions on the terminal.

use hypodoke_core::drift::{Action, Remedy};
use hypodoke_core::outcome::Outcome;

use super::paths::{shown, some};
use super::{Screen, Tone};
use crate::wording::{option, options, quoted, reasons};
use hypodoke_core::count;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::decide::Settlement;
use hypodoke_engine::receipt::ReceiptLine;
use hypodoke_stores::FileEntry;
use serde::Serialize;

/// A file that is held.
#[derive(Clone, Debug, Serialize)]
pub struct HeldLine {
    /// Its path.
    pub path: String,
    /// Its feed.
    pub feed: Option<String>,
    /// Its table.
    pub table: Option<String>,
    /// The batch that met it first.
    pub batch: i64,
    /// Why, a line each.
    pub why: Vec<String>,
}

/// Files that wait for the same reason.
pub struct HeldGroup<'e> {
    /// The files.
    pub files: Vec<&'e FileEntry>,
    /// Why, a line each, as it is said of the first of them.
    pub why: Vec<String>,
    /// What can be decided about them, the likeliest first.
    pub remedies: Vec<Remedy>,
    /// Their feed has no other files that wait.
    pub is_whole_feed: bool,
}

/// A decision with its effect.
pub struct Settled {
    /// The decision.
    pub settlement: Settlement,
    /// What the next load would do.
    pub effect: ReceiptLine,
    /// Whether it was written down.
    pub decided: bool,
    /// The lasting part of it, as a change of the configuration.
    pub diff: Option<String>,
    /// Whether that was made.
    pub written: bool,
    /// Whether the file came by a feed of the configuration.
    pub has_feed: bool,
}

/// The most groups that are shown; more are counted.
const MOST_GROUPS: usize = 8;

/// What is held and what failed, why, and the command that fits.
pub fn held(groups: &[HeldGroup<'_>], screen: Screen) -> String {
    if groups.is_empty() {
        return "nothing is held\n".to_owned();
    }
    let mut out = String::new();
    for group in groups.iter().take(MOST_GROUPS) {
        out.push_str(&group_text(group, screen));
    }
    if let more @ 1.. = groups.len().saturating_sub(MOST_GROUPS) {
        let files: usize = groups.iter().skip(MOST_GROUPS).map(|group| group.files.len()).sum();
        let files = count::files(files as u64);
        out.push_str(&format!(
            "and {files} for {}\n",
            count::of(more as u64, "other reason", "other reasons")
        ));
    }
    let ways = [
        ("--rename OLD=NEW", "a column is another under a new name"),
        ("--add-column C", "the table gets it"),
        ("--ignore-column C", "it is left out"),
        ("--as-text C", "the table's column becomes text"),
        ("--load-anyway", "loaded whatever else is the matter"),
        ("--discard", "never loaded"),
    ];
    out.push('\n');
    for (way, what) in ways {
        out.push_str(&format!("  {way:<18} {}\n", screen.paint(Tone::Faint, what)));
    }
    out
}

fn group_text(group: &HeldGroup<'_>, screen: Screen) -> String {
    let Some(first) = group.files.first() else { return String::new() };
    let is_held = first.outcome == Outcome::Held;
    let paths: Vec<&str> = group.files.iter().map(|entry| entry.arrival.path.as_str()).collect();
    let what = if is_held { "held since" } else { "failed in" };
    let heading = format!(
        "{} → {}, {what} batch {}",
        some(paths.into_iter(), 3),
        clean(first.table.as_deref().unwrap_or_default()),
        first.batch
    );
    let mut out = format!("{}\n", screen.paint(Tone::Heading, &heading));
    let tone = if is_held { Tone::Warning } else { Tone::Bad };
    for why in &group.why {
        out.push_str(&screen.sentence("  ", tone, &clean(why)));
    }
    let about = match (group.files.len(), &first.feed) {
        (2.., Some(feed)) if group.is_whole_feed => quoted(feed),
        _ => {
            let all: Vec<String> =
                group.files.iter().take(3).map(|entry| quoted(&shown(&entry.arrival.path))).collect();
            all.join(" ")
        }
    };
    let options = options(group.remedies.iter().take(1));
    out.push_str(&format!("  → hypodoke settle {about} {options}\n"));
    if let Some(other) = group.remedies.get(1) {
        let other = option(other);
        out.push_str(&format!("    {}\n", screen.paint(Tone::Faint, &format!("or {other}"))));
    }
    out
}

/// What one decision about several files comes to.
pub fn several(
    done: &[(FileEntry, Option<Settled>)],
    settlement: &Settlement,
    (written, decided): (bool, bool),
    screen: Screen,
) -> String {
    let head = format!("{} with {}", count::files(done.len() as u64), options(&settlement.remedies()));
    let mut out = format!("{}\n", screen.paint(Tone::Heading, &head));
    let effects = || done.iter().filter_map(|(_, settled)| settled.as_ref()).map(|settled| &settled.effect);
    let sum = |of: fn(&ReceiptLine) -> u64| effects().map(of).sum::<u64>();
    if settlement.discard {
        out.push_str("  not loaded as long as they stay what they are\n");
    } else {
        let (read, loaded) = (sum(|line| line.rows_read), sum(|line| line.rows_loaded));
        let rejected = match sum(|line| line.rows_rejected) {
            0 => String::new(),
            some => format!(", {} rejected", count::number(some)),
        };
        out.push_str(&format!("  {} read, {} loaded{rejected}\n", count::rows(read), count::number(loaded)));
    }
    if let Some(diff) = done.iter().find_map(|(_, settled)| settled.as_ref()?.diff.clone()) {
        out.push_str(&diff_text(&diff, written, screen));
    }
    out.push_str(if decided {
        "\ndecided; the next `hypodoke load` takes them\n"
    } else {
        "\nnothing is decided yet: this is what would happen\n"
    });
    out
}

/// Lines taken out and put in, each in its colour.
pub fn colored_diff(diff: &str, screen: Screen) -> String {
    let line = |line: &str| {
        let tone = match line.as_bytes().first() {
            _ if line.starts_with("+++") || line.starts_with("---") => Tone::Faint,
            Some(b'+') => Tone::Good,
            Some(b'-') => Tone::Bad,
            _ => Tone::Faint,
        };
        format!("{}\n", screen.paint(tone, line))
    };
    diff.lines().map(line).collect()
}

/// A change of the configuration.
fn diff_text(diff: &str, is_written: bool, screen: Screen) -> String {
    let what = if is_written {
        "written into the configuration:"
    } else {
        "for the files to come, in the configuration:"
    };
    let mut out = format!("\n{}\n{}", screen.paint(Tone::Heading, what), colored_diff(diff, screen));
    if !is_written {
        out.push_str("  → --write makes this change\n");
    }
    out
}

/// What a decision comes to.
pub fn settled(told: &Settled, screen: Screen) -> String {
    let effect = &told.effect;
    let mut out = String::new();
    let head = format!("{} with {}", clean(&effect.path), clean(&options(&told.settlement.remedies())));
    out.push_str(&format!("{}\n", screen.paint(Tone::Heading, &head)));
    let rejected = match effect.rows_rejected {
        0 => String::new(),
        some => format!(", {} rejected", count::number(some)),
    };
    out.push_str(&format!(
        "  {} read, {} loaded{rejected}\n",
        count::rows(effect.rows_read),
        count::number(effect.rows_loaded)
    ));
    for drift in effect.changes.iter().filter(|drift| drift.action != Action::Noted) {
        out.push_str(&format!("  {}\n", screen.paint(Tone::Warning, &clean(&drift.words()))));
    }
    for note in &reasons::notes(effect) {
        out.push_str(&format!("  {}\n", screen.paint(Tone::Faint, &clean(note))));
    }
    if let Some(diff) = &told.diff {
        out.push_str(&diff_text(diff, told.written, screen));
    }
    out.push('\n');
    out.push_str(match (told.decided, told.has_feed) {
        (true, true) => "decided; the next `hypodoke load` takes it\n",
        (true, false) => "decided; the next load of this file takes it\n",
        (false, _) => "nothing is decided yet: this is what would happen\n",
    });
    out
}
