//! The first files of a feed: they are profiled before there is a table.

use super::file::check_digest;
use super::state::{Batch, PendingFeed, Profiled};
use crate::decide::{FileDecision, on_header};
use crate::error::EngineError;
use crate::event::Event;
use crate::file_format::FileFormat;
use crate::job::{Candidate, Feed};
use crate::load::is_large;
use crate::plan::{TargetState, conflicts};
use crate::profile::{
    FileProfile, FormatHints, MOST_KEPT, ProfileOptions, SMALL, profile_file, profile_files,
};

impl Batch<'_> {
    /// Profiles all files for a table that is not there yet, and joins their layouts before the first
    /// is loaded, so that their order does not matter.
    ///
    /// # Errors
    ///
    /// The database is unreachable.
    pub fn profile_first(
        &mut self,
        pending: &PendingFeed<'_>,
        target: &mut TargetState,
    ) -> Result<Vec<Profiled>, EngineError> {
        let (feed, files) = (pending.feed, &pending.new);
        if let [file] = files[..]
            && is_large(file)
        {
            return Ok(vec![None]);
        }
        let mut profiles = self.profile_each(feed, files);
        self.profile_again(feed, files, &mut profiles);
        let good = || {
            let both = files.iter().zip(&profiles);
            both.filter_map(|(file, profile)| Some((*file, profile.as_ref()?.as_ref().ok()?)))
        };
        for conflict in conflicts(feed, good()) {
            self.context.listener.on(&Event::ConflictFound { feed: pending.number, conflict });
        }
        target.add_profiles(self.store, feed, in_step(feed, good().map(|(_, profile)| profile)))?;
        Ok(profiles)
    }

    fn profile_each(&self, feed: &Feed, files: &[&Candidate]) -> Vec<Profiled> {
        let wanted: Vec<(&Candidate, &Feed)> = files.iter().map(|file| (*file, feed)).collect();
        let is_hashed = |at: usize| {
            let is_small = |file: &Candidate| file.seen.arrival.bytes < SMALL;
            files.get(at).is_some_and(|file| is_small(file) || file.is_named_as_workbook())
        };
        // What is not what its sender says it is has no say in the layout.
        let finish = |at: usize, profile: Result<FileProfile, EngineError>| {
            let is_as_sent = files.get(at).is_some_and(|file| check_digest(file, feed).is_ok());
            is_as_sent.then(|| profile.map(without_evidence))
        };
        profile_files(&wanted, is_hashed, MOST_KEPT, self.context.listener, finish)
    }

    /// Profiles files again of which others tell more: an object where other files have a list; `1.234`
    /// where others have `1.234,50`.
    fn profile_again(&self, feed: &Feed, files: &[&Candidate], profiles: &mut [Profiled]) {
        let good = || profiles.iter().flatten().flatten();
        let lists: Vec<String> = good().flat_map(|profile| profile.lists()).map(str::to_owned).collect();
        let mut sheets: Vec<String> =
            good().flat_map(|profile| profile.sheets()).map(str::to_owned).collect();
        sheets.sort();
        sheets.dedup();
        let hints = FormatHints::among(good()).with_lists(lists.clone()).with_sheets(sheets.clone());
        let is_told_more = |profile: &FileProfile| {
            profile.would_join(&lists)
                || !sheets.is_empty() && profile.is_single_sheet()
                || profile.tables.iter().any(|table| hints.is_broken_by(table))
        };
        for (profile, file) in profiles.iter_mut().zip(files) {
            if matches!(profile, Some(Ok(profile)) if is_told_more(profile)) {
                let again = profile_file(file, feed, ProfileOptions::whole(), &hints, self.context.listener);
                *profile = Some(again.map(without_evidence));
            }
        }
    }
}

/// Those files whose headers are like those of the files before them: the others will be held, and have no say
/// in the table.
fn in_step<'p>(
    feed: &Feed,
    profiles: impl Iterator<Item = &'p FileProfile>,
) -> impl Iterator<Item = &'p FileProfile> {
    let mut last: Option<FileFormat> = None;
    profiles.filter(move |profile| {
        let now = FileFormat::of(&profile.facts, profile.encoding, &profile.heads());
        let is_like =
            |last: &FileFormat| matches!(on_header(&now, last, &feed.policy), FileDecision::Load(_));
        let is_in_step = last.as_ref().is_none_or(is_like);
        if is_in_step {
            last = Some(now);
        }
        is_in_step
    })
}

/// The evidence has served its purpose once the layout is decided.
fn without_evidence(mut profile: FileProfile) -> FileProfile {
    profile.tables.iter_mut().for_each(|table| table.evidence = Default::default());
    profile
}
