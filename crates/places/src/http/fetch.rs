//! Fetching a file from behind a link, from where an earlier attempt broke off.

use std::io::{ErrorKind, Read};
use std::path::Path;

use hypodoke_core::arrival::Arrival;
use ureq::Body;
use ureq::http::Response;
use url::Url;

use super::client::of_io;
use super::version::Version;
use crate::error::RemoteTrouble;
use crate::pace::Pace;
use crate::part_file::PartFile;

/// How much is read at a time, in bytes.
const BLOCK: usize = 128 * 1024;

/// How much of a file is looked at to tell whether it is a page.
const HEAD: usize = 512;

/// How a file that is fetched begins at a server: from here on, if it is still this version.
pub struct Wanted<'w> {
    /// From which byte on.
    pub from: u64,
    /// What shows that it is the version that was listed, in the words of the server.
    pub condition: Option<&'w str>,
}

/// Asks for the bytes of a file.
pub type Ask<'a> = dyn Fn(&Wanted<'_>) -> Result<Response<Body>, RemoteTrouble> + 'a;

/// A file behind a link, as it was listed.
#[derive(Clone, Copy)]
pub struct ListedFile<'a> {
    /// Its address.
    pub url: &'a Url,
    /// The file.
    pub arrival: &'a Arrival,
    /// Its version.
    pub version: &'a Version,
}

/// Fetches a file to `part`, which may be left over from a fetch that broke off.
pub fn fetch(
    ask: &Ask<'_>,
    listed: ListedFile<'_>,
    part: &Path,
    is_left_over: bool,
) -> Result<(), RemoteTrouble> {
    let ListedFile { url, arrival, version: listed } = listed;
    let mut file = PartFile::open(part, arrival.bytes, is_left_over)?;
    let begin = file.written();
    if begin == arrival.bytes && begin > 0 {
        return Ok(());
    }
    let condition = listed.tag.as_deref().filter(|tag| !tag.starts_with("W/"));
    // Without something that shows the version, what is there cannot be gone on with.
    let begin = if condition.is_some() { begin } else { 0 };
    let answer = ask(&Wanted { from: begin, condition })?;
    let begin = begins_at(&answer, begin)?;
    check(&answer, listed)?;
    check_kind(&answer, &arrival.path)?;
    file.go_on_at(begin)?;
    take(answer.into_body().into_reader(), &mut file, arrival, url)
}

/// Reads a small file into memory.
pub fn read(ask: &Ask<'_>, listed: ListedFile<'_>) -> Result<Vec<u8>, RemoteTrouble> {
    let ListedFile { url, arrival, version: listed } = listed;
    let answer = ask(&Wanted { from: 0, condition: None })?;
    check(&answer, listed)?;
    check_kind(&answer, &arrival.path)?;
    let mut bytes = Vec::new();
    let body = answer.into_body().into_reader().take(arrival.bytes + 1);
    each_block(body, url, |block| {
        bytes.extend_from_slice(block);
        Ok(())
    })?;
    match (bytes.len() as u64).cmp(&arrival.bytes) {
        std::cmp::Ordering::Less => Err(RemoteTrouble::Lost("the answer broke off".to_owned())),
        std::cmp::Ordering::Equal if is_page(&arrival.path, &bytes) => Err(RemoteTrouble::Page),
        std::cmp::Ordering::Equal => Ok(bytes),
        std::cmp::Ordering::Greater => Err(RemoteTrouble::Misstated),
    }
}

/// From which byte on the answer is: from the first one where the server does not give parts.
fn begins_at(answer: &Response<Body>, asked: u64) -> Result<u64, RemoteTrouble> {
    if answer.status() != 206 {
        return Ok(0);
    }
    let range = answer.headers().get("content-range").and_then(|range| range.to_str().ok());
    let first = range.and_then(|range| range.trim().strip_prefix("bytes ")?.split('-').next()?.parse().ok());
    match first {
        Some(first) if first == asked => Ok(first),
        _ => Err(RemoteTrouble::Other(
            "the server gives another part of the file than was asked for".to_owned(),
        )),
    }
}

fn check(answer: &Response<Body>, listed: &Version) -> Result<(), RemoteTrouble> {
    if Version::of(answer.headers()).is(listed) { Ok(()) } else { Err(RemoteTrouble::Changed) }
}

/// A page where a file was promised is no file.
fn check_kind(answer: &Response<Body>, path: &str) -> Result<(), RemoteTrouble> {
    let kind = answer.headers().get("content-type").and_then(|kind| kind.to_str().ok()).unwrap_or_default();
    let is_page = kind.trim_start().to_ascii_lowercase().starts_with("text/html");
    if is_page && !may_be_page(path) { Err(RemoteTrouble::Page) } else { Ok(()) }
}

/// Whether a file of this name may well be a page: many programs write tables as such.
fn may_be_page(path: &str) -> bool {
    let path = path.to_lowercase();
    [".html", ".htm", ".xhtml", ".xls"].iter().any(|ending| path.ends_with(ending))
}

fn is_page(path: &str, begin: &[u8]) -> bool {
    let text = String::from_utf8_lossy(&begin[..begin.len().min(HEAD)]).trim_start().to_lowercase();
    !may_be_page(path) && (text.starts_with("<!doctype html") || text.starts_with("<html"))
}

/// Hands over the bytes of an answer as they arrive.
pub fn each_block(
    mut body: impl Read,
    url: &Url,
    mut work: impl FnMut(&[u8]) -> Result<(), RemoteTrouble>,
) -> Result<(), RemoteTrouble> {
    let (mut block, mut pace) = (vec![0; BLOCK], Pace::new());
    loop {
        match body.read(&mut block) {
            Ok(0) => return Ok(()),
            Ok(count) => {
                pace.add(count)?;
                work(block.get(..count).unwrap_or_default())?;
            }
            Err(error) if error.kind() == ErrorKind::Interrupted => {}
            Err(error) => return Err(of_io(&error, url)),
        }
    }
}

/// Takes the bytes of an answer.
fn take(body: impl Read, file: &mut PartFile<'_>, arrival: &Arrival, url: &Url) -> Result<(), RemoteTrouble> {
    each_block(body, url, |found| {
        if file.written() == 0 && is_page(&arrival.path, found) {
            return Err(RemoteTrouble::Page);
        }
        if file.written() + found.len() as u64 > arrival.bytes {
            return Err(RemoteTrouble::Misstated);
        }
        file.write(found)
    })?;
    match file.written() == arrival.bytes {
        true => Ok(()),
        // A connection that ends early is not always told of.
        false => Err(RemoteTrouble::Lost("the answer broke off".to_owned())),
    }
}
