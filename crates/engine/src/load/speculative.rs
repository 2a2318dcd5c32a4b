//! A large file for a table that is not there yet: loaded by what its beginning shows, while all of
//! its values are profiled beside it.
//!
//! Its types come from all the values all the same. What is loaded is only committed once the profile
//! of all of them has come to the very layout that was used; where it comes to another, the load is
//! interrupted and undone as soon as that is known, and begun again with what was found. That costs
//! less than a profile before each load: the profile is several times as quick as the database.

use hypodoke_stores::{StoreError, Tables};

use super::attempt::{Attempt, Ended, Strategy};
use super::pipeline::RefusedRecords;
use super::reconcile::{Reconciled, check_width, from_profile};
use super::request::{FileRequest, Loaded, NotLoaded};
use super::verification::{ConcludeOnDrop, Verification, agree};
use crate::error::EngineError;
use crate::event::{Event, Silent, Step};
use crate::isolate::helping;
use crate::job::Candidate;
use crate::plan::TargetState;
use crate::profile::{FileProfile, FormatHints, ProfileOptions, SMALL, Source, profile_file, threads};

/// Files smaller than this are profiled first: it takes no time.
const LARGE: u64 = 16 << 20;

/// How a speculative load ended.
pub enum Speculation {
    /// It was not made.
    NotMade,
    /// The file is loaded.
    Loaded(Box<Loaded>),
    /// It was undone; this is what the file holds.
    Undone(Box<FileProfile>),
}

/// What the beginning of a file shows.
struct Sample {
    profile: FileProfile,
    target: TargetState,
    reconciled: Reconciled,
}

/// Loads a file by its beginning, where the file is large and its table new.
///
/// # Errors
///
/// The file cannot be read or does not meet expectations, or the database does not take it.
pub fn load_by_sample(
    store: &mut dyn Tables,
    request: &FileRequest<'_>,
    target: &mut TargetState,
) -> Result<Speculation, NotLoaded> {
    let file = request.file;
    if !target.is_new() || !is_large(file) || threads() < 2 || request.sum_all {
        return Ok(Speculation::NotMade);
    }
    let Some(mut sample) = sampled(store, request, target)? else { return Ok(Speculation::NotMade) };
    let heads: Vec<_> = sample.reconciled.mappings.iter().map(|mapping| mapping.head.clone()).collect();
    let source = Source::open(file, request.feed, true, &heads, request.listener)?;
    let (path, bytes) = (file.shown.clone(), file.seen.arrival.bytes);
    request.listener.on(&Event::FileBegan { path, step: Step::Loading, bytes });
    if sample.profile.facts.is_declared {
        return load_declared(store, request, target, sample, source);
    }
    let verification = Verification::default();
    let (profile, ended) = std::thread::scope(|scope| {
        let profiling = scope.spawn(|| helping(|| profile_all(request, &sample.profile, &verification)));
        let strategy = Strategy::BySample(&verification);
        let refused = RefusedRecords::new();
        let attempt = Attempt { request, reconciled: &sample.reconciled, strategy, refused: &refused };
        let ended = attempt.run(store, &mut sample.target, source);
        (profiling.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)), ended)
    });
    match ended {
        Ok(Ended::Loaded(loaded)) => {
            *target = sample.target;
            Ok(Speculation::Loaded(loaded))
        }
        // What is wrong with a file that was understood is wrong with it however it is loaded.
        Err(NotLoaded::Failed(error)) if !verification.is_refuted() => Err(error.into()),
        // The profile of the values tells more than the database does.
        Ok(Ended::Surprised | Ended::Refused(_))
        | Err(NotLoaded::Store(StoreError::RowRefused { .. }) | NotLoaded::Failed(_)) => {
            Ok(Speculation::Undone(Box::new(profile?)))
        }
        Err(not_loaded) => Err(not_loaded),
    }
}

/// Loads a file that says itself what its columns are. There is nothing to be verified but that each value is
/// of its column's type, which is seen as it is cast; where one is not, all of them are profiled.
fn load_declared(
    store: &mut dyn Tables,
    request: &FileRequest<'_>,
    target: &mut TargetState,
    mut sample: Sample,
    source: Source<'_>,
) -> Result<Speculation, NotLoaded> {
    let refused = RefusedRecords::new();
    let (reconciled, strategy) = (&sample.reconciled, Strategy::ByLayout);
    let attempt = Attempt { request, reconciled, strategy, refused: &refused };
    match attempt.run(store, &mut sample.target, source) {
        Ok(Ended::Loaded(loaded)) => {
            *target = sample.target;
            Ok(Speculation::Loaded(loaded))
        }
        Ok(Ended::Surprised | Ended::Refused(_)) | Err(NotLoaded::Store(StoreError::RowRefused { .. })) => {
            let (hints, options) = (FormatHints::default(), ProfileOptions::whole());
            let profile = profile_file(request.file, request.feed, options, &hints, &Silent)?;
            Ok(Speculation::Undone(Box::new(profile)))
        }
        Err(not_loaded) => Err(not_loaded),
    }
}

/// Whether a file is loaded by its beginning: what says itself what its columns are, from a megabyte on.
pub fn is_large(file: &Candidate) -> bool {
    let least = if file.is_named_as_columnar() { SMALL } else { LARGE };
    file.seen.arrival.bytes >= least && !file.is_named_as_workbook()
}

/// What the beginning of a file shows, where it shows enough to load the file by.
fn sampled(
    store: &mut dyn Tables,
    request: &FileRequest<'_>,
    target: &TargetState,
) -> Result<Option<Sample>, NotLoaded> {
    let (file, feed) = (request.file, request.feed);
    // Whatever is the matter with its beginning, the profile of all of it tells better.
    let hints = FormatHints::default();
    let profiled = profile_file(file, feed, ProfileOptions::sample(), &hints, &Silent);
    let Ok(mut profile) = profiled else { return Ok(None) };
    let is_one_table = profile.tables.len() == 1 || profile.facts.is_declared;
    if !profile.facts.is_uniform || !is_one_table || profile.is_virtual {
        return Ok(None);
    }
    if profile.facts.is_declared {
        // Whether some value is null is not asked of all of them.
        profile.tables.iter_mut().for_each(|table| {
            table.layout.columns.iter_mut().for_each(|column| column.nullable = true);
        });
    }
    // What the beginning leaves open is a guess; the rest of the values may well tell.
    let mut decisions = profile.tables.iter().flat_map(|table| &table.decisions);
    if decisions.any(|decision| decision.ambiguity.is_some()) {
        return Ok(None);
    }
    let mut target = target.clone();
    target.add_profiles(store, feed, std::iter::once(&profile))?;
    let Ok(reconciled) = from_profile(store, request, &mut target, &mut profile) else { return Ok(None) };
    check_width(store, request, &reconciled.mappings)?;
    Ok(Some(Sample { profile, target, reconciled }))
}

/// Profiles all values, and tells whether they come to what the sample showed.
fn profile_all(
    request: &FileRequest<'_>,
    sample: &FileProfile,
    verification: &Verification,
) -> Result<FileProfile, EngineError> {
    let concluding = ConcludeOnDrop(verification);
    let hints = FormatHints::default();
    let profile = profile_file(request.file, request.feed, ProfileOptions::background(), &hints, &Silent);
    let confirmed = profile.as_ref().ok().filter(|profile| agree(sample, profile));
    concluding.0.conclude(confirmed.map(|profile| profile.layout().clone()));
    profile
}
