//! Archives of several files: each member is a candidate of its own.

use std::fs::File;
use std::io::Read;

use hypodoke_formats::bytes::archive::{ArchiveMember, is_archive, members};
use hypodoke_places::PlaceError;

use crate::error::EngineError;
use crate::isolate::isolated;
use crate::job::Candidate;

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
    let members = listed.unwrap_or_else(|reason| Err(EngineError::unloadable(&file.shown, reason)))?;
    if members.len() == 1 {
        return Ok(vec![file]);
    }
    let one = |member: ArchiveMember| {
        let mut inner = file.clone();
        inner.seen.arrival.path = format!("{}/{}", file.seen.arrival.path, member.name);
        inner.seen.arrival.bytes = member.bytes;
        inner.shown = format!("{}/{}", file.shown, member.name);
        inner.member = Some(member);
        inner
    };
    Ok(if members.is_empty() { vec![file] } else { members.into_iter().map(one).collect() })
}

/// The members of a file that is an archive; none of one that is not.
fn list_members(file: &Candidate) -> Result<Vec<ArchiveMember>, EngineError> {
    let path = file.seen.fetched()?;
    let failed = |error| EngineError::from(PlaceError::of(&*path, error));
    let mut opened = File::open(&*path).map_err(failed)?;
    let mut head = Vec::with_capacity(4);
    (&mut opened).take(4).read_to_end(&mut head).map_err(failed)?;
    if !is_archive(&head) {
        return Ok(Vec::new());
    }
    members(opened).map_err(|error| EngineError::reading(&file.shown, error))
}
