//! Held files and decisions on the terminal.

use hypodoke_core::drift::Action;

use super::{Screen, Tone};
use crate::wording::{options, quoted};
use hypodoke_core::count;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::decide::Settlement;
use hypodoke_engine::receipt::ReceiptLine;
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

/// What is held, and why.
pub fn held(lines: &[HeldLine], screen: Screen) -> String {
    if lines.is_empty() {
        return "nothing is held\n".to_owned();
    }
    let mut out = String::new();
    for line in lines {
        let table = line.table.as_deref().unwrap_or_default();
        let heading = format!("{} → {table}, held since batch {}", clean(&line.path), line.batch);
        out.push_str(&format!("{}\n", screen.paint(Tone::Heading, &heading)));
        for why in &line.why {
            out.push_str(&format!("  {}\n", screen.paint(Tone::Warning, &clean(why))));
        }
        out.push_str(&format!("  → hypodoke settle {} …\n", quoted(&clean(&line.path))));
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
    for note in &effect.notes {
        out.push_str(&format!("  {}\n", screen.paint(Tone::Faint, &clean(note))));
    }
    if let Some(diff) = &told.diff {
        let what = if told.written {
            "written into the configuration:"
        } else {
            "for the files to come, in the configuration:"
        };
        out.push_str(&format!("\n{}\n", screen.paint(Tone::Heading, what)));
        for line in diff.lines() {
            let tone = match line.as_bytes().first() {
                _ if line.starts_with("+++") || line.starts_with("---") => Tone::Faint,
                Some(b'+') => Tone::Good,
                Some(b'-') => Tone::Bad,
                _ => Tone::Faint,
            };
            out.push_str(&format!("{}\n", screen.paint(tone, line)));
        }
        if !told.written {
            out.push_str("  → --write makes this change\n");
        }
    }
    out.push('\n');
    out.push_str(match (told.decided, told.has_feed) {
        (true, true) => "decided; the next `hypodoke load` takes it\n",
        (true, false) => "decided; the next load of this file takes it\n",
        (false, _) => "nothing is decided yet: this is what would happen\n",
    });
    out
}
