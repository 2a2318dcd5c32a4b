//! Servers are who they were: their keys held against those that are known.

use std::path::{Path, PathBuf};

use russh::keys::known_hosts::{check_known_hosts_path, learn_known_hosts_path};
use russh::keys::{HashAlg, PublicKey};

use super::address::SftpAddress;
use crate::backend::ShownKey;
use crate::error::RemoteTrouble;

/// The key that a server showed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HostKey {
    key: PublicKey,
}

impl HostKey {
    pub(super) fn of(key: &PublicKey) -> HostKey {
        HostKey { key: key.clone() }
    }

    /// Its kind: `ssh-ed25519`.
    pub fn algorithm(&self) -> String {
        self.key.algorithm().to_string()
    }

    /// Its fingerprint: `SHA256:…`.
    pub fn fingerprint(&self) -> String {
        self.key.fingerprint(HashAlg::Sha256).to_string()
    }
}

/// The file of known servers.
fn file_of(address: &SftpAddress) -> Result<PathBuf, RemoteTrouble> {
    if let Some(file) = &address.known_hosts {
        return Ok(file.clone());
    }
    let home = std::env::var_os("HOME").map(PathBuf::from);
    home.map(|home| home.join(".ssh/known_hosts")).ok_or(RemoteTrouble::NoKnownHosts)
}

/// Whether a server is the one that is known; an error that says what to do where it is not.
pub(super) fn check(address: &SftpAddress, key: &HostKey) -> Result<(), RemoteTrouble> {
    let file = file_of(address)?;
    let (algorithm, fingerprint) = (key.algorithm(), key.fingerprint());
    match check_known_hosts_path(&address.host, address.port, &key.key, &file) {
        Ok(true) => Ok(()),
        Ok(false) => Err(RemoteTrouble::UnknownKey { algorithm, fingerprint, file }),
        Err(russh::keys::Error::KeyChanged { line }) => {
            Err(RemoteTrouble::ChangedKey { algorithm, fingerprint, file, line })
        }
        Err(error) => Err(RemoteTrouble::Other(format!("{}: {error}", file.display()))),
    }
}

/// A key as it is shown and kept.
pub(super) fn shown(key: &HostKey) -> Result<ShownKey, RemoteTrouble> {
    let text = key.key.to_openssh().map_err(|error| RemoteTrouble::Other(error.to_string()))?;
    Ok(ShownKey { algorithm: key.algorithm(), fingerprint: key.fingerprint(), text })
}

/// Adds a server's key to those that are known; gives the file.
pub(super) fn learn(address: &SftpAddress, key: &ShownKey) -> Result<PathBuf, RemoteTrouble> {
    let key = PublicKey::from_openssh(&key.text).map_err(|error| RemoteTrouble::Other(error.to_string()))?;
    let file = file_of(address)?;
    let failed = |error: &dyn std::fmt::Display| RemoteTrouble::Other(format!("{}: {error}", file.display()));
    if let Some(folder) = file.parent().filter(|folder| *folder != Path::new("")) {
        std::fs::create_dir_all(folder).map_err(|error| failed(&error))?;
    }
    learn_known_hosts_path(&address.host, address.port, &key, &file).map_err(|error| failed(&error))?;
    Ok(file)
}
