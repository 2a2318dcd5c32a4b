//! Fetching one file, with many requests on the way at once.

use std::path::Path;

use futures_util::StreamExt;
use futures_util::stream::FuturesOrdered;
use hypodoke_core::arrival::Arrival;
use russh_sftp::client::error::Error;
use russh_sftp::protocol::{FileAttributes, OpenFlags, StatusCode};

use super::address::SftpAddress;
use super::connect::SftpSession;
use super::list;
use super::list::in_words;
use crate::error::RemoteTrouble;
use crate::pace::Pace;
use crate::part_file::PartFile;

/// How much is asked for at a time, in bytes: what every server gives in one answer.
const CHUNK: u32 = 32 * 1024;

/// How many answers of one file are waited for at a time.
const IN_FLIGHT: usize = 64;

/// Fetches a file to `part`, from where an earlier attempt broke off, and makes sure that it is
/// all there and did not change meanwhile. `is_left_over` says that what is there is of another run.
pub async fn fetch(
    session: &SftpSession,
    address: &SftpAddress,
    arrival: &Arrival,
    part: &Path,
    is_left_over: bool,
) -> Result<(), RemoteTrouble> {
    let path = list::whole(address, &arrival.path);
    let handle = session
        .sftp
        .open(path.as_str(), OpenFlags::READ, FileAttributes::empty())
        .await
        .map_err(in_words)?
        .handle;
    let mut fetched = all_of(session, &handle, arrival, part, is_left_over).await;
    if matches!(fetched, Err(RemoteTrouble::Misstated)) {
        // Or it is being written.
        fetched = same(session, &handle, arrival).await.and(fetched);
    }
    let closed = session.sftp.close(handle).await.map_err(in_words);
    fetched?;
    closed?;
    Ok(())
}

async fn all_of(
    session: &SftpSession,
    handle: &str,
    arrival: &Arrival,
    part: &Path,
    is_left_over: bool,
) -> Result<(), RemoteTrouble> {
    same(session, handle, arrival).await?;
    let mut file = PartFile::open(part, arrival.bytes, is_left_over)?;
    let mut asked = file.written();
    let mut pace = Pace::new();
    // All of them are looked after while the first is waited for.
    let mut answers = FuturesOrdered::new();
    while file.written() < arrival.bytes {
        while answers.len() < IN_FLIGHT && asked < arrival.bytes {
            let length = (arrival.bytes - asked).min(u64::from(CHUNK)) as u32;
            answers.push_back(read(session, handle, asked, length));
            asked += u64::from(length);
        }
        let Some(answer) = answers.next().await else { return Err(RemoteTrouble::Misstated) };
        let (length, data) = answer?;
        if data.len() > length as usize {
            // More than was asked for would be written over what comes behind it.
            return Err(RemoteTrouble::Misstated);
        }
        pace.add(data.len())?;
        file.write(&data)?;
        if data.len() < length as usize {
            // A short answer leaves a gap: what was asked beyond it is asked anew.
            if data.is_empty() {
                return Err(RemoteTrouble::Misstated);
            }
            answers = FuturesOrdered::new();
            asked = file.written();
        }
    }
    // Not one byte more than was promised, and the same file still.
    match session.sftp.read(handle, arrival.bytes, 1).await {
        Err(Error::Status(status)) if status.status_code == StatusCode::Eof => {}
        Ok(data) if data.data.is_empty() => {}
        Ok(_) => return Err(RemoteTrouble::Misstated),
        Err(error) => return Err(in_words(error)),
    }
    same(session, handle, arrival).await
}

/// One answer, with how much was asked for; nothing where the file is at its end.
async fn read(
    session: &SftpSession,
    handle: &str,
    offset: u64,
    length: u32,
) -> Result<(u32, Vec<u8>), RemoteTrouble> {
    match session.sftp.read(handle, offset, length).await {
        Ok(data) => Ok((length, data.data)),
        Err(Error::Status(status)) if status.status_code == StatusCode::Eof => Ok((length, Vec::new())),
        Err(error) => Err(in_words(error)),
    }
}

/// Whether the file is the one that was listed.
async fn same(session: &SftpSession, handle: &str, arrival: &Arrival) -> Result<(), RemoteTrouble> {
    let now = session.sftp.fstat(handle).await.map_err(in_words)?.attrs;
    if is_version(&now, arrival) { Ok(()) } else { Err(RemoteTrouble::Changed) }
}

/// Whether what a server tells of a file is what it told when the file was listed.
pub fn is_version(now: &FileAttributes, arrival: &Arrival) -> bool {
    let bytes = now.size.unwrap_or(arrival.bytes);
    let modified = now.mtime.map_or(arrival.modified, |seconds| i64::from(seconds) * 1_000_000);
    bytes == arrival.bytes && modified == arrival.modified
}
