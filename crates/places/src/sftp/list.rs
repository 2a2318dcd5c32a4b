//! Listing a server's folder and the folders in it.

use std::path::PathBuf;

use hypodoke_core::arrival::Arrival;
use russh_sftp::client::error::Error;
use russh_sftp::protocol::{FileAttributes, StatusCode};

use super::address::SftpAddress;
use super::connect::SftpSession;
use crate::backend::{ListRequest, Listed};
use crate::error::{PlaceError, RemoteTrouble};

/// How deep folders are gone into: a server may link them in a ring.
const DEEPEST: usize = 32;

/// Lists a folder and those in it. Hidden files are left out, links are not followed, and names
/// that would lead elsewhere are refused.
pub async fn list(
    session: &SftpSession,
    address: &SftpAddress,
    request: &ListRequest<'_>,
) -> Result<Listed, RemoteTrouble> {
    let mut listing = Listed::default();
    let mut folders = vec![(String::new(), 0)];
    while let Some((inside, depth)) = folders.pop() {
        let path = whole(address, &inside);
        let entries = match entries(session, &path).await {
            Ok(entries) => entries,
            Err(error) if depth == 0 => return Err(of_folder(error, &path)),
            Err(error) => {
                listing.errors.push(PlaceError::Remote {
                    shown: format!("{}: {inside}", address.shown()),
                    trouble: of_folder(error, &path),
                });
                continue;
            }
        };
        for (name, attributes) in entries {
            if name.starts_with('.') {
                continue;
            }
            if let Some(trouble) = refused(&name) {
                listing.errors.push(PlaceError::Remote { shown: address.shown(), trouble });
                continue;
            }
            let inner = if inside.is_empty() { name } else { format!("{inside}/{name}") };
            if attributes.is_dir() {
                if depth < DEEPEST && request.may_be_in(&inner) {
                    folders.push((inner, depth + 1));
                }
            } else if attributes.is_regular() || attributes.permissions.is_none() {
                // A server that tells no kinds is taken at its word that there is a file.
                let modified = i64::from(attributes.mtime.unwrap_or(0)) * 1_000_000;
                if !(request.wanted)(&inner, modified) {
                    continue;
                }
                let (place, bytes) = (request.place.to_owned(), attributes.size.unwrap_or(0));
                let arrival = Arrival { place, path: inner, bytes, modified, token: None };
                listing.files.push((arrival, None));
            }
        }
    }
    listing.files.sort_by(|(a, _), (b, _)| a.path.cmp(&b.path));
    Ok(listing)
}

/// What is the matter with a name that is refused.
fn refused(name: &str) -> Option<RemoteTrouble> {
    let shown = || name.escape_debug().to_string();
    if name.contains(['/', '\0']) {
        return Some(RemoteTrouble::BadName { name: shown() });
    }
    // What stands in its place is all that the library hands on of other encodings.
    name.contains(char::REPLACEMENT_CHARACTER).then(|| RemoteTrouble::ForeignName { name: shown() })
}

/// A path in the place as the server knows it.
pub fn whole(address: &SftpAddress, inside: &str) -> String {
    if inside.is_empty() { address.folder.clone() } else { format!("{}/{inside}", address.folder) }
}

async fn entries(session: &SftpSession, path: &str) -> Result<Vec<(String, FileAttributes)>, Error> {
    let handle = session.sftp.opendir(path).await?.handle;
    let mut all = Vec::new();
    loop {
        match session.sftp.readdir(handle.as_str()).await {
            Ok(name) => all.extend(name.files.into_iter().map(|file| (file.filename, file.attrs))),
            Err(Error::Status(status)) if status.status_code == StatusCode::Eof => break,
            Err(error) => {
                let _ = session.sftp.close(handle).await;
                return Err(error);
            }
        }
    }
    session.sftp.close(handle).await?;
    Ok(all)
}

/// What the server's answer about a folder means.
fn of_folder(error: Error, path: &str) -> RemoteTrouble {
    match error {
        Error::Status(status) if status.status_code == StatusCode::NoSuchFile => {
            RemoteTrouble::NoFolder { folder: PathBuf::from(path) }
        }
        Error::Status(status) if status.status_code == StatusCode::PermissionDenied => {
            RemoteTrouble::NoRight { path: PathBuf::from(path) }
        }
        other => in_words(other),
    }
}

/// What any answer means.
pub fn in_words(error: Error) -> RemoteTrouble {
    match error {
        Error::Status(status) => match status.status_code {
            StatusCode::NoSuchFile => RemoteTrouble::Gone,
            StatusCode::PermissionDenied => RemoteTrouble::NoRight { path: PathBuf::new() },
            StatusCode::ConnectionLost | StatusCode::NoConnection => {
                RemoteTrouble::Lost(status.error_message)
            }
            _ => RemoteTrouble::Other(status.error_message),
        },
        Error::Timeout => RemoteTrouble::Silent,
        other => RemoteTrouble::Lost(other.to_string()),
    }
}
