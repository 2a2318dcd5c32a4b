//! Connecting: the server's key, then who we are, then the folder.

use std::sync::{Arc, Mutex};
use std::time::Duration;

use hypodoke_runtime::runtime;
use russh::ChannelMsg;
use russh::client::{self, Handle};
use russh::keys::PublicKeyOrCertificate;
use russh_sftp::client::RawSftpSession;

use super::address::SftpAddress;
use super::host::{self, HostKey};
use super::login::log_in;
use crate::error::RemoteTrouble;
use crate::one_line::one_line;

/// How long a server that speaks is listened to, and how much of it.
const LISTENING: Duration = Duration::from_secs(4);
const MOST_WORDS: usize = 2048;

/// A server that we are connected to.
pub struct SftpSession {
    pub(super) sftp: RawSftpSession,
    // The connection ends when this is dropped.
    _handle: Handle<Watcher>,
}

/// Looks at the server's key.
struct Watcher {
    address: SftpAddress,
    /// What was found of the key; the library only takes a yes or a no.
    found: Arc<Mutex<SeenKey>>,
    /// The key is only wanted to be seen.
    only_look: bool,
}

#[derive(Default)]
struct SeenKey {
    key: Option<HostKey>,
    trouble: Option<RemoteTrouble>,
}

impl client::Handler for Watcher {
    type Error = russh::Error;

    async fn check_server_key(&mut self, key: &PublicKeyOrCertificate) -> Result<bool, russh::Error> {
        let PublicKeyOrCertificate::PublicKey { key, .. } = key else {
            return Ok(false);
        };
        let key = HostKey::of(key);
        let checked = host::check(&self.address, &key);
        let mut found = self.found.lock().unwrap_or_else(|poisoned| poisoned.into_inner());
        found.key = Some(key);
        match checked {
            Ok(()) => Ok(!self.only_look),
            Err(trouble) => {
                found.trouble = Some(trouble);
                Ok(false)
            }
        }
    }
}

impl SftpSession {
    /// Connects, and is let in.
    pub fn open(address: &SftpAddress) -> Result<SftpSession, RemoteTrouble> {
        let runtime = runtime().map_err(|error| RemoteTrouble::Other(error.to_string()))?;
        runtime.block_on(SftpSession::connect(address))
    }

    /// Connects as far as the server's key.
    pub fn key_of(address: &SftpAddress) -> Result<HostKey, RemoteTrouble> {
        let runtime = runtime().map_err(|error| RemoteTrouble::Other(error.to_string()))?;
        let found = Arc::new(Mutex::new(SeenKey::default()));
        let ended = runtime.block_on(shake_hands(address, found.clone(), true));
        let key = found.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).key.clone();
        match (key, ended) {
            (Some(key), _) => Ok(key),
            (None, Err(trouble)) => Err(trouble),
            (None, Ok(_)) => Err(RemoteTrouble::Lost("the server showed no key".to_owned())),
        }
    }

    pub(super) async fn connect(address: &SftpAddress) -> Result<SftpSession, RemoteTrouble> {
        let found = Arc::new(Mutex::new(SeenKey::default()));
        let mut handle = match shake_hands(address, found.clone(), false).await {
            Ok(handle) => handle,
            Err(trouble) => {
                let found = found.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).trouble.take();
                return Err(found.unwrap_or(trouble));
            }
        };
        within(address, log_in(address, &mut handle)).await??;
        match within(address, begin(address, &handle)).await {
            Ok(begun) => match begun? {
                Some(sftp) => Ok(SftpSession { sftp, _handle: handle }),
                None => Err(no_sftp(&handle).await),
            },
            // A channel that is closed at once may be waited for in vain, though the server has said why.
            Err(silent) => match no_sftp(&handle).await {
                speaks @ RemoteTrouble::Speaks { .. } => Err(speaks),
                _ => Err(silent),
            },
        }
    }
}

/// What comes of a step before the server has been silent for as long as it may.
async fn within<T>(address: &SftpAddress, step: impl Future<Output = T>) -> Result<T, RemoteTrouble> {
    tokio::time::timeout(address.wait, step).await.map_err(|_| RemoteTrouble::Silent)
}

/// Begins to speak SFTP with a server that let us in; nothing where it does not.
async fn begin(
    address: &SftpAddress,
    handle: &Handle<Watcher>,
) -> Result<Option<RawSftpSession>, RemoteTrouble> {
    let lost = |error: russh::Error| RemoteTrouble::Lost(error.to_string());
    let channel = handle.channel_open_session().await.map_err(lost)?;
    if channel.request_subsystem(true, "sftp").await.is_err() {
        return Ok(None);
    }
    let sftp = RawSftpSession::new(channel.into_stream());
    sftp.set_timeout(address.wait.as_secs().max(1));
    Ok(sftp.init().await.is_ok().then_some(sftp))
}

/// Why a server that lets us in has no files for us: it may say so in words, as where a password
/// has expired or a profile greets whoever comes.
async fn no_sftp(handle: &Handle<Watcher>) -> RemoteTrouble {
    if handle.is_closed() {
        return RemoteTrouble::Lost("it broke during the login".to_owned());
    }
    let mut said = heard(handle, true).await;
    if said.is_empty() {
        // What goes to standard error is not handed on for SFTP; for a command that does nothing it is.
        said = heard(handle, false).await;
    }
    match one_line(&String::from_utf8_lossy(&said)) {
        words if words.is_empty() => RemoteTrouble::NoSftp,
        words => RemoteTrouble::Speaks { words },
    }
}

/// What a server says of its own when asked for SFTP, or else for a command.
async fn heard(handle: &Handle<Watcher>, for_sftp: bool) -> Vec<u8> {
    let mut said = Vec::new();
    let listening = async {
        let mut channel = handle.channel_open_session().await?;
        if for_sftp {
            channel.request_subsystem(true, "sftp").await?;
        } else {
            channel.exec(true, "true").await?;
        }
        while said.len() < MOST_WORDS {
            match channel.wait().await {
                Some(ChannelMsg::Data { data } | ChannelMsg::ExtendedData { data, .. }) => {
                    said.extend_from_slice(&data);
                }
                Some(ChannelMsg::Close) | None => break,
                Some(_) => {}
            }
        }
        Ok::<(), russh::Error>(())
    };
    // What was heard until then counts, whatever ended it.
    let _ = tokio::time::timeout(LISTENING, listening).await;
    said
}

async fn shake_hands(
    address: &SftpAddress,
    found: Arc<Mutex<SeenKey>>,
    only_look: bool,
) -> Result<Handle<Watcher>, RemoteTrouble> {
    let config = client::Config {
        keepalive_interval: Some(Duration::from_secs(10)),
        keepalive_max: 3,
        nodelay: true,
        window_size: 8 << 20,
        maximum_packet_size: 64 << 10,
        ..client::Config::default()
    };
    let watcher = Watcher { address: address.clone(), found, only_look };
    let connecting = client::connect(Arc::new(config), (address.host.as_str(), address.port), watcher);
    match tokio::time::timeout(address.wait, connecting).await {
        Ok(Ok(handle)) => Ok(handle),
        Ok(Err(error)) => Err(in_words(address, error)),
        Err(_) => Err(RemoteTrouble::Silent),
    }
}

/// Why a server could not be connected to, in words.
fn in_words(address: &SftpAddress, error: russh::Error) -> RemoteTrouble {
    match error {
        russh::Error::IO(error) => match error.kind() {
            std::io::ErrorKind::ConnectionRefused => RemoteTrouble::Refused { port: address.port },
            std::io::ErrorKind::TimedOut => RemoteTrouble::Silent,
            // The resolver has no kind of error of its own.
            _ if error.to_string().contains("lookup") => {
                RemoteTrouble::NoSuchHost { host: address.host.clone() }
            }
            _ => RemoteTrouble::Lost(error.to_string()),
        },
        russh::Error::NoCommonAlgo { kind, theirs, .. } => {
            RemoteTrouble::Weak { what: format!("{kind:?}").to_lowercase(), theirs: theirs.join(", ") }
        }
        other => RemoteTrouble::Lost(other.to_string()),
    }
}
