//! Connecting: the server's key, then who we are, then the folder.

use std::sync::{Arc, Mutex};
use std::time::Duration;

use russh::client::{self, AuthResult, Handle};
use russh::keys::agent::client::AgentClient;
use russh::keys::{PrivateKeyWithHashAlg, PublicKeyOrCertificate, load_secret_key};
use russh_sftp::client::RawSftpSession;

use super::{HostKey, SftpAddress, host, runtime};
use crate::error::RemoteTrouble;

/// How long a server may take to answer while we connect.
const PATIENCE: Duration = Duration::from_secs(20);

/// How long it may say nothing while we wait for an answer, in seconds.
const SILENCE: u64 = 30;

/// A server that we are connected to.
pub struct Session {
    pub(super) sftp: RawSftpSession,
    // The connection ends when this is dropped.
    _handle: Handle<Watcher>,
}

/// Looks at the server's key.
struct Watcher {
    address: SftpAddress,
    /// What was found of the key; the library only takes a yes or a no.
    found: Arc<Mutex<Found>>,
    /// The key is only wanted to be seen.
    only_look: bool,
}

#[derive(Default)]
struct Found {
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

impl Session {
    /// Connects, and is let in.
    pub fn open(address: &SftpAddress) -> Result<Session, RemoteTrouble> {
        let runtime = runtime().map_err(|error| RemoteTrouble::Other(error.to_string()))?;
        runtime.block_on(Session::connect(address))
    }

    /// Connects as far as the server's key.
    pub fn key_of(address: &SftpAddress) -> Result<HostKey, RemoteTrouble> {
        let runtime = runtime().map_err(|error| RemoteTrouble::Other(error.to_string()))?;
        let found = Arc::new(Mutex::new(Found::default()));
        let ended = runtime.block_on(shake_hands(address, found.clone(), true));
        let key = found.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).key.clone();
        match (key, ended) {
            (Some(key), _) => Ok(key),
            (None, Err(trouble)) => Err(trouble),
            (None, Ok(_)) => Err(RemoteTrouble::Lost("the server showed no key".to_owned())),
        }
    }

    pub(super) async fn connect(address: &SftpAddress) -> Result<Session, RemoteTrouble> {
        let found = Arc::new(Mutex::new(Found::default()));
        let mut handle = match shake_hands(address, found.clone(), false).await {
            Ok(handle) => handle,
            Err(trouble) => {
                let found = found.lock().unwrap_or_else(|poisoned| poisoned.into_inner()).trouble.take();
                return Err(found.unwrap_or(trouble));
            }
        };
        log_in(address, &mut handle).await?;
        let lost = |error: russh::Error| RemoteTrouble::Lost(error.to_string());
        let channel = handle.channel_open_session().await.map_err(lost)?;
        let no_sftp = |handle: &Handle<Watcher>| match handle.is_closed() {
            true => RemoteTrouble::Lost("it broke while we were let in".to_owned()),
            false => RemoteTrouble::NoSftp,
        };
        channel.request_subsystem(true, "sftp").await.map_err(|_| no_sftp(&handle))?;
        let sftp = RawSftpSession::new(channel.into_stream());
        sftp.set_timeout(SILENCE);
        if sftp.init().await.is_err() {
            return Err(no_sftp(&handle));
        }
        Ok(Session { sftp, _handle: handle })
    }
}

async fn shake_hands(
    address: &SftpAddress,
    found: Arc<Mutex<Found>>,
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
    match tokio::time::timeout(PATIENCE, connecting).await {
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

/// By key, by agent, by password: whichever is there, until one is taken.
async fn log_in(address: &SftpAddress, handle: &mut Handle<Watcher>) -> Result<(), RemoteTrouble> {
    let lost = |error: russh::Error| RemoteTrouble::Lost(error.to_string());
    let mut tried = Vec::new();
    if let Some(file) = &address.key_file {
        let passphrase = address.passphrase.as_ref().map(|secret| secret.reveal());
        let key = load_secret_key(file, passphrase).map_err(|error| RemoteTrouble::BadKeyFile {
            file: file.clone(),
            why: match error {
                russh::keys::Error::KeyIsEncrypted => "it asks for a passphrase".to_owned(),
                other => other.to_string(),
            },
        })?;
        let hash = handle.best_supported_rsa_hash().await.map_err(lost)?.flatten();
        let key = PrivateKeyWithHashAlg::new(Arc::new(key), hash);
        if taken(handle.authenticate_publickey(&address.user, key).await.map_err(lost)?) {
            return Ok(());
        }
        tried.push(format!("the key {}", file.display()));
    } else if address.password.is_none() && std::env::var_os("SSH_AUTH_SOCK").is_some() {
        if by_agent(address, handle).await {
            return Ok(());
        }
        tried.push("the keys of the agent".to_owned());
    }
    if let Some(password) = &address.password {
        let answer = handle.authenticate_password(&address.user, password.reveal()).await.map_err(lost)?;
        if taken(answer) {
            return Ok(());
        }
        tried.push("the password".to_owned());
    }
    if tried.is_empty() {
        return Err(RemoteTrouble::NoWayIn);
    }
    Err(RemoteTrouble::NotLetIn { user: address.user.clone(), tried: tried.join(", ") })
}

fn taken(answer: AuthResult) -> bool {
    matches!(answer, AuthResult::Success)
}

async fn by_agent(address: &SftpAddress, handle: &mut Handle<Watcher>) -> bool {
    let Ok(mut agent) = AgentClient::connect_env().await else { return false };
    let Ok(identities) = agent.request_identities().await else { return false };
    for identity in identities {
        let key = identity.public_key().into_owned();
        let answer = handle.authenticate_publickey_with(&address.user, key, None, &mut agent).await;
        if answer.is_ok_and(taken) {
            return true;
        }
    }
    false
}
