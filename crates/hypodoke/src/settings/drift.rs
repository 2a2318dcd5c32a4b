//! What a feed wants done about files that are not what they were, or not what is expected.

use hypodoke_core::drift::Policy;
use hypodoke_core::layout::{Otherwise, UnusualValues};

use super::reader::{Placed, Section};
use crate::failure::Failure;
use hypodoke_engine::job::{Control, Expectations, RejectLimit, RejectMaximum};

/// What may become of a file that is not as expected.
const OTHERWISE: [(&str, Otherwise); 3] =
    [("hold", Otherwise::Hold), ("fail", Otherwise::Fail), ("warn", Otherwise::Warn)];

/// What may become of a file with too many rejects.
const TOO_MANY: [(&str, Otherwise); 2] = [("hold", Otherwise::Hold), ("fail", Otherwise::Fail)];

/// Reads `[feed.NAME.drift]`.
pub fn policy(section: &mut Section<'_>) -> Result<Policy, Failure> {
    let Some(mut section) = section.only("drift")? else { return Ok(Policy::default()) };
    let policy = Policy {
        new_column: section.word("new_column", &Policy::NEW_COLUMN)?.unwrap_or_default(),
        missing_column: section.word("missing_column", &Policy::MISSING_COLUMN)?.unwrap_or_default(),
        missing_sheet: section.word("missing_sheet", &Policy::MISSING_SHEET)?.unwrap_or_default(),
        wider_type: section.word("wider_type", &Policy::WIDER_TYPE)?.unwrap_or_default(),
        other_kind: section.word("other_kind", &Policy::OTHER_KIND)?.unwrap_or_default(),
        other_layout: section.word("other_layout", &Policy::OTHER_LAYOUT)?.unwrap_or_default(),
        renamed_column: section.word("renamed_column", &Policy::RENAMED_COLUMN)?.unwrap_or_default(),
        header: section.word("header", &Policy::HEADER)?.unwrap_or_default(),
        ..Policy::default()
    };
    section.finish()?;
    Ok(policy)
}

/// Reads `[feed.NAME.expect]`.
pub fn expectations(section: &mut Section<'_>) -> Result<Expectations, Failure> {
    let Some(mut section) = section.only("expect")? else { return Ok(Expectations::default()) };
    let min_rows = section.count("min_rows")?;
    let max_rows = section.count("max_rows")?;
    if let (Some(least), Some(most)) = (&min_rows, &max_rows)
        && least.value > most.value
    {
        let what = format!("`max_rows` is {}, less than `min_rows`, {}", most.value, least.value);
        return Err(section.wrong(most, what));
    }
    let usual_rows = match section.text("usual_rows")? {
        Some(found) => Some(share(&found.value).ok_or_else(|| {
            section.wrong(
                &found,
                format!("`{}` is not a share; write how far a count may be off, \"50%\"", found.value),
            )
        })?),
        None => None,
    };
    let control = section.texts("control")?;
    let control_file = section.text("control_file")?;
    check_control(&section, control.as_ref(), control_file.as_ref())?;
    let rejected = section.scalar("rejected_rows")?;
    let too_many = section.word("beyond", &TOO_MANY)?.unwrap_or(Otherwise::Hold);
    let rejected_rows = match rejected {
        Some(found) => Some(RejectLimit { most: most(&section, &found)?, otherwise: too_many }),
        None => None,
    };
    let otherwise = section.word("otherwise", &OTHERWISE)?.unwrap_or(Otherwise::Hold);
    let cut_short = section.word("cut_short", &OTHERWISE)?.unwrap_or(Otherwise::Hold);
    let values = section.word("values", &UnusualValues::WORDS)?.unwrap_or_default();
    section.finish()?;
    Ok(Expectations {
        min_rows: min_rows.map(|rows| rows.value),
        max_rows: max_rows.map(|rows| rows.value),
        usual_rows,
        control: control.map_or_else(Vec::new, |words| words.value.into_iter().map(control_of).collect()),
        control_file: control_file.map(|file| file.value),
        otherwise,
        rejected_rows,
        values,
        cut_short,
        waived: false,
    })
}

/// Whether what is said of control figures goes together.
fn check_control(
    section: &Section<'_>,
    control: Option<&Placed<Vec<String>>>,
    control_file: Option<&Placed<String>>,
) -> Result<(), Failure> {
    let wants_digest = control.is_some_and(|words| words.value.iter().any(|word| word == "digest"));
    match (control_file, control) {
        (Some(found), None) => {
            let what = "`control_file` says where control figures are, and `control` what they are: control = [\"rows\"]";
            return Err(section.wrong(found, what));
        }
        (None, Some(found)) if wants_digest => {
            let what = "no file holds its own digest; say where it is: control_file = \"{file}.sha256\"";
            return Err(section.wrong(found, what));
        }
        _ => {}
    }
    if let Some(found) = control_file {
        if found.value.contains(['/', '\\']) {
            return Err(
                section.wrong(found, "`control_file` stands beside the file: a name, without folders")
            );
        }
        // One list may state the digests of all, by their names.
        if !found.value.contains("{file}") && !found.value.contains("{stem}") && !wants_digest {
            let what = "`control_file` names the companion of each file: \"{file}.ctl\" or \"{stem}.ctl\"";
            return Err(section.wrong(found, what));
        }
    }
    Ok(())
}

fn control_of(word: String) -> Control {
    match word.as_str() {
        "rows" => Control::Rows,
        "digest" => Control::Digest,
        _ => Control::Sum(word),
    }
}

fn most(section: &Section<'_>, found: &Placed<String>) -> Result<RejectMaximum, Failure> {
    if let Ok(rows) = found.value.parse() {
        return Ok(RejectMaximum::Rows(rows));
    }
    share(&found.value).map(RejectMaximum::Share).ok_or_else(|| {
        let what =
            format!("`{}` is not a limit; write a number of rows, 100, or a share, \"1%\"", found.value);
        section.wrong(found, what)
    })
}

/// Reads `1%` or `0.5 %` as a share of one.
fn share(text: &str) -> Option<f64> {
    let share: f64 = text.trim().strip_suffix('%')?.trim().parse().ok()?;
    (share.is_finite() && share >= 0.0).then_some(share / 100.0)
}
