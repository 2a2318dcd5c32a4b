//! Places in the configuration: what all of them have in common. Where they are is in [`addresses`].

use std::path::Path;
use std::time::Duration;

use hypodoke_core::pattern::Pattern;
use hypodoke_places::{Completeness, Place, PutAway, SpoolSettings};

use super::addresses;
use super::expand::expand;
use super::measures::{size, span};
use super::reader::Section;
use crate::failure::Failure;

/// How much room the spool has, unless it is said: 2 GB.
const USUAL_ROOM: u64 = 2_000_000_000;

/// A place.
#[derive(Clone, Debug)]
pub struct PlaceSettings {
    /// Its name.
    pub name: String,
    /// Where it is.
    pub place: Place,
    /// When a file counts as complete.
    pub completeness: Completeness,
    /// Where files go once they are done with; unsaid, they are left as they are.
    pub put_away: Option<PutAway>,
    /// How often a watch looks at it, whether or not anything is heard of it.
    pub poll: Option<Duration>,
}

/// Reads `[spool]`.
pub fn spool(section: Option<Section<'_>>, base: &Path) -> Result<SpoolSettings, Failure> {
    let usual = base.join(".hypodoke-spool");
    let Some(mut section) = section else { return Ok(SpoolSettings { folder: usual, limit: USUAL_ROOM }) };
    let folder = match section.text("path")? {
        Some(path) => base.join(expand(&section, &path)?),
        None => usual,
    };
    let limit = match section.text("limit")? {
        Some(text) => size(&text.value).ok_or_else(|| {
            section.wrong(&text, format!("`{}` is not a size; write \"500MB\" or \"2GB\"", text.value))
        })?,
        None => USUAL_ROOM,
    };
    section.finish()?;
    Ok(SpoolSettings { folder, limit })
}

/// Reads `[place.NAME]`.
pub fn read(
    name: String,
    mut section: Section<'_>,
    base: &Path,
    spool: &SpoolSettings,
) -> Result<PlaceSettings, Failure> {
    let path = section.required("path", "\"inbox\"")?;
    let expanded = expand(&section, &path)?;
    let (quiet_for, poll) = (span(&mut section, "quiet_for")?, span(&mut section, "poll")?);
    let marker = section.text("marker")?;
    if let Some(marker) = marker.as_ref().filter(|marker| {
        marker.value.contains(['/', '\\'])
            || !(marker.value.contains("{file}") || marker.value.contains("{stem}"))
    }) {
        let what = "`marker` is the name of a file beside each: \"{file}.done\" or \"{stem}.ok\"";
        return Err(section.wrong(marker, what));
    }
    let put_away = put_away(&mut section)?;
    let completeness = Completeness { quiet_for, marker: marker.map(|marker| marker.value) };
    let ignored = ignored(&mut section)?;
    let within = span(&mut section, "modified_within")?;
    let moves = put_away.is_some();
    let place = match addresses::backend(&mut section, &path, &expanded, base, moves, spool.limit)? {
        Some(backend) => Place::remote(&name, backend, spool),
        None => Place::folder(&name, base.join(expanded)),
    };
    let place = place.ignoring(ignored);
    let place = match within {
        Some(within) => place.modified_within(within),
        None => place,
    };
    section.finish()?;
    Ok(PlaceSettings { name, place, completeness, put_away, poll })
}

/// Patterns of files that are never looked at.
fn ignored(section: &mut Section<'_>) -> Result<Vec<Pattern>, Failure> {
    let Some(list) = section.texts("ignore")? else { return Ok(Vec::new()) };
    let pattern = |text: &String| Pattern::parse(text).map_err(|why| section.wrong(&list, why));
    list.value.iter().map(pattern).collect()
}

fn put_away(section: &mut Section<'_>) -> Result<Option<PutAway>, Failure> {
    let moves = section.word("after", &[("leave", false), ("move", true)])?.unwrap_or_default();
    let mut folder = |key: &'static str| -> Result<String, Failure> {
        let Some(found) = section.text(key)? else { return Ok(key.to_owned()) };
        if !moves {
            return Err(section.wrong(&found, format!("`{key}` goes with after = \"move\"")));
        }
        let is_inside = !found.value.is_empty()
            && !found.value.starts_with('/')
            && found.value.split('/').all(|part| !matches!(part, "" | "." | ".."));
        if !is_inside {
            return Err(section.wrong(&found, format!("`{key}` is a folder within the place")));
        }
        Ok(found.value)
    };
    let (done, failed) = (folder("done")?, folder("failed")?);
    Ok(moves.then_some(PutAway { done, failed }))
}
