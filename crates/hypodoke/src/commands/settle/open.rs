//! Files that wait for a decision: which they are, which of them are meant, and why they wait.

use hypodoke_core::drift::Remedy;
use hypodoke_core::outcome::{Outcome, has_code};
use hypodoke_core::pattern::Pattern;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::decide::{HELD_EMPTY, Settlement};
use hypodoke_engine::maintain::{Effect, as_it_was_held, failed_files, held_files, settlement_effect};
use hypodoke_engine::sources::Finder;
use hypodoke_stores::{FileEntry, Ledger, Tables};

use crate::failure::Failure;
use crate::render::settle::HeldGroup;
use crate::settings::Settings;
use crate::settings::reader::suggest;
use crate::wording::reasons;

/// Files that wait for a decision.
pub struct OpenFiles {
    /// Those that are held, the oldest first.
    pub held: Vec<FileEntry>,
    /// Those that failed.
    pub failed: Vec<FileEntry>,
}

impl OpenFiles {
    /// Those of a ledger.
    ///
    /// # Errors
    ///
    /// The ledger cannot be read.
    pub fn of(store: &mut dyn Ledger) -> Result<OpenFiles, Failure> {
        Ok(OpenFiles { held: held_files(store)?, failed: failed_files(store)? })
    }

    /// The files that are meant by a path or the end of one, a pattern, or the name of a feed or table.
    ///
    /// # Errors
    ///
    /// None is, or a single name may be any of several.
    pub fn pick(&self, wanted: &str, settings: Option<&Settings>) -> Result<Vec<&FileEntry>, Failure> {
        let all = || self.held.iter().chain(&self.failed);
        let whole = std::path::Path::new(wanted).canonicalize().ok();
        let whole = whole.as_ref().map(|path| hypodoke_places::path_text(path.as_os_str()));
        let exactly = |entry: &&FileEntry| {
            entry.arrival.path == wanted || whole.as_deref() == Some(entry.arrival.path.as_str())
        };
        let found: Vec<&FileEntry> = all().filter(exactly).collect();
        if !found.is_empty() {
            return Ok(found);
        }
        let is_of = |entry: &&FileEntry| {
            entry.feed.as_deref() == Some(wanted) || entry.table.as_deref() == Some(wanted)
        };
        let of_feed: Vec<&FileEntry> = self.held.iter().filter(is_of).collect();
        if !of_feed.is_empty() {
            return Ok(of_feed);
        }
        if wanted.contains(['*', '?', '[', '{']) {
            return self.by_pattern(wanted);
        }
        let ends = |entry: &&FileEntry| entry.arrival.path.ends_with(&format!("/{wanted}"));
        match &all().filter(ends).collect::<Vec<_>>()[..] {
            [one] => Ok(vec![*one]),
            [] => Err(self.none(wanted, settings)),
            several => {
                let there: Vec<String> = several.iter().map(|entry| clean(&entry.arrival.path)).collect();
                Err(Failure::usage(format!("`{}` may be any of {}", clean(wanted), there.join(", ")))
                    .advise("name more of its path"))
            }
        }
    }

    fn by_pattern(&self, wanted: &str) -> Result<Vec<&FileEntry>, Failure> {
        let pattern = Pattern::parse(wanted).map_err(Failure::usage)?;
        let anywhere = Pattern::parse(&format!("**/{wanted}")).map_err(Failure::usage)?;
        let fits = |entry: &&FileEntry| {
            let path = entry.arrival.path.as_str();
            pattern.matches(path).is_some() || anywhere.matches(path).is_some()
        };
        let found: Vec<&FileEntry> = self.held.iter().filter(fits).collect();
        if found.is_empty() { Err(self.none(wanted, None)) } else { Ok(found) }
    }

    fn none(&self, wanted: &str, settings: Option<&Settings>) -> Failure {
        let paths = || self.held.iter().map(|entry| entry.arrival.path.as_str());
        let there = crate::render::paths::some(paths().collect::<Vec<_>>().into_iter(), 5);
        let there = if there.is_empty() { "nothing".to_owned() } else { there };
        let is_feed = settings.is_some_and(|settings| settings.feeds.iter().any(|feed| feed.name == wanted));
        let what = match is_feed {
            true => format!("no file of the feed `{}` is held; held is {there}", clean(wanted)),
            false => format!("no file `{}` is held; held is {there}", clean(wanted)),
        };
        let names: Vec<&str> = paths().collect();
        let failure = suggest(Failure::usage(what), wanted, &names);
        match failure.advice {
            Some(_) => failure,
            None => {
                failure.advise("`hypodoke load` says what became of it; a load that fits needs no decision")
            }
        }
    }

    /// The files in groups that wait for the same reason. What can be decided about the first of each is found
    /// out anew.
    ///
    /// # Errors
    ///
    /// The database does not answer.
    pub fn groups(&self, store: &mut dyn Tables, settings: Option<&Settings>) -> Vec<HeldGroup<'_>> {
        let mut groups: Vec<(String, Vec<&FileEntry>)> = Vec::new();
        for entry in self.held.iter().chain(&self.failed) {
            let case = case_of(entry);
            let key = format!("{:?} {:?} {} {case}", entry.feed, entry.table, entry.outcome.word());
            match groups.iter_mut().find(|(known, _)| *known == key) {
                Some((_, files)) => files.push(entry),
                None => groups.push((key, vec![entry])),
            }
        }
        let mut finder = Finder::new(settings.map(Settings::job));
        let mut found = Vec::new();
        for (_, files) in groups {
            let Some(first) = files.first().copied() else { continue };
            let of_feed = |entry: &&FileEntry| entry.feed == first.feed && entry.table == first.table;
            let is_whole_feed =
                first.feed.is_some() && self.held.iter().filter(of_feed).count() == files.len();
            found.push(HeldGroup {
                why: reasons::lines_of_entry(first),
                remedies: remedies(store, &mut finder, first),
                is_whole_feed: is_whole_feed && first.outcome == Outcome::Held,
                files,
            });
        }
        found
    }
}

/// Facts that differ from file to file where the reason is the same.
const OF_ONE_FILE: [&str; 7] = ["alike", "before", "cause", "first", "line", "now", "why"];

/// What files have in common that wait for the same reason: its codes, and the names among its facts. Entries of
/// an earlier ledger have a sentence only.
fn case_of(entry: &FileEntry) -> String {
    if entry.reasons.is_empty() {
        return entry.message.clone().unwrap_or_default();
    }
    let mut case = String::new();
    for reason in &entry.reasons {
        case.push_str(&reason.code);
        let facts = reason.facts.as_object().into_iter().flatten();
        for (name, fact) in
            facts.filter(|(name, fact)| !OF_ONE_FILE.contains(&name.as_str()) && !fact.is_number())
        {
            case.push_str(&format!(" {name}={fact}"));
        }
        case.push('\n');
    }
    case
}

/// What can be decided about a file, the likeliest first.
fn remedies(store: &mut dyn Tables, finder: &mut Finder, entry: &FileEntry) -> Vec<Remedy> {
    if entry.outcome != Outcome::Held || has_code(&entry.reasons, HELD_EMPTY) {
        return vec![Remedy::Discard];
    }
    // A file that is gone or has changed is looked at anew by the next load.
    let found = finder.find(entry).ok().and_then(|found| as_it_was_held(entry, found).ok());
    let Some(found) = found else { return vec![Remedy::Discard] };
    match settlement_effect(store, &found, &Settlement::default()) {
        Ok(Effect::StillHeld(reasons)) => {
            let first = reasons.iter().filter_map(|reason| reason.remedies().into_iter().next());
            let rest = reasons.iter().flat_map(|reason| reason.remedies().into_iter().skip(1));
            let mut all: Vec<Remedy> = Vec::new();
            for remedy in first.chain(rest) {
                if !all.contains(&remedy) {
                    all.push(remedy);
                }
            }
            all
        }
        // What decided about the content of a file before it is read has no other ways out.
        _ => vec![Remedy::LoadAnyway, Remedy::Discard],
    }
}
