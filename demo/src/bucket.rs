//! The crane yard's bucket: a small store that speaks S3, with one bucket in it. It stands in for the object
//! stores that files are fetched from, and does wrong what it is ordered to.

use std::collections::BTreeMap;
use std::io::{self, Read, Seek, SeekFrom};
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, SystemTime};

use bytes::Bytes;
use futures_util::stream;
use hyper::body::Incoming;
use hyper::http::{Request, Response, StatusCode};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper_util::rt::TokioIo;
use s3s::auth::{S3Auth, SecretKey};
use s3s::dto::*;
use s3s::service::{S3Service, S3ServiceBuilder};
use s3s::{Body, S3, S3Request, S3Response, S3Result, s3_error};
use tokio::net::TcpListener;
use tokio::runtime::Runtime;

/// Whom to be at the store, and what shows it: both are made up like all the rest.
pub const ACCESS_KEY: &str = "crane-yard";
/// See [`ACCESS_KEY`].
pub const SECRET_KEY: &str = "heave ho";

/// The region that the bucket is in.
pub const REGION: &str = "quillane-1";

/// The most keys of a page.
const PAGE: i32 = 1000;

/// A store that is open until it is dropped.
pub struct Bucket {
    port: u16,
    state: Arc<State>,
    _runtime: Runtime,
}

/// What the store does wrong.
#[derive(Clone, Debug, Default)]
pub struct Faults {
    /// It takes so long for each answer.
    pub slow: Option<Duration>,
    /// So many requests are answered that it has too much to do.
    pub busy: u64,
    /// So many objects break off in the middle.
    pub cut: u64,
    /// It lists what was there when this was ordered.
    pub stale: bool,
    /// It gives other tags with objects than it lists.
    pub other_tags: bool,
    /// Its clock and that of whoever asks are apart.
    pub clock_off: bool,
    /// Nobody may list it.
    pub unlisted: bool,
    /// It deletes whatever the condition says.
    pub unconditional: bool,
}

struct State {
    name: String,
    objects: Mutex<BTreeMap<String, Stored>>,
    /// What a stale listing shows.
    listed: Mutex<Option<BTreeMap<String, Stored>>>,
    faults: Mutex<Faults>,
    requests: AtomicU64,
}

/// An object.
#[derive(Clone)]
struct Stored {
    content: Content,
    bytes: u64,
    modified: SystemTime,
    tag: String,
}

#[derive(Clone)]
enum Content {
    Memory(Bytes),
    File(PathBuf),
}

impl Bucket {
    /// Opens a store with a bucket of this name on a free port of this machine, for whoever has the keys.
    pub fn open(name: &str) -> io::Result<Bucket> {
        Bucket::with_auth(name, true)
    }

    /// The same for anybody.
    pub fn open_to_all(name: &str) -> io::Result<Bucket> {
        Bucket::with_auth(name, false)
    }

    fn with_auth(name: &str, is_closed: bool) -> io::Result<Bucket> {
        let state = Arc::new(State {
            name: name.to_owned(),
            objects: Mutex::default(),
            listed: Mutex::default(),
            faults: Mutex::default(),
            requests: AtomicU64::new(0),
        });
        let mut builder = S3ServiceBuilder::new(Store { state: state.clone() });
        if is_closed {
            builder.set_auth(Keys);
        }
        let service = builder.build();
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build()?;
        let listener = runtime.block_on(TcpListener::bind(SocketAddr::from(([127, 0, 0, 1], 0))))?;
        let port = listener.local_addr()?.port();
        let shared = state.clone();
        runtime.spawn(async move {
            loop {
                let Ok((stream, _)) = listener.accept().await else { continue };
                let (service, state) = (service.clone(), shared.clone());
                tokio::spawn(async move {
                    let answer = service_fn(move |request| answer(service.clone(), state.clone(), request));
                    let _ = http1::Builder::new().serve_connection(TokioIo::new(stream), answer).await;
                });
            }
        });
        Ok(Bucket { port, state, _runtime: runtime })
    }

    /// Where the store is.
    pub fn endpoint(&self) -> String {
        format!("http://127.0.0.1:{}", self.port)
    }

    /// Puts an object there.
    pub fn put(&self, key: &str, content: impl Into<Bytes>, modified: SystemTime) {
        let content: Bytes = content.into();
        let tag = tag_of(&content);
        let stored = Stored { bytes: content.len() as u64, content: Content::Memory(content), modified, tag };
        self.state.objects().insert(key.to_owned(), stored);
    }

    /// Puts a file of this machine there; it is read each time that somebody asks for it.
    pub fn put_file(&self, key: &str, file: PathBuf, modified: SystemTime) -> io::Result<()> {
        let bytes = file.metadata()?.len();
        let tag = format!("{:032x}", bytes);
        self.state
            .objects()
            .insert(key.to_owned(), Stored { bytes, content: Content::File(file), modified, tag });
        Ok(())
    }

    /// Takes an object away.
    pub fn remove(&self, key: &str) {
        self.state.objects().remove(key);
    }

    /// The keys there are.
    pub fn keys(&self) -> Vec<String> {
        self.state.objects().keys().cloned().collect()
    }

    /// What an object holds, if it is one in memory.
    pub fn content(&self, key: &str) -> Option<Bytes> {
        match &self.state.objects().get(key)?.content {
            Content::Memory(bytes) => Some(bytes.clone()),
            Content::File(_) => None,
        }
    }

    /// Orders what the store does wrong.
    pub fn order(&self, faults: Faults) {
        let listed = faults.stale.then(|| self.state.objects().clone());
        *self.state.listed.lock().unwrap_or_else(PoisonError::into_inner) = listed;
        *self.state.faults() = faults;
    }

    /// How many requests there were.
    pub fn requests(&self) -> u64 {
        self.state.requests.load(Ordering::Relaxed)
    }
}

impl State {
    fn objects(&self) -> MutexGuard<'_, BTreeMap<String, Stored>> {
        self.objects.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn faults(&self) -> MutexGuard<'_, Faults> {
        self.faults.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What a request is answered before anybody looks at it, and how long that takes.
    fn refusal(&self, request: &Request<Incoming>) -> (Option<Duration>, Option<(StatusCode, &'static str)>) {
        let mut faults = self.faults();
        if faults.busy > 0 {
            faults.busy -= 1;
            return (faults.slow, Some((StatusCode::SERVICE_UNAVAILABLE, "SlowDown")));
        }
        if faults.clock_off {
            return (faults.slow, Some((StatusCode::FORBIDDEN, "RequestTimeTooSkewed")));
        }
        let signed = format!("{} {:?}", request.uri(), request.headers().get("authorization"));
        let is_signed = signed.contains("aws4_request");
        let is_here = signed.contains(&format!("/{REGION}/")) || signed.contains(&format!("%2F{REGION}%2F"));
        let refusal =
            (is_signed && !is_here).then_some((StatusCode::BAD_REQUEST, "AuthorizationHeaderMalformed"));
        (faults.slow, refusal)
    }

    /// The object of a key, if the bucket is this one.
    fn find(&self, bucket: &str, key: &str) -> S3Result<Stored> {
        if bucket != self.name {
            return Err(s3_error!(NoSuchBucket));
        }
        self.objects().get(key).cloned().ok_or_else(|| s3_error!(NoSuchKey))
    }

    /// The tag that is given with an object.
    fn tag(&self, stored: &Stored) -> ETag {
        let other = self.faults().other_tags;
        ETag::Strong(if other { format!("{}-other", stored.tag) } else { stored.tag.clone() })
    }
}

/// Answers a request, unless something is ordered to go wrong.
async fn answer(
    service: S3Service,
    state: Arc<State>,
    request: Request<Incoming>,
) -> Result<Response<Body>, s3s::HttpError> {
    state.requests.fetch_add(1, Ordering::Relaxed);
    let (slow, refusal) = state.refusal(&request);
    if let Some(slow) = slow {
        tokio::time::sleep(slow).await;
    }
    if let Some((status, code)) = refusal {
        let document =
            format!("<?xml version=\"1.0\"?><Error><Code>{code}</Code><Region>{REGION}</Region></Error>");
        let mut refused = Response::new(Body::from(document));
        *refused.status_mut() = status;
        return Ok(refused);
    }
    service.call(request.map(Body::from)).await
}

/// The keys of whoever may.
struct Keys;

#[async_trait::async_trait]
impl S3Auth for Keys {
    async fn get_secret_key(&self, access_key: &str) -> S3Result<SecretKey> {
        match access_key == ACCESS_KEY {
            true => Ok(SecretKey::from(SECRET_KEY)),
            false => Err(s3_error!(InvalidAccessKeyId)),
        }
    }
}

/// Whoever hands objects out.
struct Store {
    state: Arc<State>,
}

#[async_trait::async_trait]
impl S3 for Store {
    async fn list_objects_v2(
        &self,
        request: S3Request<ListObjectsV2Input>,
    ) -> S3Result<S3Response<ListObjectsV2Output>> {
        let input = request.input;
        if input.bucket != self.state.name {
            return Err(s3_error!(NoSuchBucket));
        }
        if self.state.faults().unlisted {
            return Err(s3_error!(AccessDenied));
        }
        let stale = self.state.listed.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let is_encoded = input.encoding_type.is_some();
        let prefix = input.prefix.clone().unwrap_or_default();
        let after = input.continuation_token.clone().or(input.start_after.clone()).unwrap_or_default();
        let most = usize::try_from(input.max_keys.unwrap_or(PAGE).clamp(1, PAGE)).unwrap_or(1);
        let page = match &stale {
            Some(stale) => page(stale, &prefix, &after, most),
            None => page(&self.state.objects(), &prefix, &after, most),
        };
        let (found, is_cut) = page;
        let last = found.last().map(|(key, _)| key.clone());
        let contents: Vec<Object> =
            found.into_iter().map(|(key, stored)| listed(key, stored, is_encoded)).collect();
        Ok(S3Response::new(ListObjectsV2Output {
            name: Some(input.bucket),
            prefix: Some(prefix),
            key_count: i32::try_from(contents.len()).ok(),
            is_truncated: Some(is_cut),
            next_continuation_token: last.filter(|_| is_cut),
            encoding_type: input.encoding_type,
            contents: Some(contents),
            ..ListObjectsV2Output::default()
        }))
    }

    async fn head_object(
        &self,
        request: S3Request<HeadObjectInput>,
    ) -> S3Result<S3Response<HeadObjectOutput>> {
        let stored = self.state.find(&request.input.bucket, &request.input.key)?;
        Ok(S3Response::new(HeadObjectOutput {
            content_length: i64::try_from(stored.bytes).ok(),
            e_tag: Some(self.state.tag(&stored)),
            last_modified: Some(Timestamp::from(stored.modified)),
            ..HeadObjectOutput::default()
        }))
    }

    async fn get_object(&self, request: S3Request<GetObjectInput>) -> S3Result<S3Response<GetObjectOutput>> {
        let input = request.input;
        let stored = self.state.find(&input.bucket, &input.key)?;
        check(input.if_match.as_ref(), &stored)?;
        let range = match &input.range {
            Some(range) => range.check(stored.bytes).map_err(|_| s3_error!(InvalidRange))?,
            None => 0..stored.bytes,
        };
        let content = read(&stored.content, range.clone()).map_err(|_| s3_error!(InternalError))?;
        let is_cut = {
            let mut faults = self.state.faults();
            let is_cut = faults.cut > 0;
            faults.cut = faults.cut.saturating_sub(1);
            is_cut
        };
        let length = i64::try_from(content.len()).ok();
        let body = if is_cut { broken_off(content) } else { StreamingBlob::from(Body::from(content)) };
        let bytes = stored.bytes;
        Ok(S3Response::new(GetObjectOutput {
            body: Some(body),
            content_length: length,
            content_range: input.range.map(|_| format!("bytes {}-{}/{bytes}", range.start, range.end - 1)),
            e_tag: Some(self.state.tag(&stored)),
            last_modified: Some(Timestamp::from(stored.modified)),
            ..GetObjectOutput::default()
        }))
    }

    async fn copy_object(
        &self,
        request: S3Request<CopyObjectInput>,
    ) -> S3Result<S3Response<CopyObjectOutput>> {
        let input = request.input;
        let CopySource::Bucket { bucket, key, .. } = &input.copy_source else {
            return Err(s3_error!(NotImplemented));
        };
        let stored = self.state.find(bucket, key)?;
        let result = CopyObjectResult {
            e_tag: Some(ETag::Strong(stored.tag.clone())),
            last_modified: Some(Timestamp::from(stored.modified)),
            ..CopyObjectResult::default()
        };
        self.state.objects().insert(input.key, stored);
        Ok(S3Response::new(CopyObjectOutput {
            copy_object_result: Some(result),
            ..CopyObjectOutput::default()
        }))
    }

    async fn delete_object(
        &self,
        request: S3Request<DeleteObjectInput>,
    ) -> S3Result<S3Response<DeleteObjectOutput>> {
        let input = request.input;
        let stored = self.state.find(&input.bucket, &input.key)?;
        if !self.state.faults().unconditional {
            check(input.if_match.as_ref(), &stored)?;
        }
        self.state.objects().remove(&input.key);
        Ok(S3Response::new(DeleteObjectOutput::default()))
    }
}

/// The objects of a page, and whether there are more.
fn page(
    objects: &BTreeMap<String, Stored>,
    prefix: &str,
    after: &str,
    most: usize,
) -> (Vec<(String, Stored)>, bool) {
    let from = if after > prefix { after } else { prefix };
    let from = objects.range::<str, _>((std::ops::Bound::Included(from), std::ops::Bound::Unbounded));
    let mut wanted = from.filter(|(key, _)| after.is_empty() || key.as_str() > after);
    let mut found = Vec::new();
    for (key, stored) in wanted.by_ref().take_while(|(key, _)| key.starts_with(prefix)) {
        if found.len() == most {
            return (found, true);
        }
        found.push((key.clone(), stored.clone()));
    }
    (found, false)
}

fn listed(key: String, stored: Stored, is_encoded: bool) -> Object {
    Object {
        key: Some(if is_encoded { encoded(&key) } else { key }),
        size: i64::try_from(stored.bytes).ok(),
        last_modified: Some(Timestamp::from(stored.modified)),
        e_tag: Some(ETag::Strong(stored.tag)),
        ..Object::default()
    }
}

/// A key as it stands in a listing whose keys are encoded.
fn encoded(key: &str) -> String {
    let plain = |byte: &u8| byte.is_ascii_alphanumeric() || b"-._~/".contains(byte);
    key.bytes()
        .map(|byte| if plain(&byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") })
        .collect()
}

/// Whether an object is of the version that is asked for.
fn check(condition: Option<&ETagCondition>, stored: &Stored) -> S3Result<()> {
    match condition {
        Some(ETagCondition::ETag(tag)) if tag.value() != stored.tag => Err(s3_error!(PreconditionFailed)),
        _ => Ok(()),
    }
}

fn read(content: &Content, range: std::ops::Range<u64>) -> io::Result<Bytes> {
    let length = usize::try_from(range.end - range.start).map_err(io::Error::other)?;
    match content {
        Content::Memory(bytes) => {
            let start = usize::try_from(range.start).map_err(io::Error::other)?;
            Ok(bytes.slice(start..start + length))
        }
        Content::File(path) => {
            let mut file = std::fs::File::open(path)?;
            file.seek(SeekFrom::Start(range.start))?;
            let mut found = vec![0; length];
            file.read_exact(&mut found)?;
            Ok(found.into())
        }
    }
}

/// A body that breaks off in the middle.
fn broken_off(content: Bytes) -> StreamingBlob {
    let half = content.slice(..content.len() / 2);
    let broken = io::Error::new(io::ErrorKind::ConnectionReset, "it breaks off, as ordered");
    StreamingBlob::wrap(stream::iter([Ok(half), Err(broken)]))
}

/// A tag of the content: objects of the same content have the same, as with most stores.
fn tag_of(content: &[u8]) -> String {
    // FNV-1a, of 128 bits.
    let mut hash = 0x6c62_272e_07bb_0142_62b8_2175_6295_c58d_u128;
    for byte in content {
        hash = (hash ^ u128::from(*byte)).wrapping_mul(0x0000_0000_0100_0000_0000_0000_0000_013b);
    }
    format!("{hash:032x}")
}
