//! What a feed expects of its files, and what of it a file does not meet.

use std::path::Path;

use hypodoke_core::cast::Unmet;
use hypodoke_core::drift::{Hold, WayOut};
use hypodoke_core::layout::Otherwise;
use hypodoke_core::spelling::number::read;
use hypodoke_core::spelling::{Number, NumberStyle};
use hypodoke_core::types::Unit;
use hypodoke_places::{Digest, PlaceError, beside};

use super::Candidate;
use crate::render::count;

/// Files that a feed has brought before it is known what is usual.
const USUAL_FROM: usize = 5;

/// The most of a companion file that is read, in bytes.
const MOST_OF_COMPANION: u64 = 64 * 1024;

/// What a feed expects.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Expectations {
    /// The fewest records of a file.
    pub min_rows: Option<u64>,
    /// The most.
    pub max_rows: Option<u64>,
    /// How far a count may be from the usual, as a share of it.
    pub usual_rows: Option<f64>,
    /// What the numbers of the control line are, in order; empty where there is none.
    pub control: Vec<Control>,
    /// The companion file that holds them, `{file}` for the file's name; unsaid, the file's trailer.
    pub control_file: Option<String>,
    /// What becomes of a file that does not meet these.
    pub otherwise: Otherwise,
    /// How many rejects are too many.
    pub rejected_rows: Option<RejectLimit>,
    /// A person has decided to load the file whatever is wrong with it.
    pub waived: bool,
}

/// What a number of a control line says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Control {
    /// How many records there are.
    Rows,
    /// The sum of a column, by its name in the file or the table.
    Sum(String),
    /// The digest of the file as it was sent. It is no number of the line, and stands anywhere in
    /// the companion file.
    Digest,
}

/// How many rejects of a file are too many.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct RejectLimit {
    /// More than this are too many.
    pub most: Most,
    /// The file is held, or it fails.
    pub otherwise: Otherwise,
}

/// So many, or a share.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Most {
    /// So many rows.
    Rows(u64),
    /// A share of the records read, 0 to 1.
    Share(f64),
}

/// What came of a file, as far as expectations ask.
pub struct Facts<'a> {
    /// Records read.
    pub read: u64,
    /// Records rejected.
    pub rejected: u64,
    /// The sums of the columns that the control line names, in its order; `None` for counts of rows.
    pub sums: &'a [Option<Number>],
    /// The lines after the table.
    pub footer: &'a [String],
    /// What values did not meet, with what is to become of it.
    pub unmet: &'a [(Unmet, Otherwise)],
    /// How many records the files before had.
    pub before: &'a [u64],
}

/// What is not met.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Shortfall {
    /// Why the file is held.
    pub holds: Vec<Hold>,
    /// Why it fails.
    pub failures: Vec<String>,
    /// What is only said.
    pub warnings: Vec<String>,
}

impl Shortfall {
    fn add(&mut self, otherwise: Otherwise, what: String) {
        match otherwise {
            Otherwise::Fail => self.failures.push(what),
            Otherwise::Warn => self.warnings.push(what),
            Otherwise::Hold | Otherwise::Reject => {
                self.holds.push(Hold { why: what, ways: vec![WayOut::LoadAnyway] })
            }
        }
    }
}

impl Expectations {
    /// Holds a file against what is expected.
    pub fn of(&self, file: &Candidate, facts: &Facts<'_>) -> Shortfall {
        let mut short = Shortfall::default();
        let rows = |count: u64| count::rows(count);
        let otherwise = |otherwise: Otherwise| if self.waived { Otherwise::Warn } else { otherwise };
        let usual = otherwise(self.otherwise);
        if let Some(least) = self.min_rows.filter(|least| facts.read < *least) {
            short.add(usual, format!("{}, at least {} expected", rows(facts.read), count::number(least)));
        }
        if let Some(most) = self.max_rows.filter(|most| facts.read > *most) {
            short.add(usual, format!("{}, at most {} expected", rows(facts.read), count::number(most)));
        }
        if let Some(what) = self.usual_rows.and_then(|share| unusual(facts.read, facts.before, share)) {
            short.add(usual, what);
        }
        for what in self.against_control(file, facts) {
            short.add(usual, what);
        }
        for (unmet, wanted) in facts.unmet {
            let what = format!(
                "`{}`: {} in {}, first on line {}",
                unmet.column,
                unmet.what,
                rows(unmet.rows),
                unmet.line
            );
            short.add(otherwise(*wanted), what);
        }
        if let Some(limit) = self.rejected_rows
            && let Some(most) = limit.exceeded(facts)
        {
            let what = format!(
                "{} of {} rejected, at most {most} allowed",
                count::number(facts.rejected),
                rows(facts.read)
            );
            short.add(otherwise(limit.otherwise), what);
        }
        short
    }

    /// Holds a file against the digest that its sender states, before any of it is loaded.
    pub fn against_digest(&self, file: &Candidate) -> Result<Shortfall, PlaceError> {
        let mut short = Shortfall::default();
        let Some(pattern) = self.control_file.as_ref().filter(|_| self.control.contains(&Control::Digest))
        else {
            return Ok(short);
        };
        let sent = file.container();
        let name = beside(&sent.arrival.path, pattern);
        let what = match read_companion(file, pattern) {
            Err(why) => Some(format!("its companion {name}: {why}")),
            Ok(text) => match Digest::stated(&text, sent.arrival.file_name()) {
                None => Some(format!("its companion {name} states no digest of it")),
                Some(stated) => {
                    let fetched = file.seen.fetched()?;
                    let found = stated.of_file(&fetched).map_err(|error| PlaceError::of(&*fetched, error))?;
                    let unlike = || format!("its companion {name} says {stated}, its content has {found}");
                    (found != stated).then(unlike)
                }
            },
        };
        if let Some(what) = what {
            short.add(if self.waived { Otherwise::Warn } else { self.otherwise }, what);
        }
        Ok(short)
    }

    fn against_control(&self, file: &Candidate, facts: &Facts<'_>) -> Vec<String> {
        let figures_wanted = self.control.iter().filter(|control| **control != Control::Digest).count();
        if figures_wanted == 0 {
            return Vec::new();
        }
        let (line, whence) = match &self.control_file {
            Some(pattern) => {
                let name = beside(&file.container().arrival.path, pattern);
                match read_companion(file, pattern) {
                    Ok(text) => (Digest::taken_out(&text), format!("its companion {name}")),
                    Err(why) => return vec![format!("its companion {name}: {why}")],
                }
            }
            None => match facts.footer.last() {
                Some(line) => (line.clone(), "its trailer".to_owned()),
                None => return vec!["it has no trailer, where its control figures are expected".to_owned()],
            },
        };
        let figures = numbers(&line);
        if figures.len() < figures_wanted {
            let found = count::of(figures.len() as u64, "number", "numbers");
            return vec![format!("{whence} has {found} (`{}`), {figures_wanted} expected", line.trim())];
        }
        let mut stated = figures[figures.len() - figures_wanted..].iter();
        let mut wrong = Vec::new();
        for (control, sum) in self.control.iter().zip(facts.sums) {
            let (name, found) = match (control, sum) {
                (Control::Digest, _) => continue,
                (Control::Rows, _) => {
                    ("rows".to_owned(), Number { mantissa: i128::from(facts.read), scale: 0 })
                }
                (Control::Sum(column), Some(sum)) => (format!("the sum of `{column}`"), *sum),
                (Control::Sum(column), None) => {
                    wrong.push(format!(
                        "`{column}` is no column of numbers in it, and {whence} gives its sum"
                    ));
                    stated.next();
                    continue;
                }
            };
            let Some(stated) = stated.next() else { break };
            if !stated.contains(&found) {
                let stated = stated[0];
                let rejects = match facts.rejected {
                    0 => String::new(),
                    some => format!("; {} rejected", count::rows(some)),
                };
                wrong.push(format!("{name}: {whence} says {stated}, the file holds {found}{rejects}"));
            }
        }
        wrong
    }
}

impl RejectLimit {
    /// The limit in words, where it is exceeded.
    fn exceeded(self, facts: &Facts<'_>) -> Option<String> {
        match self.most {
            Most::Rows(most) => (facts.rejected > most).then(|| count::number(most)),
            Most::Share(share) => {
                let most = facts.read as f64 * share;
                (facts.rejected as f64 > most).then(|| format!("{}%", share * 100.0))
            }
        }
    }
}

/// What is unusual about a number of rows.
fn unusual(read: u64, before: &[u64], share: f64) -> Option<String> {
    if before.len() < USUAL_FROM {
        return None;
    }
    let mut sorted = before.to_vec();
    sorted.sort_unstable();
    let median = sorted[sorted.len() / 2];
    let far = (read as f64 - median as f64).abs() > median as f64 * share;
    far.then(|| {
        format!(
            "{}, where this feed usually brings {} (the middle of the last {})",
            count::rows(read),
            count::number(median),
            before.len()
        )
    })
}

/// The numbers in a line, in order: each as all the ways of writing numbers read it, since
/// `1,204` is one thing to some and another to others.
fn numbers(line: &str) -> Vec<Vec<Number>> {
    let parts = line.split(|c: char| !(c.is_ascii_digit() || ".,-'".contains(c)));
    let readings = |text: &str| {
        let text = text.trim_matches(|c: char| ".,'".contains(c));
        let mut found: Vec<Number> = Vec::new();
        for number in
            NumberStyle::ALL.into_iter().filter_map(|style| read(text.as_bytes(), style, Unit::Bare))
        {
            if !found.contains(&number) {
                found.push(number);
            }
        }
        found
    };
    let all = parts.filter(|part| part.bytes().any(|b| b.is_ascii_digit())).map(readings);
    all.filter(|found| !found.is_empty()).collect()
}

/// Reads the companion of a file: beside it, or fetched from the server that it stands on.
fn read_companion(file: &Candidate, pattern: &str) -> Result<String, String> {
    let Some(control) = &file.control else {
        if file.seen.remote.is_some() {
            return Err("it is not there".to_owned());
        }
        let name = file.seen.file.file_name().map(|name| name.to_string_lossy().into_owned());
        return read_text(&file.seen.file.with_file_name(beside(&name.unwrap_or_default(), pattern)));
    };
    too_many(control.arrival.bytes)?;
    let text = control.fetched().map_err(|error| error.to_string()).and_then(|fetched| read_text(&fetched));
    control.release();
    text
}

fn read_text(path: &Path) -> Result<String, String> {
    too_many(std::fs::metadata(path).map_err(|error| error.to_string())?.len())?;
    let bytes = std::fs::read(path).map_err(|error| error.to_string())?;
    Ok(String::from_utf8_lossy(&bytes).into_owned())
}

fn too_many(bytes: u64) -> Result<(), String> {
    match bytes {
        0..=MOST_OF_COMPANION => Ok(()),
        _ => Err(format!("{bytes} bytes are too many for control figures")),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("TRL;120;5341.50", &["120", "5341.50"])]
    #[case("Total rows: 1,204.", &["1.204 or 1204"])]
    #[case("Summe 12 1.234,5", &["12", "1234.5"])]
    #[case("end", &[])]
    #[case("balance -7", &["-7"])]
    fn numbers_of_a_line_are_read(#[case] line: &str, #[case] expected: &[&str]) {
        let words = |readings: &Vec<Number>| {
            let mut all: Vec<String> = readings.iter().map(Number::to_string).collect();
            all.sort();
            all.join(" or ")
        };
        let found: Vec<String> = numbers(line).iter().map(words).collect();
        assert_eq!(found, expected);
    }

    #[rstest]
    #[case(100, &[100, 101, 99, 100, 98], 0.5, false)]
    #[case(40, &[100, 101, 99, 100, 98], 0.5, true)]
    #[case(160, &[100, 101, 99, 100, 98], 0.5, true)]
    #[case(1, &[100, 100], 0.5, false)]
    fn a_count_far_from_the_usual_is_told(
        #[case] read: u64,
        #[case] before: &[u64],
        #[case] share: f64,
        #[case] told: bool,
    ) {
        assert_eq!(unusual(read, before, share).is_some(), told);
    }
}
