//! What begins alike in a bucket as a place.

use std::path::Path as FilePath;
use std::sync::{Mutex, OnceLock, PoisonError};
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use futures_util::TryStreamExt;
use hypodoke_core::arrival::Arrival;
use hypodoke_runtime::{BlockingRuntime, runtime};
use object_store::path::Path;
use ureq::Agent;
use url::Url;

use super::address::ObjectsAddress;
use super::connect::{Clients, connect, with_environment};
use super::fetch::WantedObject;
use super::page::{ListedObject, Page};
use super::relocate;
use super::signed::SignedRequests;
use super::trouble::trouble_of;
use crate::backend::{Backend, ListRequest, Listed};
use crate::error::{PlaceError, RemoteTrouble};
use crate::http::client::agent;

/// How many keys a page of a listing has.
const PAGE: usize = 1000;

/// How often a page is asked for, and the pause before the second time.
const ATTEMPTS: u32 = 5;
const PAUSE: Duration = Duration::from_millis(200);

/// Objects of up to so many bytes are read into memory.
const SMALL: u64 = 1 << 20;

/// What was modified so long ago counts as old, in microseconds: keys before the first that is not are
/// listed now and then only.
const RECENT: i64 = 2 * 86_400 * 1_000_000;

/// What begins alike in a bucket.
pub struct ObjectsBackend {
    address: ObjectsAddress,
    runtime: &'static BlockingRuntime,
    agent: Agent,
    clients: OnceLock<Clients>,
    /// The last key before the first that was modified a short while ago, once all were listed.
    listed_to: Mutex<Option<String>>,
    /// Whether the store deletes on condition, once that was asked.
    deletes_on_condition: OnceLock<Result<(), RemoteTrouble>>,
}

impl std::fmt::Debug for ObjectsBackend {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("ObjectsBackend").field(&self.address.shown()).finish()
    }
}

impl ObjectsBackend {
    /// A place that nobody was asked about yet.
    ///
    /// # Errors
    ///
    /// The certificates cannot be read.
    pub fn new(address: ObjectsAddress) -> Result<ObjectsBackend, PlaceError> {
        let address = with_environment(address);
        let failed = |trouble| PlaceError::Remote { shown: address.shown(), trouble };
        let runtime = runtime().map_err(|error| failed(RemoteTrouble::Other(error.to_string())))?;
        let named: Vec<Url> = address.endpoint.iter().filter_map(|url| Url::parse(url).ok()).collect();
        let named: Vec<Url> =
            named.into_iter().flat_map(|url| [hosted(&url, &address), Some(url)]).flatten().collect();
        let agent = agent(&named, address.ca_file.as_deref(), address.wait).map_err(failed)?;
        Ok(ObjectsBackend {
            runtime,
            agent,
            clients: OnceLock::new(),
            listed_to: Mutex::default(),
            deletes_on_condition: OnceLock::new(),
            address,
        })
    }

    fn clients(&self) -> Result<&Clients, RemoteTrouble> {
        if let Some(clients) = self.clients.get() {
            return Ok(clients);
        }
        let made = connect(&self.address)?;
        Ok(self.clients.get_or_init(|| made))
    }

    fn trouble(&self, path: &str, trouble: RemoteTrouble) -> PlaceError {
        let shown = if path.is_empty() { self.shown() } else { format!("{}/{path}", self.shown()) };
        PlaceError::Remote { shown, trouble }
    }

    /// The key of a path in the place.
    fn key(&self, path: &str) -> Result<Path, RemoteTrouble> {
        let whole = format!("{}{path}", self.address.prefix);
        Path::parse(whole).map_err(|_| RemoteTrouble::BadKey { key: path.escape_debug().to_string() })
    }

    fn wanted<'w>(&'w self, arrival: &'w Arrival) -> Result<WantedObject<'w>, RemoteTrouble> {
        Ok(WantedObject { address: &self.address, key: self.key(&arrival.path)?, arrival })
    }

    fn requests<'s>(&'s self, clients: &'s Clients) -> SignedRequests<'s> {
        SignedRequests { address: &self.address, clients, agent: &self.agent }
    }

    /// Lists page by page. Of keys that are not wanted, nothing is kept.
    fn list_pages(&self, clients: &Clients, request: &ListRequest<'_>) -> Result<Listed, RemoteTrouble> {
        let requests = self.requests(clients);
        let mut listing = Listed::default();
        let mut tail = Tail::default();
        let listed_to = || self.listed_to.lock().unwrap_or_else(PoisonError::into_inner);
        let after = if request.is_recent { listed_to().clone() } else { None };
        let mut next = None;
        loop {
            let mut query = vec![
                ("list-type", "2".to_owned()),
                ("encoding-type", "url".to_owned()),
                ("max-keys", PAGE.to_string()),
                ("prefix", format!("{}{}", self.address.prefix, request.beneath)),
            ];
            match (next.take(), &after) {
                (Some(token), _) => query.push(("continuation-token", token)),
                (None, Some(key)) => query.push(("start-after", key.clone())),
                (None, None) => {}
            }
            let document = self.with_retries(|| {
                listing.requests += 1;
                requests.list(&query)
            })?;
            let page = Page::parse(&document);
            let page =
                page.map_err(|why| RemoteTrouble::Other(format!("its listing cannot be read: {why}")))?;
            for object in page.objects {
                tail.see(&object);
                self.take(object, request, &mut listing);
            }
            next = page.next;
            if next.is_none() {
                break;
            }
        }
        if !request.is_recent {
            *listed_to() = tail.listed_to();
        }
        Ok(listing)
    }

    /// Takes an object that was listed, if it is wanted.
    fn take(&self, object: ListedObject, request: &ListRequest<'_>, listing: &mut Listed) {
        let Some(path) = object.key.strip_prefix(&self.address.prefix) else { return };
        // What stands for a folder, and what is hidden.
        let is_folder = path.is_empty() || path.ends_with('/') && object.bytes == 0;
        if is_folder || path.split('/').any(|part| part.starts_with('.') && part != "." && part != "..") {
            return;
        }
        if !(request.wanted)(path, object.modified) {
            return;
        }
        // The library knows no keys that are no paths: their objects cannot be asked for.
        if path.ends_with('/') || self.key(path).is_err() {
            let trouble = RemoteTrouble::BadKey { key: path.escape_debug().to_string() };
            listing.errors.push(self.trouble("", trouble));
            return;
        }
        let arrival = Arrival {
            place: request.place.to_owned(),
            path: path.to_owned(),
            bytes: object.bytes,
            modified: object.modified,
            token: object.tag,
        };
        listing.files.push((arrival, None));
    }

    /// Lists by the library, where no requests of our own are signed.
    fn list_by_library(&self, clients: &Clients, request: &ListRequest<'_>) -> Result<Listed, RemoteTrouble> {
        let prefix =
            Path::parse(&self.address.prefix).map_err(|error| RemoteTrouble::Other(error.to_string()))?;
        let mut listing = Listed::default();
        self.runtime.block_on(async {
            let mut found = clients.store.list(Some(&prefix));
            while let Some(meta) =
                found.try_next().await.map_err(|error| trouble_of(&error, &self.address))?
            {
                let object = ListedObject {
                    key: meta.location.to_string(),
                    bytes: meta.size,
                    modified: meta.last_modified.timestamp_micros(),
                    tag: meta.e_tag,
                };
                self.take(object, request, &mut listing);
            }
            Ok(())
        })?;
        Ok(listing)
    }

    fn with_retries<T>(
        &self,
        mut work: impl FnMut() -> Result<T, RemoteTrouble>,
    ) -> Result<T, RemoteTrouble> {
        let (mut attempt, mut pause) = (1, PAUSE);
        loop {
            match work() {
                Err(trouble) if attempt < ATTEMPTS && is_worth_trying(&trouble) => {
                    std::thread::sleep(pause);
                    (attempt, pause) = (attempt + 1, pause * 2);
                }
                done => return done,
            }
        }
    }

    fn move_object(&self, arrival: &Arrival, to: &str) -> Result<bool, RemoteTrouble> {
        let clients = self.clients()?;
        if clients.s3.is_none() {
            return Err(RemoteTrouble::CannotMove("this kind of store is not deleted from".to_owned()));
        }
        if let Some(Err(trouble)) = self.deletes_on_condition.get() {
            return Err(trouble.clone());
        }
        let (wanted, to) = (self.wanted(arrival)?, self.key(to)?);
        let Some(tag) = arrival.token.as_deref() else {
            return Err(RemoteTrouble::CannotMove("the store does not tell versions apart".to_owned()));
        };
        let copied = self.runtime.block_on(relocate::copy(clients.store.as_ref(), &wanted, &to))?;
        if copied.is_none() {
            return Ok(false);
        }
        let requests = self.requests(clients);
        match self.deletes_on_condition.get() {
            Some(known) => known.clone()?,
            None => match relocate::deletes_on_condition(&requests, &to) {
                Err(trouble) if !matches!(trouble, RemoteTrouble::CannotMove(_)) => return Err(trouble),
                known => self.deletes_on_condition.get_or_init(|| known).clone()?,
            },
        }
        match requests.delete_if(&wanted.key, tag) {
            // Gone by now: somebody else has moved it.
            Ok(()) | Err(RemoteTrouble::Gone) => Ok(true),
            Err(trouble) => {
                // It was sent again: the new version is an arrival, and the copy of the old one goes.
                if matches!(trouble, RemoteTrouble::Changed)
                    && let Some(copy) = copied.as_ref().and_then(|copied| copied.e_tag.as_deref())
                {
                    requests.delete_if(&to, copy)?;
                }
                Err(trouble)
            }
        }
    }
}

/// Where the bucket stands in the name of the host.
fn hosted(url: &Url, address: &ObjectsAddress) -> Option<Url> {
    let mut hosted = url.clone();
    hosted.set_host(Some(&format!("{}.{}", address.bucket, url.host_str()?))).ok()?;
    Some(hosted)
}

fn is_worth_trying(trouble: &RemoteTrouble) -> bool {
    matches!(trouble, RemoteTrouble::Lost(_) | RemoteTrouble::Busy { .. })
}

/// Finds the last key before the first that was modified a short while ago.
#[derive(Default)]
struct Tail {
    last: Option<String>,
    before_recent: Option<Option<String>>,
}

impl Tail {
    fn see(&mut self, object: &ListedObject) {
        if self.before_recent.is_some() {
            return;
        }
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_micros();
        if object.modified >= i64::try_from(now).unwrap_or(i64::MAX) - RECENT {
            self.before_recent = Some(self.last.take());
        } else {
            self.last = Some(object.key.clone());
        }
    }

    fn listed_to(self) -> Option<String> {
        self.before_recent.unwrap_or(self.last)
    }
}

impl Backend for ObjectsBackend {
    fn shown(&self) -> String {
        self.address.shown()
    }

    fn list(&self, request: &ListRequest<'_>) -> Result<Listed, PlaceError> {
        let listed = self.clients().and_then(|clients| match clients.s3 {
            Some(_) => self.list_pages(clients, request),
            None => self.list_by_library(clients, request),
        });
        let mut listing = listed.map_err(|trouble| match trouble {
            RemoteTrouble::Gone => {
                self.trouble("", RemoteTrouble::NoBucket { bucket: self.address.bucket.clone() })
            }
            trouble => self.trouble("", trouble),
        })?;
        listing.files.sort_by(|(a, _), (b, _)| a.path.cmp(&b.path));
        Ok(listing)
    }

    fn lists_recent(&self) -> bool {
        true
    }

    fn relocate(&self, arrival: &Arrival, _: &FilePath, to: &str) -> Result<bool, PlaceError> {
        self.move_object(arrival, to).map_err(|trouble| self.trouble(&arrival.path, trouble))
    }

    fn fetch(&self, arrival: &Arrival, to: &FilePath, is_left_over: bool) -> Result<(), RemoteTrouble> {
        let (clients, wanted) = (self.clients()?, self.wanted(arrival)?);
        self.runtime.block_on(wanted.fetch(clients.store.as_ref(), to, is_left_over))
    }

    fn read(&self, arrival: &Arrival) -> Option<Result<Vec<u8>, RemoteTrouble>> {
        if arrival.bytes > SMALL {
            return None;
        }
        let read = || {
            let (clients, wanted) = (self.clients()?, self.wanted(arrival)?);
            self.runtime.block_on(wanted.read(clients.store.as_ref()))
        };
        Some(read())
    }
}
