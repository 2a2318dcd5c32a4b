//! Why files are held, fail or are skipped, in sentences. A sentence is made of a reason's code and facts, so that
//! a receipt, a page and a message say the same of a file, when it is met and when the ledger is read.

use hypodoke_core::count;
use hypodoke_core::figures::Unusual;
use hypodoke_core::names::RESERVED;
use hypodoke_core::outcome::Reason;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::decide::HoldReason;
use hypodoke_engine::error::EngineError;
use hypodoke_engine::receipt::{ReceiptLine, RefusedCorrection};
use hypodoke_stores::FileEntry;
use serde_json::Value;

/// Facts of a reason, by their names. A fact that an entry lacks is empty, or 0.
struct Facts<'r>(&'r Value);

impl<'r> Facts<'r> {
    fn has(&self, name: &str) -> bool {
        !self.0[name].is_null()
    }

    fn text(&self, name: &str) -> &'r str {
        self.0[name].as_str().unwrap_or_default()
    }

    fn is(&self, name: &str) -> bool {
        self.0[name].as_bool().unwrap_or_default()
    }

    fn count(&self, name: &str) -> u64 {
        self.0[name].as_u64().unwrap_or_default()
    }

    /// A whole number, with its thousands apart.
    fn number(&self, name: &str) -> String {
        count::number(self.count(name))
    }

    fn rows(&self, name: &str) -> String {
        count::rows(self.count(name))
    }

    fn texts(&self, name: &str) -> Vec<&'r str> {
        self.0[name].as_array().into_iter().flatten().filter_map(Value::as_str).collect()
    }

    /// Names in quotes, with something between them.
    fn names(&self, name: &str, between: &str) -> String {
        self.texts(name).iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(between)
    }

    /// Where control figures are stated.
    fn source(&self) -> String {
        match self.has("companion") {
            true => format!("its companion {}", self.text("companion")),
            false => "its trailer".to_owned(),
        }
    }
}

/// Why a file of a receipt is held, failed or was skipped: a line for each reason.
pub fn of_line(line: &ReceiptLine) -> Option<String> {
    line.message.clone().or_else(|| of_file(&line.reasons, &line.path))
}

/// What was noted of a file that was loaded: what was found in it, and what it is warned of.
pub fn notes(line: &ReceiptLine) -> Vec<String> {
    line.notes.iter().cloned().chain(warnings(&line.reasons)).collect()
}

/// What there is to say of an entry of the ledger: a line for each reason, or note. Entries of earlier versions
/// have sentences of their own.
pub fn of_entry(entry: &FileEntry) -> Option<String> {
    if entry.outcome.counts() {
        let noted: Vec<String> = entry.message.clone().into_iter().chain(warnings(&entry.reasons)).collect();
        return (!noted.is_empty()).then(|| noted.join("\n"));
    }
    entry.message.clone().or_else(|| of_file(&entry.reasons, &entry.arrival.path))
}

/// The same, line by line.
pub fn lines_of_entry(entry: &FileEntry) -> Vec<String> {
    of_entry(entry).unwrap_or_default().lines().map(str::to_owned).collect()
}

/// Expectations that are not met and only warn. Unusual values are told among the changes already.
fn warnings(reasons: &[Reason]) -> impl Iterator<Item = String> {
    let warned = reasons.iter().filter(|reason| reason.is("warned") && !reason.is("warned.unusual_values"));
    warned.filter_map(sentence)
}

/// Why a file is held.
pub fn of_hold(hold: &HoldReason) -> String {
    sentence(&hold.reason()).unwrap_or_default()
}

/// Why a correction no longer fits.
pub fn of_correction(refused: &RefusedCorrection) -> String {
    let why = refused.why.clone().or_else(|| of_file(&refused.reasons, &refused.path));
    why.unwrap_or_default()
}

/// An error of the engine.
pub fn of_error(error: &EngineError) -> String {
    match error {
        EngineError::Unloadable { path, reason } => {
            of_file(&reason.reasons(), path).unwrap_or_else(|| error.to_string())
        }
        other => other.to_string(),
    }
}

/// Reasons that say of themselves which file they are about, or are about none.
const NAMES_ITS_FILE: [&str; 7] =
    ["again", "database", "empty_folder", "ledger_entry", "one_table", "resubmit", "unreachable"];

/// Why a file is held, failed or was skipped, by its reasons and its path. There is nothing to say of a file that was
/// loaded.
pub fn of_file(reasons: &[Reason], path: &str) -> Option<String> {
    if reasons.iter().any(|reason| reason.is("warned")) {
        return None;
    }
    let failed = reasons.first()?.code.strip_prefix("failed.");
    let all: Vec<String> = reasons.iter().filter_map(sentence).collect();
    let Some(case) = failed else {
        return (!all.is_empty()).then(|| all.join("\n"));
    };
    let facts = Facts(&reasons.first()?.facts);
    let path = clean(path);
    Some(match case {
        "other_columns" => {
            format!("{path} does not fit the table `{}`: {}", facts.text("table"), all.join("; "))
        }
        "takes_no_rows" | "other_of_delivery" => all.join("; "),
        case if NAMES_ITS_FILE.contains(&case) => all.join("; "),
        _ => format!("{path}: {}", all.join("; ")),
    })
}

/// A reason in a sentence about "it", the file. There is nothing to say of a file that is known.
fn sentence(reason: &Reason) -> Option<String> {
    let facts = Facts(&reason.facts);
    let (outcome, case) = reason.code.split_once('.').unwrap_or(("", &reason.code));
    if facts.has("cause") {
        return Some(facts.text("cause").to_owned());
    }
    Some(match (outcome, case) {
        ("skipped", "known") => return None,
        ("skipped", case) => skipped(case, &facts)?,
        ("held", case) => of_change(case, &facts)
            .or_else(|| of_layout(case, &facts))
            .or_else(|| unmet(case, &facts))
            .unwrap_or_else(|| reason.to_string()),
        ("warned", case) => unmet(case, &facts).unwrap_or_else(|| reason.to_string()),
        (_, case) => failed(case, &facts)
            .or_else(|| failed_columns(case, &facts))
            .or_else(|| unmet(case, &facts))
            .unwrap_or_else(|| reason.to_string()),
    })
}

fn skipped(case: &str, facts: &Facts<'_>) -> Option<String> {
    let fixed = match case {
        "same_content" => {
            let batch = facts.count("batch");
            return Some(match facts.has("path") {
                true => format!("same content as {}, loaded in batch {batch}", facts.text("path")),
                false => format!("same content as loaded in batch {batch}"),
            });
        }
        "change_ignored" => "it has changed since it was loaded, which the feed ignores",
        "loaded_meanwhile" => "another hypodoke loaded it meanwhile",
        "in_use" => "another process is loading files of this table; the next load tries again",
        "changing" => "it changed while it was read, and is read again later",
        "gone" => "it was there when the files were listed, and is not any more",
        "delivery_waits" => "another file of its delivery is still arriving; the delivery is loaded later",
        "empty" => "it is empty",
        _ => return None,
    };
    Some(fixed.to_owned())
}

/// Changes of columns for which a file is held.
fn of_change(case: &str, facts: &Facts<'_>) -> Option<String> {
    let column = facts.text("column");
    let (from, to) = (facts.text("from"), facts.text("to"));
    Some(match case {
        "renamed_column" => format!(
            "`{}` is gone and `{}` is new; {}: probably a rename",
            facts.text("gone"),
            facts.text("new"),
            alike(&Facts(&facts.0["alike"]))
        ),
        "new_column" => format!("new column `{column}` ({})", facts.text("type")),
        "missing_column" => format!("column `{column}` is missing"),
        "wider_type" => format!("column `{column}` needs {to}, the table has {from}"),
        "incompatible_type" => {
            let what = match facts.has("values") {
                true => format!(
                    "column `{column}` has {} of {} values that are not {from}",
                    facts.number("values"),
                    facts.number("of")
                ),
                false => format!("column `{column}` has no value that is {from}"),
            };
            let first = Facts(&facts.0["first"]);
            match first.has("value") {
                true => {
                    format!("{what}, the first `{}` on line {}", first.text("value"), first.count("line"))
                }
                false => what,
            }
        }
        _ => return None,
    })
}

/// What speaks for two columns being one.
fn alike(alike: &Facts<'_>) -> String {
    let share = |name: &str| alike.0[name].as_f64().filter(|share| *share >= 0.3);
    let percent = |share: f64| format!("{:.0}%", share * 100.0);
    let words = match (share("values"), share("range")) {
        (Some(values), _) => format!("{} of the values known of the one are in the other", percent(values)),
        (_, Some(range)) => format!("{} of their values' range agrees", percent(range)),
        _ if alike.0["names"].as_f64().is_none_or(|names| names < 0.4) => {
            "its values are of the same kind".to_owned()
        }
        _ => "their names are alike".to_owned(),
    };
    if alike.is("place") { format!("it stands in the same place, and {words}") } else { words }
}

/// What else of a file's layout holds it.
fn of_layout(case: &str, facts: &Facts<'_>) -> Option<String> {
    let path = facts.text("path");
    Some(match case {
        "header_gone" => {
            "its header is gone: the first line is a row, and columns can only be told by their place"
                .to_owned()
        }
        "header_appeared" => {
            "it has a header, which the files before it had not: columns can only be told by their place"
                .to_owned()
        }
        "other_width" => format!(
            "{} columns instead of {}, and without a header nobody can say which",
            facts.count("now"),
            facts.count("before")
        ),
        "columns_moved" => format!(
            "{} hold other kinds of values than before, and without a header columns that changed places cannot be told",
            facts.names("columns", " and ")
        ),
        "renamed_part" => format!(
            "`{}` is gone and `{}` is new, with the same columns: probably a rename",
            facts.text("gone"),
            facts.text("new")
        ),
        "new_part" if facts.is("was_object") => {
            format!("`{path}` was an object until now and is a list here, which takes a table of its own")
        }
        "new_part" => format!("`{path}` is new in it, and takes a table of its own"),
        "missing_sheet" => format!("the sheet `{path}` is missing, which the files before it had"),
        "missing_keys" => format!(
            "{} of the {} keys that the table holds are not in it",
            facts.number("missing"),
            facts.number("keys")
        ),
        "changed_file" => "it has changed since it was loaded".to_owned(),
        "empty" => "it is empty".to_owned(),
        "unknown_layout" => {
            let share = match facts.count("common") {
                0 => "none".to_owned(),
                common => format!("only {common}"),
            };
            let what =
                format!("it has {share} of the {} columns of the files before it", facts.count("columns"));
            match facts.has("nearest") {
                true => format!("{what}; they are those of `{}`", facts.text("nearest")),
                false => format!("{what}: it may be of another feed"),
            }
        }
        _ => return None,
    })
}

/// Expectations that are not met.
fn unmet(case: &str, facts: &Facts<'_>) -> Option<String> {
    let column = facts.text("column");
    Some(match case {
        "too_few_rows" => format!("{}, at least {} expected", facts.rows("read"), facts.number("least")),
        "too_many_rows" => format!("{}, at most {} expected", facts.rows("read"), facts.number("most")),
        "unusual_rows" => format!(
            "{}, where this feed usually brings {} (the middle of the last {})",
            facts.rows("read"),
            facts.number("usual"),
            facts.count("files")
        ),
        "values" => format!(
            "`{column}`: {} in {}, first on line {}",
            facts.text("what"),
            facts.rows("rows"),
            facts.count("line")
        ),
        "truncated" => format!("it breaks off within its last record, on line {}", facts.number("line")),
        "unusual_values" => serde_json::from_value::<Unusual>(facts.0.clone()).ok()?.to_string(),
        "too_many_rejects" => format!(
            "{} of {} rejected, at most {} allowed",
            facts.number("rejected"),
            facts.rows("read"),
            facts.text("most")
        ),
        "unreadable_keys" => format!(
            "no key vanished from `{}`: the key of {} cannot be read",
            facts.text("table"),
            count::of(facts.count("rows"), "rejected row", "rejected rows")
        ),
        case => return of_control(case, facts),
    })
}

/// Control figures and digests that differ.
fn of_control(case: &str, facts: &Facts<'_>) -> Option<String> {
    let (column, companion) = (facts.text("column"), facts.text("companion"));
    let (stated, found) = (facts.text("stated"), facts.text("found"));
    Some(match case {
        "companion_unreadable" => format!("its companion {companion}: {}", facts.text("why")),
        "no_digest" => format!("its companion {companion} states no digest of it"),
        "other_digest" => format!("its companion {companion} says {stated}, its content has {found}"),
        "no_trailer" => "it has no trailer, where its control figures are expected".to_owned(),
        "too_few_figures" => {
            let found = count::of(facts.count("found"), "number", "numbers");
            let (line, expected) = (facts.text("line").trim(), facts.count("expected"));
            format!("{} has {found} (`{line}`), {expected} expected", facts.source())
        }
        "no_sum" => {
            format!("`{column}` is not a column of numbers in it, and {} gives its sum", facts.source())
        }
        "other_figure" => {
            let what = match facts.has("column") {
                true => format!("the sum of `{column}`"),
                false => "rows".to_owned(),
            };
            let differs = format!("{what}: {} says {stated}, the file holds {found}", facts.source());
            match facts.count("rejected") {
                0 => differs,
                rejected => format!("{differs}; {} rejected", count::rows(rejected)),
            }
        }
        _ => return None,
    })
}

/// Why a file failed that could be read.
fn failed(case: &str, facts: &Facts<'_>) -> Option<String> {
    let table = facts.text("table");
    Some(match case {
        "reserved_table" => {
            format!(
                "it would fill the table `{table}`, and names that begin with `{RESERVED}` are the ledger's"
            )
        }
        "too_many_columns" => format!(
            "{} columns; a table of {} holds {}, lineage columns included",
            facts.number("columns"),
            facts.text("database"),
            facts.number("most")
        ),
        "changed_while_read" => "it changed while it was read".to_owned(),
        "other_width" => format!(
            "{} columns, where the file before had {}: they cannot be matched by their place",
            facts.count("now"),
            facts.count("before")
        ),
        "takes_no_rows" if facts.is("by_trigger") => {
            format!("`{table}` is a view, and rows go into one in bulk only by an INSTEAD OF INSERT trigger")
        }
        "takes_no_rows" => format!("`{table}` is a view that takes no rows"),
        "not_offered" => format!("{} does not offer {}", facts.text("database"), facts.text("what")),
        "other_of_delivery" => "not loaded: another file of the same delivery failed or is held".to_owned(),
        "panicked" => format!("reading it failed unexpectedly: {}", facts.text("what")),
        "rows_not_found" => {
            format!(
                "it changed after it was loaded, and `{table}` has no lineage columns to find its rows by"
            )
        }
        _ => return None,
    })
}

/// Columns, parts and keys for which a file failed.
fn failed_columns(case: &str, facts: &Facts<'_>) -> Option<String> {
    let (column, path) = (facts.text("column"), facts.text("path"));
    let columns = || facts.texts("columns").join(", ");
    Some(match case {
        "no_key" => {
            let name = if path.is_empty() { "its rows".to_owned() } else { format!("`{path}`") };
            format!("mode `{}` tells rows apart by a key, and there is none for {name}", facts.text("mode"))
        }
        "no_part" => {
            let there = facts.texts("parts");
            let there = if there.is_empty() { "none".to_owned() } else { there.join(", ") };
            format!("no sheet or list `{path}`, which has a key of its own; there are {there}")
        }
        "no_order_column" => format!(
            "no column `{column}`, which says in which order files are or from when on rows hold; there are {}",
            columns()
        ),
        "no_moment" => format!(
            "`{column}` is {}, and says from when on a row holds: a date or a timestamp can",
            facts.text("type")
        ),
        "no_key_column" => format!("no column `{column}`, which is in the key; there are {}", columns()),
        "other_columns" => {
            let (unknown, required) = (facts.names("unknown", ", "), facts.names("required", ", "));
            let mut parts = Vec::new();
            if !unknown.is_empty() {
                parts.push(format!("the table has no {unknown}"));
            }
            if !required.is_empty() {
                parts.push(format!("the file has no {required}, which the table requires"));
            }
            parts.join("; ")
        }
        "rule" => {
            let why = facts.text("why");
            match (facts.has("why"), facts.is("keeps_rows")) {
                (false, _) => format!("rows are kept by the column `{column}`, which is not in it"),
                (true, true) => format!("{why}, by which rows are kept, as `{column}` is"),
                (true, false) => format!("{why}, which the column `{column}` is"),
            }
        }
        _ => return None,
    })
}

#[cfg(test)]
#[path = "reasons_tests.rs"]
mod tests;
