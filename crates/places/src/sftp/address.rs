//! Where an SFTP place is, and how to be let in.

use std::path::PathBuf;
use std::time::Duration;

use hypodoke_core::redact::redacted;

use crate::secret::Secret;

/// How long a server may say nothing, unless something else is said.
const USUAL_WAIT: Duration = Duration::from_secs(30);

/// An SFTP place: `sftp://user@host:port/dir`, and how to be let in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SftpAddress {
    /// Whom to be there.
    pub user: String,
    /// The server.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// The folder: from the root where it begins with `/`, else from where the user begins.
    pub folder: String,
    /// A password.
    pub password: Option<Secret>,
    /// A private key.
    pub key_file: Option<PathBuf>,
    /// What opens the private key.
    pub passphrase: Option<Secret>,
    /// The keys of servers that are known; unsaid, the user's own file.
    pub known_hosts: Option<PathBuf>,
    /// How long the server may say nothing while it is waited for.
    pub wait: Duration,
}

/// What is wrong with an address.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum AddressError {
    /// It is none of SFTP.
    #[error("`{0}` is not an address of a place; write a folder, or sftp://user@host:22/folder")]
    NotSftp(String),
    /// It says who, but with a password in it.
    #[error("the address holds a password; give it as `password = \"${{NAME}}\"` instead")]
    HasPassword,
    /// Nobody is named.
    #[error("`{0}` says no user; write sftp://user@{0}")]
    NoUser(String),
    /// The port is none.
    #[error("`{0}` is not a port")]
    BadPort(String),
}

impl SftpAddress {
    /// Reads `sftp://user@host:port/dir`.
    pub fn parse(text: &str) -> Result<SftpAddress, AddressError> {
        let rest = text.strip_prefix("sftp://").ok_or_else(|| AddressError::NotSftp(redacted(text)))?;
        if rest.rsplit_once('@').is_some_and(|(user, _)| user.contains(':')) {
            return Err(AddressError::HasPassword);
        }
        let (server, folder) = match rest.split_once('/') {
            Some((server, folder)) => (server, format!("/{folder}")),
            None => (rest, String::new()),
        };
        let Some((user, server)) = server.rsplit_once('@') else {
            return Err(AddressError::NoUser(server.to_owned()));
        };
        let is_v6 = server.starts_with('[');
        let (host, port) = match server.rsplit_once(':') {
            Some((host, port)) if !is_v6 || host.ends_with(']') => {
                (host, port.parse().map_err(|_| AddressError::BadPort(port.to_owned()))?)
            }
            _ => (server, 22),
        };
        if host.is_empty() || user.is_empty() {
            return Err(AddressError::NotSftp(redacted(text)));
        }
        // `/~/inbox` is the folder `inbox` of the user's own.
        let folder = match folder.strip_prefix("/~/") {
            Some(own) => own.to_owned(),
            None => folder,
        };
        let folder = folder.trim_end_matches('/');
        Ok(SftpAddress {
            user: user.to_owned(),
            host: host.trim_matches(['[', ']']).to_owned(),
            port,
            folder: if folder.is_empty() { ".".to_owned() } else { folder.to_owned() },
            password: None,
            key_file: None,
            passphrase: None,
            known_hosts: None,
            wait: USUAL_WAIT,
        })
    }

    /// The address for people: nothing in it is secret.
    pub fn shown(&self) -> String {
        let port = if self.port == 22 { String::new() } else { format!(":{}", self.port) };
        let folder = match self.folder.as_str() {
            "." => String::new(),
            folder if folder.starts_with('/') => folder.to_owned(),
            folder => format!("/~/{folder}"),
        };
        format!("sftp://{}@{}{port}{folder}", self.user, self.host)
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("sftp://pickup@gauges.example:2222/outgoing/", "gauges.example", 2222, "/outgoing")]
    #[case("sftp://pickup@gauges.example", "gauges.example", 22, ".")]
    #[case("sftp://pickup@gauges.example/~/out", "gauges.example", 22, "out")]
    #[case("sftp://pickup@[::1]:2022/x", "::1", 2022, "/x")]
    #[case("sftp://pickup@[::1]/x", "::1", 22, "/x")]
    fn addresses_are_read(#[case] text: &str, #[case] host: &str, #[case] port: u16, #[case] folder: &str) {
        let address = SftpAddress::parse(text).expect("an address");
        assert_eq!((address.host.as_str(), address.port, address.folder.as_str()), (host, port, folder));
    }

    #[rstest]
    #[case("ftp://a@b/c", "is not an address")]
    #[case("sftp://b/c", "says no user")]
    #[case("sftp://a:secret@b/c", "holds a password")]
    #[case("sftp://a@b:seven/c", "`seven` is not a port")]
    fn wrong_addresses_are_told(#[case] text: &str, #[case] words: &str) {
        let error = SftpAddress::parse(text).expect_err("no address").to_string();
        assert!(error.contains(words) && !error.contains("secret@"), "{error}");
    }

    #[test]
    fn secrets_are_never_shown() {
        let mut address = SftpAddress::parse("sftp://a@b/c").expect("an address");
        address.password = Some(Secret::new("hunter"));
        assert!(!format!("{address:?}").contains("hunter"));
        assert_eq!(address.shown(), "sftp://a@b/c");
    }
}
