//! The load of one file.
//!
//! A file whose tables are known is cast by their layouts as it is read, once. Only a value that a
//! column's type does not hold, or a column nobody has seen, undoes that load and has the file
//! profiled first.

use hypodoke_formats::TableHead;
use hypodoke_stores::{StoreError, Tables};

use super::attempt::{Attempt, Ended, Strategy};
use super::pipeline::RefusedRecords;
use super::reconcile::{
    Reconciled, check_width, format_drift, format_of, from_header, from_profile, rename_parts,
};
use super::request::{FileRequest, HeldFile, Loaded, NotLoaded};
use super::speculative::{Speculation, load_by_sample};
use crate::decide::{FailReason, on_capabilities};
use crate::error::EngineError;
use crate::event::{Event, Step};
use crate::isolate::isolated;
use crate::plan::TargetState;
use crate::profile::{FileProfile, ProfileOptions, Source, profile_file};

/// Loads one file. A panic of a reader or a library fails this file, and nothing of it is kept.
///
/// `profile` is what is known of its values, where they were profiled already. The tables in
/// `target` are known from now on as the file left them.
///
/// # Errors
///
/// Why the file is not loaded.
pub fn load_file(
    store: &mut dyn Tables,
    request: &FileRequest<'_>,
    target: &mut TargetState,
    profile: Option<FileProfile>,
) -> Result<Loaded, NotLoaded> {
    let loaded =
        isolated(|| FileLoad { store, request, refused: RefusedRecords::new() }.run(target, profile));
    loaded.unwrap_or_else(|reason| {
        // What the file had come to before the panic was not kept.
        target.refresh(store, request.feed)?;
        Err(NotLoaded::failed(request.file, reason))
    })
}

struct FileLoad<'a, 'r> {
    store: &'a mut dyn Tables,
    request: &'a FileRequest<'r>,
    /// Records some part of which the database has refused.
    refused: RefusedRecords,
}

impl<'r> FileLoad<'_, 'r> {
    fn run(mut self, target: &mut TargetState, profile: Option<FileProfile>) -> Result<Loaded, NotLoaded> {
        let (feed, offered) = (self.request.feed, self.store.capabilities());
        let decision = on_capabilities(feed.mode, 1, &offered, &self.store.shown());
        NotLoaded::by(decision, self.request.file, HeldFile::default)?;
        let mut profile = profile;
        if profile.is_none() {
            match load_by_sample(self.store, self.request, target)? {
                Speculation::Loaded(loaded) => return Ok(*loaded),
                Speculation::Undone(found) => profile = Some(*found),
                Speculation::NotMade => {}
            }
        }
        if profile.is_none()
            && let Some(loaded) = self.by_header(target)?
        {
            return Ok(loaded);
        }
        let profile = match profile {
            Some(profile) => profile,
            None => self.profile(target)?,
        };
        self.by_profile(target, profile)
    }

    /// Loads the file by its header and the tables' layouts; `None` if its values have to be profiled
    /// first.
    fn by_header(&mut self, target: &mut TargetState) -> Result<Option<Loaded>, NotLoaded> {
        let source = self.open(&target.known_heads(self.request.file, self.request.feed))?;
        let Some(mut reconciled) = from_header(self.request, target, &source)? else { return Ok(None) };
        check_width(self.store, self.request, &reconciled.mappings)?;
        if let Some(main) = reconciled.mappings.first_mut() {
            main.drift.extend(format_drift(target, &format_of(&source)));
        }
        self.tell_loading();
        match self.attempt(target, &reconciled, source, Strategy::ByLayout) {
            Ok(Ended::Loaded(loaded)) => Ok(Some(*loaded)),
            // The profile of the values tells more than the database does.
            Ok(Ended::Surprised | Ended::Refused(_))
            | Err(NotLoaded::Store(StoreError::RowRefused { .. })) => Ok(None),
            Err(not_loaded) => Err(not_loaded),
        }
    }

    fn by_profile(
        &mut self,
        target: &mut TargetState,
        mut profile: FileProfile,
    ) -> Result<Loaded, NotLoaded> {
        let (file, feed) = (self.request.file, self.request.feed);
        if target.lacks_layout() {
            target.add_profiles(self.store, feed, std::iter::once(&profile))?;
        }
        rename_parts(self.request, &mut profile);
        let reconciled = from_profile(self.store, self.request, target, &mut profile)?;
        check_width(self.store, self.request, &reconciled.mappings)?;
        self.tell_loading();
        let heads: Vec<_> = reconciled.mappings.iter().map(|mapping| mapping.head.clone()).collect();
        let source = match Source::cached(file, feed, &mut profile) {
            Some(source) => {
                let (path, bytes) = (file.shown.as_str().into(), file.seen.arrival.bytes);
                self.request.listener.on(&Event::Progress { path, bytes });
                source
            }
            None => self.open(&heads)?,
        };
        let mut ended = self.attempt(target, &reconciled, source, Strategy::ByProfile);
        if let Err(NotLoaded::Store(StoreError::RowRefused { .. })) = &ended {
            // Some row is one that the database will not have: which one, shows in small lots.
            let source = self.open(&heads)?;
            ended = self.attempt(target, &reconciled, source, Strategy::InSmallLots);
        }
        // A record some part of which the database refuses is rejected whole: the file is loaded without it.
        while let Ok(Ended::Refused(more)) = ended {
            self.refused.extend(more);
            let source = self.open(&heads)?;
            ended = self.attempt(target, &reconciled, source, Strategy::InSmallLots);
        }
        match ended? {
            Ended::Loaded(loaded) => Ok(*loaded),
            Ended::Refused(_) | Ended::Surprised => {
                Err(NotLoaded::failed(file, FailReason::ChangedWhileRead))
            }
        }
    }

    fn attempt(
        &mut self,
        target: &mut TargetState,
        reconciled: &Reconciled,
        source: Source<'_>,
        strategy: Strategy<'_>,
    ) -> Result<Ended, NotLoaded> {
        let (request, refused) = (self.request, &self.refused);
        Attempt { request, reconciled, strategy, refused }.run(self.store, target, source)
    }

    fn open(&self, known: &[TableHead]) -> Result<Source<'r>, EngineError> {
        Source::open(self.request.file, self.request.feed, true, known, self.request.listener)
    }

    fn profile(&self, target: &TargetState) -> Result<FileProfile, EngineError> {
        let FileRequest { file, feed, listener, .. } = self.request;
        let mut heads = target.known_heads(file, feed).into_iter();
        let main = heads.next().unwrap_or_default();
        let (lists, sheets): (Vec<_>, Vec<_>) = heads.partition(|head| head.is_child);
        let paths = |heads: Vec<TableHead>| heads.into_iter().map(|head| head.path);
        let hints = target
            .hints()
            .with_objects(main.objects)
            .with_width(main.width)
            .with_lists(paths(lists))
            .with_sheets(paths(sheets));
        profile_file(file, feed, ProfileOptions::before_load(), &hints, *listener)
    }

    fn tell_loading(&self) {
        let file = self.request.file;
        let (path, bytes) = (file.shown.clone(), file.seen.arrival.bytes);
        self.request.listener.on(&Event::FileBegan { path, step: Step::Loading, bytes });
    }
}
