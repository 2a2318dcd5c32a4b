//! Files that are named by a web address of any kind, or by a place of the configuration, instead of by
//! a path of this machine.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use hypodoke_engine::discover::{NamedAs, NamedFiles, files_of_place, named_files};
use hypodoke_engine::job::InternalFiles;
use hypodoke_places::http::{HttpAddress, HttpBackend};
#[cfg(feature = "objects")]
use hypodoke_places::objects::{ObjectsAddress, ObjectsBackend};
use hypodoke_places::sftp::{SftpAddress, SftpBackend};
use hypodoke_places::{Backend, Place, SpoolSettings};
use tempfile::TempDir;

use super::context::Context;
use crate::failure::Failure;
use crate::settings::Settings;

/// The most that is fetched at a time of files that no configuration is about, in bytes.
const ROOM: u64 = 8_000_000_000;

/// Files that were named, and where they are fetched to as long as this is held.
#[derive(Default)]
pub struct Named {
    /// The files.
    pub files: NamedFiles,
    /// Where all of them are, if that is one place that is not a folder of this machine: as it is written in
    /// a configuration.
    pub place: Option<String>,
    _spools: Vec<TempDir>,
}

/// What is behind an address of an object store, and which file or folder in it is meant.
type InStore = (Arc<dyn Backend>, String);

/// A place that was named on the spot.
struct OnTheSpot {
    place: Place,
    written: String,
    spool: Option<TempDir>,
}

/// Whether an argument is an address of a server or a store, and not a path.
pub fn is_address(argument: &Path) -> bool {
    argument.to_str().is_some_and(|text| text.contains("://"))
}

/// The configuration, if one of the arguments may be a place of it: neither a path nor an address.
///
/// # Errors
///
/// It is wrong.
pub fn settings_for(arguments: &[PathBuf], context: &Context) -> Result<Option<Settings>, Failure> {
    match arguments.iter().all(|argument| is_address(argument) || argument.exists()) {
        true => Ok(None),
        false => context.settings(),
    }
}

/// Whether an argument is an address, or a place of the configuration.
pub fn names(argument: &Path, settings: Option<&Settings>) -> bool {
    let text = argument.to_str().unwrap_or_default();
    is_address(argument) || settings.is_some_and(|settings| in_place(text, settings).is_some())
}

/// Finds files by arguments: paths, addresses, and names of places of a configuration.
///
/// # Errors
///
/// A path is not there, an address is none, or a place cannot be listed.
pub fn find(
    arguments: &[PathBuf],
    named: NamedAs,
    internal: &InternalFiles,
    settings: Option<&Settings>,
) -> Result<Named, Failure> {
    let mut found = Named::default();
    for argument in arguments {
        let text = argument.to_str().unwrap_or_default();
        let spot = match is_address(argument) {
            true => Some(at_address(text)?),
            false if argument.exists() => None,
            false => settings.and_then(|settings| in_place(text, settings)),
        };
        let Some(spot) = spot else {
            found.files.extend(named_files(std::slice::from_ref(argument), named, internal)?);
            continue;
        };
        found.files.extend(files_of_place(&spot.place, named)?);
        found.place = Some(spot.written).filter(|_| arguments.len() == 1);
        found._spools.extend(spot.spool);
    }
    Ok(found)
}

/// A place of the configuration by its name, or a folder or a file in it: `quay`, `quay/north/a.csv`.
fn in_place(text: &str, settings: &Settings) -> Option<OnTheSpot> {
    let (name, path) = text.split_once('/').unwrap_or((text, ""));
    let place = settings.places.iter().find(|place| place.name == name)?;
    let written = place.place.shown();
    Some(OnTheSpot { place: place.place.clone().narrowed_to(path), written, spool: None })
}

fn at_address(text: &str) -> Result<OnTheSpot, Failure> {
    let spool = tempfile::tempdir().map_err(|error| {
        Failure::load(format!("there is nowhere to fetch files to: {error}"))
            .advise("make room, or set TMPDIR")
    })?;
    let settings = SpoolSettings { folder: spool.path().to_path_buf(), limit: ROOM };
    let remote = |backend: Arc<dyn Backend>| Place::remote("named", backend, &settings);
    let (place, written) = if HttpAddress::is_one(text) {
        let mut address = HttpAddress::parse(text).map_err(|why| Failure::usage(why.to_string()))?;
        address.most_bytes = address.most_bytes.min(ROOM);
        if address.links.is_empty() {
            let what = format!(
                "`{}` names no file: a web server does not say which files there are",
                address.shown()
            );
            return Err(Failure::usage(what).advise("name a file"));
        }
        let written = address.shown();
        (remote(Arc::new(HttpBackend::new(address)?)), written)
    } else if let Some(backend) = object_store(text)? {
        (remote(backend.0).narrowed_to(&backend.1), folder_of(text).0.to_owned())
    } else {
        let (folder, name) = folder_of(text);
        let address = SftpAddress::parse(folder).map_err(|why| Failure::usage(why.to_string()))?;
        (remote(Arc::new(SftpBackend::new(address)?)).narrowed_to(name), folder.to_owned())
    };
    Ok(OnTheSpot { place, written, spool: Some(spool) })
}

/// The folder of an address, and the file or folder in it: nothing where it ends in `/`, or names nothing
/// but the host.
fn folder_of(text: &str) -> (&str, &str) {
    let host = text.find("://").map_or(0, |at| at + 3);
    match text.get(host..).and_then(|rest| rest.rfind('/')) {
        Some(at) => (&text[..host + at + 1], &text[host + at + 1..]),
        None => (text, ""),
    }
}

/// What is behind an address of an object store, and which file or folder in it is meant.
#[cfg(feature = "objects")]
fn object_store(text: &str) -> Result<Option<InStore>, Failure> {
    if !ObjectsAddress::is_one(text) {
        return Ok(None);
    }
    let (folder, name) = folder_of(text);
    let address = ObjectsAddress::parse(folder).map_err(|why| Failure::usage(why.to_string()))?;
    Ok(Some((Arc::new(ObjectsBackend::new(address)?), name.to_owned())))
}

/// This build reaches no object stores, and says so.
#[cfg(not(feature = "objects"))]
fn object_store(text: &str) -> Result<Option<InStore>, Failure> {
    match ["s3://", "az://", "gs://"].iter().any(|scheme| text.starts_with(scheme)) {
        true => Err(Failure::usage("this build does not reach object stores")
            .advise("build it in: cargo build --release --features full")),
        false => Ok(None),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::file("s3://quillane/cranes/a.csv", ("s3://quillane/cranes/", "a.csv"))]
    #[case::folder("s3://quillane/cranes/", ("s3://quillane/cranes/", ""))]
    #[case::bucket("s3://quillane", ("s3://quillane", ""))]
    fn an_address_is_parted_into_folder_and_file(#[case] text: &str, #[case] parts: (&str, &str)) {
        assert_eq!(folder_of(text), parts);
    }
}
