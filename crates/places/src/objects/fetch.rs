//! Fetching an object, several ranges of it at a time.

use std::path::Path as FilePath;
use std::sync::LazyLock;

use bytes::{Bytes, BytesMut};
use futures_util::StreamExt;
use futures_util::stream::FuturesOrdered;
use hypodoke_core::arrival::Arrival;
use object_store::path::Path;
use object_store::{GetOptions, GetRange, GetResult, ObjectStore, ObjectStoreExt};
use tokio::sync::Semaphore;

use super::address::ObjectsAddress;
use super::trouble::trouble_of;
use crate::error::RemoteTrouble;
use crate::pace::Pace;
use crate::part_file::PartFile;

/// How much is asked for at a time, in bytes.
const RANGE: u64 = 4 << 20;

/// How many ranges of one object are waited for at a time, and how many of all objects.
const IN_FLIGHT: usize = 4;
static RANGES: LazyLock<Semaphore> = LazyLock::new(|| Semaphore::new(16));

/// An object of a version.
pub struct WantedObject<'w> {
    /// Where it is.
    pub address: &'w ObjectsAddress,
    /// Its key.
    pub key: Path,
    /// As it was listed.
    pub arrival: &'w Arrival,
}

impl WantedObject<'_> {
    /// All of a small object.
    pub async fn read(&self, store: &dyn ObjectStore) -> Result<Vec<u8>, RemoteTrouble> {
        let bytes = self.part(store, None).await?;
        match bytes.len() as u64 == self.arrival.bytes {
            true => Ok(bytes.into()),
            false => Err(RemoteTrouble::Misstated),
        }
    }

    /// Fetches it to `part`, from where an earlier attempt broke off.
    pub async fn fetch(
        &self,
        store: &dyn ObjectStore,
        part: &FilePath,
        is_left_over: bool,
    ) -> Result<(), RemoteTrouble> {
        let size = self.arrival.bytes;
        let mut file = PartFile::open(part, size, is_left_over)?;
        let mut asked = file.written();
        let mut answers = FuturesOrdered::new();
        while file.written() < size {
            while answers.len() < IN_FLIGHT && asked < size {
                let end = (asked + RANGE).min(size);
                answers.push_back(self.part(store, Some((asked, end))));
                asked = end;
            }
            let Some(answer) = answers.next().await else { return Err(RemoteTrouble::Misstated) };
            file.write(&answer?)?;
        }
        Ok(())
    }

    /// A range of it, or all of it, if it is of the version that was listed still.
    async fn part(&self, store: &dyn ObjectStore, range: Option<(u64, u64)>) -> Result<Bytes, RemoteTrouble> {
        let _permit = RANGES.acquire().await.map_err(|error| RemoteTrouble::Other(error.to_string()))?;
        let failed = |error: object_store::Error| trouble_of(&error, self.address);
        let options = GetOptions {
            range: range.map(|(from, to)| GetRange::Bounded(from..to)),
            if_match: self.arrival.token.clone(),
            ..GetOptions::default()
        };
        let answer = store.get_opts(&self.key, options).await.map_err(failed)?;
        self.check(&answer)?;
        let bytes = all_of(answer).await?.map_err(failed)?;
        match range.is_none_or(|(from, to)| bytes.len() as u64 == to - from) {
            true => Ok(bytes),
            false => Err(RemoteTrouble::Misstated),
        }
    }

    /// Not every store heeds the condition: what it says of the object is looked at.
    fn check(&self, answer: &GetResult) -> Result<(), RemoteTrouble> {
        let is_version = answer.meta.size == self.arrival.bytes && self.has_tag(answer.meta.e_tag.as_deref());
        if is_version { Ok(()) } else { Err(RemoteTrouble::Changed) }
    }

    fn has_tag(&self, tag: Option<&str>) -> bool {
        self.arrival.token.as_deref().zip(tag).is_none_or(|(listed, now)| listed == now)
    }

    /// Whether the store has it in this version still.
    pub async fn is_there(&self, store: &dyn ObjectStore) -> Result<bool, RemoteTrouble> {
        match store.head(&self.key).await {
            Ok(meta) => Ok(meta.size == self.arrival.bytes && self.has_tag(meta.e_tag.as_deref())),
            Err(object_store::Error::NotFound { .. }) => Err(RemoteTrouble::Gone),
            Err(error) => Err(trouble_of(&error, self.address)),
        }
    }
}

/// The bytes of an answer, if they do not arrive too slowly.
async fn all_of(answer: GetResult) -> Result<object_store::Result<Bytes>, RemoteTrouble> {
    let (mut bytes, mut pace) = (BytesMut::new(), Pace::new());
    let mut stream = answer.into_stream();
    while let Some(block) = stream.next().await {
        match block {
            Ok(block) => {
                pace.add(block.len())?;
                bytes.extend_from_slice(&block);
            }
            Err(error) => return Ok(Err(error)),
        }
    }
    Ok(Ok(bytes.freeze()))
}
