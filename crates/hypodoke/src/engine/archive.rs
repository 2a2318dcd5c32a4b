//! Archives of several files: each member is a candidate of its own.

use std::fs::File;
use std::io::Read;

use hypodoke_formats::bytes::archive::{is_archive, members};
use hypodoke_places::PlaceError;

use super::Candidate;
use crate::failure::Failure;

/// Puts the members of an archive in its place, if the file is called one, is one, and has
/// more than one. An archive of one file is read as that file, whatever it is called.
pub fn unfold(file: Candidate) -> Result<Vec<Candidate>, Failure> {
    if !file.seen.arrival.path.to_lowercase().ends_with(".zip") {
        return Ok(vec![file]);
    }
    let path = file.seen.fetched()?;
    let mut opened = File::open(&*path).map_err(|error| PlaceError::of(&*path, error))?;
    let mut head = [0; 4];
    if opened.read(&mut head).map_err(|error| PlaceError::of(&*path, error))? < 4 || !is_archive(&head) {
        return Ok(vec![file]);
    }
    let members = members(opened).map_err(|error| Failure::reading(&file.shown, &error))?;
    if members.len() == 1 {
        return Ok(vec![file]);
    }
    let one = |member: hypodoke_formats::bytes::archive::Member| {
        let mut inner = file.clone();
        inner.seen.arrival.path = format!("{}/{}", file.seen.arrival.path, member.name);
        inner.seen.arrival.bytes = member.bytes;
        inner.shown = format!("{}/{}", file.shown, member.name);
        inner.member = Some(member);
        inner
    };
    Ok(members.into_iter().map(one).collect())
}
