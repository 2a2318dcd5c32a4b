//! Archives of several files: each member is a candidate of its own.

use std::fs::File;
use std::io::Read;
use std::sync::Arc;

use hypodoke_formats::bytes::archive::{Archive, ArchiveMember, is_archive};
use hypodoke_places::PlaceError;

use crate::error::EngineError;
use crate::isolate::isolated;
use crate::job::{Candidate, Member};

/// Puts the members of an archive in its place, if the file is called one, is one, and has
/// more than one. An archive of one file is read as that file, whatever it is called.
///
/// # Errors
///
/// The file cannot be fetched, or is an archive that cannot be read.
pub fn unfold(file: Candidate) -> Result<Vec<Candidate>, EngineError> {
    if !file.seen.arrival.path.to_lowercase().ends_with(".zip") {
        return Ok(vec![file]);
    }
    let listed = isolated(|| list_members(&file));
    let listed = listed.unwrap_or_else(|reason| Err(EngineError::unloadable(&file.shown, reason)))?;
    let Some((archive, members)) = listed.filter(|(_, members)| members.len() > 1) else {
        return Ok(vec![file]);
    };
    let container = Arc::new(file.seen.clone());
    let one = |entry: ArchiveMember| {
        let mut inner = file.clone();
        inner.seen.arrival.path = format!("{}/{}", file.seen.arrival.path, entry.name);
        inner.seen.arrival.bytes = entry.bytes;
        inner.shown = format!("{}/{}", file.shown, entry.name);
        inner.member = Some(Member { container: container.clone(), archive: archive.clone(), entry });
        inner
    };
    Ok(members.into_iter().map(one).collect())
}

/// A file as an archive, with its members, if it is one.
fn list_members(file: &Candidate) -> Result<Option<(Archive, Vec<ArchiveMember>)>, EngineError> {
    let path = file.seen.fetched()?;
    let failed = |error| EngineError::from(PlaceError::of(&*path, error));
    let mut opened = File::open(&*path).map_err(failed)?;
    let mut head = Vec::with_capacity(4);
    (&mut opened).take(4).read_to_end(&mut head).map_err(failed)?;
    if !is_archive(&head) {
        return Ok(None);
    }
    let failed = |error| EngineError::reading(&file.shown, error);
    let archive = Archive::open(&path).map_err(failed)?;
    let members = archive.members().map_err(failed)?;
    Ok(Some((archive, members)))
}
