//! Files behind links as a place.

use std::collections::HashMap;
use std::io::Read;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use base64::prelude::{BASE64_STANDARD, Engine};
use hypodoke_core::arrival::Arrival;
use ureq::http::{Method, Request, Response, header};
use ureq::{Agent, Body};
use url::Url;

use super::address::{Authorization, HttpAddress, shown_link};
use super::client::{MOST_REDIRECTS, agent, redirected_to, trouble_of, trouble_of_status};
use super::fetch::{self, ListedFile, Wanted, each_block};
use super::links::{Link, MOST_LISTED, link, links_of, listed};
use super::version::Version;
use crate::backend::{Backend, ListRequest, Listed};
use crate::error::{PlaceError, RemoteTrouble};

/// How many links are asked about at a time.
const AT_A_TIME: usize = 16;

/// Files of up to so many bytes are read into memory.
const SMALL: u64 = 1 << 20;

/// Files behind links.
pub struct HttpBackend {
    address: HttpAddress,
    agent: Agent,
    /// What was found behind links, by the paths of their files.
    known: Mutex<HashMap<String, Known>>,
}

/// A file behind a link, as it was found last.
#[derive(Clone)]
struct Known {
    link: Link,
    version: Version,
    /// The server tells nothing by which versions are told apart: this is of the content.
    digest: Option<String>,
    /// It ends where its connection ends, and nothing tells whether that was cut off.
    is_open_ended: bool,
}

impl std::fmt::Debug for HttpBackend {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("HttpBackend").field(&self.address.shown()).finish()
    }
}

impl HttpBackend {
    /// A place that nobody was asked about yet.
    ///
    /// # Errors
    ///
    /// The certificates cannot be read.
    pub fn new(address: HttpAddress) -> Result<HttpBackend, PlaceError> {
        // Links that the configuration itself names may lead anywhere.
        let own = address.links.iter().chain(&address.links_from);
        let own = own.filter_map(|text| address.base.join(text.split('{').next()?).ok());
        let named: Vec<Url> = std::iter::once(address.base.clone()).chain(own).collect();
        let agent = agent(&named, address.ca_file.as_deref(), address.wait);
        let agent = agent.map_err(|trouble| PlaceError::Remote { shown: address.shown(), trouble })?;
        Ok(HttpBackend { address, agent, known: Mutex::default() })
    }

    /// Makes a request; an answer that is no success is a trouble.
    fn send(
        &self,
        method: Method,
        url: &Url,
        headers: &[(header::HeaderName, String)],
    ) -> Result<Response<Body>, RemoteTrouble> {
        let mut url = url.clone();
        for _ in 0..=MOST_REDIRECTS {
            let answer = self.send_once(method.clone(), &url, headers)?;
            match redirected_to(&answer, &url)? {
                Some(next) => url = next,
                None => {
                    let trouble = trouble_of_status(answer.status().as_u16(), self.user());
                    return trouble.map_or(Ok(answer), Err);
                }
            }
        }
        Err(RemoteTrouble::Redirected { most: MOST_REDIRECTS })
    }

    /// Makes a request, and follows no redirection: only the server that the configuration names (its scheme,
    /// host and port) is sent the credentials.
    fn send_once(
        &self,
        method: Method,
        url: &Url,
        headers: &[(header::HeaderName, String)],
    ) -> Result<Response<Body>, RemoteTrouble> {
        let mut request = Request::builder().method(method).uri(url.as_str());
        for (name, value) in headers {
            request = request.header(name, value);
        }
        if let Some(value) = self.authorization().filter(|_| url.origin() == self.address.base.origin()) {
            request = request.header(header::AUTHORIZATION, value);
        }
        let request = request.body(()).map_err(|error| RemoteTrouble::Other(error.to_string()))?;
        let request = self.agent.configure_request(request).max_redirects(0).build();
        self.agent.run(request).map_err(|error| trouble_of(error, url))
    }

    fn user(&self) -> &str {
        match &self.address.authorization {
            Some(Authorization::Basic { user, .. }) => user,
            Some(Authorization::Bearer(_)) => "the token",
            None => "nobody: no user and no token is given",
        }
    }

    fn authorization(&self) -> Option<String> {
        Some(match self.address.authorization.as_ref()? {
            Authorization::Basic { user, password } => {
                format!("Basic {}", BASE64_STANDARD.encode(format!("{user}:{}", password.reveal())))
            }
            Authorization::Bearer(token) => format!("Bearer {}", token.reveal()),
        })
    }

    /// The links that are asked about.
    fn links(&self, listed_errors: &mut Vec<PlaceError>) -> Result<Vec<Link>, PlaceError> {
        let HttpAddress { base, links, links_from, days, .. } = &self.address;
        let bad = |text: &str, why: String| PlaceError::Remote {
            shown: shown_link(text),
            trouble: RemoteTrouble::BadLink(why),
        };
        let mut all = Vec::new();
        for text in links {
            all.extend(links_of(base, text, *days).map_err(|why| bad(text, why))?);
        }
        if let Some(from) = links_from {
            let source = link(base, from, false).map_err(|why| bad(from, why))?;
            let text = self.read_list(&source)?;
            for text in listed(&text).map_err(|why| bad(from, why))? {
                match link(&source.url, text, false) {
                    Ok(link) => all.push(Link { path: self.path_from(base, &link), ..link }),
                    Err(why) => listed_errors.push(bad(text, why)),
                }
            }
        }
        let mut paths = HashMap::new();
        all.retain(|link| match paths.insert(link.path.clone(), link.url.clone()) {
            Some(other) if other != link.url => {
                let why = "two links name a file of this name".to_owned();
                listed_errors.push(bad(&link.path, why));
                false
            }
            other => other.is_none(),
        });
        all.sort_by(|a, b| a.path.cmp(&b.path));
        Ok(all)
    }

    /// The path of a link of a list as it is seen from the place.
    fn path_from(&self, base: &Url, found: &Link) -> String {
        link(base, found.url.as_str(), false).map_or_else(|_| found.path.clone(), |seen| seen.path)
    }

    fn read_list(&self, source: &Link) -> Result<String, PlaceError> {
        let trouble = |trouble| PlaceError::Remote { shown: shown_link(source.url.as_str()), trouble };
        let answer = self.send(Method::GET, &source.url, &[]).map_err(trouble)?;
        let mut text = Vec::new();
        let body = answer.into_body().into_reader().take(MOST_LISTED + 1);
        let read = each_block(body, &source.url, |block| {
            text.extend_from_slice(block);
            Ok(())
        });
        read.map_err(trouble)?;
        if text.len() as u64 > MOST_LISTED {
            return Err(trouble(RemoteTrouble::TooLarge { bytes: text.len() as u64, limit: MOST_LISTED }));
        }
        String::from_utf8(text).map_err(|_| trouble(RemoteTrouble::BadLink("the list is no text".to_owned())))
    }

    /// Asks what is behind a link.
    fn ask(&self, link: &Link, requests: &AtomicUsize) -> Result<Known, RemoteTrouble> {
        let before = self.lock().get(&link.path).filter(|known| known.link.url == link.url).cloned();
        let mut headers = vec![(header::ACCEPT_ENCODING, "identity".to_owned())];
        if let Some(tag) = before.as_ref().and_then(|known| known.version.tag.clone()) {
            headers.push((header::IF_NONE_MATCH, tag));
        }
        requests.fetch_add(1, Ordering::Relaxed);
        let answer = match self.send(Method::HEAD, &link.url, &headers) {
            // A server that tells nothing without giving the file.
            Err(RemoteTrouble::Other(_)) => self.first_byte(link, requests)?,
            answer => answer?,
        };
        if let Some(before) = before.filter(|_| answer.status() == 304) {
            return Ok(before);
        }
        let version = Version::of(answer.headers());
        let is_told = version.bytes.is_some() && (version.tag.is_some() || version.modified.is_some());
        match is_told {
            true => Ok(Known { link: link.clone(), version, digest: None, is_open_ended: false }),
            false => self.by_content(link, version, requests),
        }
    }

    fn first_byte(&self, link: &Link, requests: &AtomicUsize) -> Result<Response<Body>, RemoteTrouble> {
        requests.fetch_add(1, Ordering::Relaxed);
        let headers =
            [(header::ACCEPT_ENCODING, "identity".to_owned()), (header::RANGE, "bytes=0-0".to_owned())];
        self.send(Method::GET, &link.url, &headers)
    }

    /// What is behind a link of which the server does not tell size or version: all of it is read.
    fn by_content(
        &self,
        link: &Link,
        version: Version,
        requests: &AtomicUsize,
    ) -> Result<Known, RemoteTrouble> {
        requests.fetch_add(1, Ordering::Relaxed);
        let answer = self.send(Method::GET, &link.url, &[])?;
        let tells_end = |name| answer.headers().contains_key(name);
        // Over TLS the end of a connection is told from a cut; and of an answer that was packed for the way, only what
        // the server said before is known.
        let is_open_ended = link.url.scheme() == "http"
            && version.bytes.is_none()
            && !tells_end(header::CONTENT_LENGTH)
            && !tells_end(header::TRANSFER_ENCODING);
        let (mut bytes, mut hash, limit) = (0u64, blake3::Hasher::new(), self.address.most_bytes);
        each_block(answer.into_body().into_reader(), &link.url, |block| {
            hash.update(block);
            bytes += block.len() as u64;
            if bytes > limit { Err(RemoteTrouble::TooLarge { bytes, limit }) } else { Ok(()) }
        })?;
        let digest = hash.finalize().to_hex()[..32].to_owned();
        let version = Version { bytes: Some(bytes), ..version };
        Ok(Known { link: link.clone(), version, digest: Some(digest), is_open_ended })
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, HashMap<String, Known>> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What was found of an arrival when it was listed.
    fn known(&self, arrival: &Arrival) -> Result<Known, RemoteTrouble> {
        self.lock().get(&arrival.path).cloned().ok_or(RemoteTrouble::Gone)
    }

    /// Asks for the bytes of a file.
    fn bytes_of(&self, known: &Known, wanted: &Wanted<'_>) -> Result<Response<Body>, RemoteTrouble> {
        let mut headers = Vec::new();
        if wanted.from > 0 {
            headers.push((header::ACCEPT_ENCODING, "identity".to_owned()));
            headers.push((header::RANGE, format!("bytes={}-", wanted.from)));
            headers.extend(wanted.condition.map(|tag| (header::IF_RANGE, tag.to_owned())));
        }
        self.send(Method::GET, &known.link.url, &headers)
    }

    fn check_size(&self, arrival: &Arrival) -> Result<(), RemoteTrouble> {
        let (bytes, limit) = (arrival.bytes, self.address.most_bytes);
        if bytes > limit { Err(RemoteTrouble::TooLarge { bytes, limit }) } else { Ok(()) }
    }
}

impl Backend for HttpBackend {
    fn shown(&self) -> String {
        self.address.shown()
    }

    fn shown_file(&self, path: &str) -> String {
        self.address.shown_file(path)
    }

    fn list(&self, request: &ListRequest<'_>) -> Result<Listed, PlaceError> {
        let mut listing = Listed::default();
        let links = self.links(&mut listing.errors)?;
        let links: Vec<Link> =
            links.into_iter().filter(|link| (request.wanted)(&link.path, i64::MAX)).collect();
        let (next, requests) = (AtomicUsize::new(0), Arc::new(AtomicUsize::new(0)));
        let found: Mutex<Vec<(usize, Result<Known, RemoteTrouble>)>> = Mutex::default();
        std::thread::scope(|scope| {
            for _ in 0..links.len().min(AT_A_TIME) {
                scope.spawn(|| {
                    while let Some((at, link)) = {
                        let at = next.fetch_add(1, Ordering::Relaxed);
                        links.get(at).map(|link| (at, link))
                    } {
                        let asked = self.ask(link, &requests);
                        found.lock().unwrap_or_else(PoisonError::into_inner).push((at, asked));
                    }
                });
            }
        });
        let mut found = found.into_inner().unwrap_or_else(PoisonError::into_inner);
        found.sort_by_key(|(at, _)| *at);
        let mut unreached = None;
        for ((_, asked), link) in found.into_iter().zip(&links) {
            match asked {
                Ok(known) => {
                    let arrival = arrival(request.place, &known);
                    if (request.wanted)(&arrival.path, arrival.modified) {
                        listing.open_ended += u64::from(known.is_open_ended);
                        listing.files.push((arrival, None));
                    }
                    self.lock().insert(link.path.clone(), known);
                }
                Err(RemoteTrouble::Gone) if link.is_of_day => {}
                Err(trouble) => {
                    let is_of_server = trouble.is_of_server();
                    let error = PlaceError::Remote { shown: shown_link(link.url.as_str()), trouble };
                    match is_of_server && unreached.is_none() {
                        true => unreached = Some(error),
                        false => listing.errors.push(error),
                    }
                }
            }
        }
        listing.requests = requests.load(Ordering::Relaxed) as u64;
        match unreached {
            // Nobody answers: there is no place to go on with.
            Some(error) if listing.files.is_empty() => Err(error),
            unreached => {
                listing.errors.extend(unreached);
                Ok(listing)
            }
        }
    }

    fn relocate(&self, arrival: &Arrival, _: &Path, _: &str) -> Result<bool, PlaceError> {
        let trouble = RemoteTrouble::CannotMove("files behind links cannot be moved".to_owned());
        Err(PlaceError::Remote { shown: format!("{}: {}", self.shown(), arrival.path), trouble })
    }

    fn fetch(&self, arrival: &Arrival, to: &Path, is_left_over: bool) -> Result<(), RemoteTrouble> {
        self.check_size(arrival)?;
        let known = self.known(arrival)?;
        let ask = |wanted: &Wanted<'_>| self.bytes_of(&known, wanted);
        let listed = ListedFile { url: &known.link.url, arrival, version: &known.version };
        fetch::fetch(&ask, listed, to, is_left_over)?;
        match &known.digest {
            Some(digest) => same_content(to, digest),
            None => Ok(()),
        }
    }

    fn read(&self, arrival: &Arrival) -> Option<Result<Vec<u8>, RemoteTrouble>> {
        if arrival.bytes > SMALL {
            return None;
        }
        let read = || {
            self.check_size(arrival)?;
            let known = self.known(arrival)?;
            let ask = |wanted: &Wanted<'_>| self.bytes_of(&known, wanted);
            let listed = ListedFile { url: &known.link.url, arrival, version: &known.version };
            let bytes = fetch::read(&ask, listed)?;
            let hash = || blake3::hash(&bytes).to_hex()[..32].to_owned();
            match known.digest.as_ref().is_some_and(|digest| *digest != hash()) {
                true => Err(RemoteTrouble::Changed),
                false => Ok(bytes),
            }
        };
        Some(read())
    }
}

/// A file that was told by its content alone has to have it.
fn same_content(file: &Path, digest: &str) -> Result<(), RemoteTrouble> {
    let local =
        |error: std::io::Error| RemoteTrouble::Spool { path: file.to_path_buf(), why: error.to_string() };
    let mut hash = blake3::Hasher::new();
    std::io::copy(&mut std::fs::File::open(file).map_err(local)?, &mut hash).map_err(local)?;
    if hash.finalize().to_hex()[..32] == *digest { Ok(()) } else { Err(RemoteTrouble::Changed) }
}

fn arrival(place: &str, known: &Known) -> Arrival {
    Arrival {
        place: place.to_owned(),
        path: known.link.path.clone(),
        bytes: known.version.bytes.unwrap_or_default(),
        modified: known.version.modified.unwrap_or_default(),
        token: known.version.tag.clone().or_else(|| known.digest.clone()),
    }
}
