//! Why a place or a file in it could not be looked at.

use std::io;
use std::path::PathBuf;

/// Why a place or a file in it could not be looked at.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum PlaceError {
    /// There is nothing of that name.
    #[error("there is no `{}`", path.display())]
    Missing {
        /// What was looked for.
        path: PathBuf,
    },
    /// The system does not let us.
    #[error("no right to read `{}`", path.display())]
    Forbidden {
        /// What was to be read.
        path: PathBuf,
    },
    /// There is something, which is neither a file nor a folder.
    #[error("`{}` is no file: a pipe or a device cannot be read twice", path.display())]
    NoFile {
        /// What it is.
        path: PathBuf,
    },
    /// The file is not what it was when it was begun.
    #[error("`{}` changed while it was read", path.display())]
    Changed {
        /// The file.
        path: PathBuf,
    },
    /// The file was sent again, twice, while it was put away.
    #[error(
        "`{}` was sent twice while it was put away; the version in between, which was not loaded, is now `{}`",
        path.display(),
        kept.display()
    )]
    Replaced {
        /// The file.
        path: PathBuf,
        /// Where the version is now that was not loaded.
        kept: PathBuf,
    },
    /// A server, or a file on it.
    #[error("{shown}: {trouble}")]
    Remote {
        /// The server, or the file.
        shown: String,
        /// What is the matter.
        trouble: RemoteTrouble,
    },
    /// Anything else the system says.
    #[error("`{}` could not be read: {error}", path.display())]
    Io {
        /// What was being read.
        path: PathBuf,
        /// The system's own words.
        error: io::Error,
    },
}

impl PlaceError {
    /// Whether the file is another version than it was, or being written: it is an arrival still.
    pub fn is_changed(&self) -> bool {
        matches!(
            self,
            PlaceError::Changed { .. } | PlaceError::Remote { trouble: RemoteTrouble::Changed, .. }
        )
    }

    /// Whether the file is not there any more.
    ///
    /// ```
    /// use hypodoke_places::{PlaceError, RemoteTrouble};
    ///
    /// let error = PlaceError::Remote { shown: "tides".into(), trouble: RemoteTrouble::Gone };
    /// assert!(error.is_gone() && !error.is_changed());
    /// ```
    pub fn is_gone(&self) -> bool {
        matches!(self, PlaceError::Missing { .. } | PlaceError::Remote { trouble: RemoteTrouble::Gone, .. })
    }

    /// The error for what the system said of a path.
    pub fn of(path: impl Into<PathBuf>, error: io::Error) -> PlaceError {
        let path = path.into();
        match error.kind() {
            io::ErrorKind::NotFound => PlaceError::Missing { path },
            io::ErrorKind::PermissionDenied => PlaceError::Forbidden { path },
            _ => PlaceError::Io { path, error },
        }
    }
}

/// What is the matter with a server, or a file on it.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum RemoteTrouble {
    /// Nobody knows its name.
    #[error("there is no host `{host}`")]
    NoSuchHost {
        /// The name.
        host: String,
    },
    /// It is there, and nobody answers at the door.
    #[error("nothing answers at port {port}: the connection was refused")]
    Refused {
        /// The port.
        port: u16,
    },
    /// It takes too long.
    #[error("the server does not answer")]
    Silent,
    /// A file arrives so slowly that nobody can wait for it.
    #[error(
        "it arrives too slowly: {bytes} bytes in {seconds} seconds, and no fewer than {least} are waited for"
    )]
    Slow {
        /// How many bytes arrived.
        bytes: u64,
        /// In how many seconds.
        seconds: u64,
        /// How many it should be.
        least: u64,
    },
    /// One file of it cannot be read, for reasons of its own.
    #[error("it cannot be read: {0}")]
    Unread(String),
    /// The connection broke.
    #[error("the connection was lost: {0}")]
    Lost(String),
    /// Its key is not known.
    #[error("its key is not known: {algorithm} {fingerprint} is not in {}", file.display())]
    UnknownKey {
        /// The key's kind.
        algorithm: String,
        /// Its fingerprint.
        fingerprint: String,
        /// Where known keys are.
        file: PathBuf,
    },
    /// Its key is another than the one known.
    #[error(
        "its key is NOT the one known: it shows {algorithm} {fingerprint}, and line {line} of {} says otherwise",
        file.display()
    )]
    ChangedKey {
        /// The key's kind.
        algorithm: String,
        /// Its fingerprint.
        fingerprint: String,
        /// Where known keys are.
        file: PathBuf,
        /// The line of the other.
        line: usize,
    },
    /// It speaks nothing that is safe.
    #[error("it offers no {what} algorithm that is safe, only {theirs}")]
    Weak {
        /// What for.
        what: String,
        /// What it offers.
        theirs: String,
    },
    /// There is nowhere to keep the keys of servers.
    #[error("there is no home folder, and no `known_hosts` is set")]
    NoKnownHosts,
    /// The key file will not do.
    #[error("the key {} cannot be used: {why}", file.display())]
    BadKeyFile {
        /// The file.
        file: PathBuf,
        /// Why.
        why: String,
    },
    /// Nothing is there to be let in by.
    #[error("there are no credentials: no key, no agent, no password")]
    NoWayIn,
    /// It will not have us.
    #[error("the server refused the login of `{user}`; tried with {tried}")]
    NotLetIn {
        /// Whom we said to be.
        user: String,
        /// By what.
        tried: String,
    },
    /// It wants to know more than a password.
    #[error("after the password, the server asks `{prompt}`")]
    Asks {
        /// What it asks, on one line.
        prompt: String,
    },
    /// It lets us in, and speaks to a person.
    #[error("the login works, but the server then sends text where SFTP should begin: `{words}`")]
    Speaks {
        /// What it says, on one line.
        words: String,
    },
    /// It lets us in, and has no files for us.
    #[error("the login works, but the server offers no SFTP")]
    NoSftp,
    /// The folder is not there.
    #[error("there is no folder `{}` on it", folder.display())]
    NoFolder {
        /// The folder.
        folder: PathBuf,
    },
    /// We may not.
    #[error("no right to read {}", if path.as_os_str().is_empty() { "it".to_owned() } else { format!("`{}`", path.display()) })]
    NoRight {
        /// What.
        path: PathBuf,
    },
    /// The file is not there any more.
    #[error("it is gone")]
    Gone,
    /// The file is not what was listed, or changed while it was fetched.
    #[error("it changed while it was fetched, or is another than the server lists")]
    Changed,
    /// The file is there as it was listed, and what the server gives of it is not of its size.
    #[error("it is not of the size that the server says")]
    Misstated,
    /// A name that would lead elsewhere.
    #[error("the name `{name}` is refused: it would lead out of the folder")]
    BadName {
        /// The name, escaped.
        name: String,
    },
    /// A key of a store that cannot be asked for as a path.
    #[error("the key `{key}` is refused: it is no path of files in folders")]
    BadKey {
        /// The key, escaped.
        key: String,
    },
    /// A name that cannot be asked for.
    #[error("the name `{name}` is not in UTF-8, so it cannot be asked for")]
    ForeignName {
        /// The name, what is not in UTF-8 replaced.
        name: String,
    },
    /// It is larger than the spool.
    #[error("it is larger than is allowed: {bytes} bytes or more, where {limit} are the most")]
    TooLarge {
        /// Its size, as far as it was read.
        bytes: u64,
        /// The limit.
        limit: u64,
    },
    /// The spool could not be written.
    #[error("the spool {}: {why}", path.display())]
    Spool {
        /// The file.
        path: PathBuf,
        /// Why.
        why: String,
    },
    /// The server has too much to do, or is not well.
    #[error("the server answered {status}, which passes")]
    Busy {
        /// The number of its answer.
        status: u16,
    },
    /// The server does not take who is asking.
    #[error("the server refuses whoever is asking ({user})")]
    NotAuthorized {
        /// As whom we asked.
        user: String,
    },
    /// A web page where a file was promised.
    #[error("the server answered with a web page where the file should be")]
    Page,
    /// Too many redirections, or one that leads nowhere.
    #[error("the link leads from one to another, and is not followed further than {most} times")]
    Redirected {
        /// How many are followed.
        most: u32,
    },
    /// A link that must not be followed.
    #[error("the link is not followed: {0}")]
    RefusedAddress(String),
    /// A link that is none.
    #[error("it is no link to a file: {0}")]
    BadLink(String),
    /// The server's certificate is not trusted.
    #[error("the server's certificate is not trusted: {0}")]
    Untrusted(String),
    /// Certificates of the user's own that cannot be read.
    #[error("the certificates of {} cannot be read: {why}", file.display())]
    BadCertificates {
        /// The file.
        file: PathBuf,
        /// Why.
        why: String,
    },
    /// Files of the place cannot be moved.
    #[error("it cannot be moved: {0}")]
    CannotMove(String),
    /// There is no such bucket.
    #[error("there is no bucket `{bucket}`")]
    NoBucket {
        /// The bucket.
        bucket: String,
    },
    /// There are no keys for a store.
    #[error(
        "there are no keys: none in the configuration, none in the environment, none in the shared file of credentials"
    )]
    NoKeys,
    /// The keys are not taken.
    #[error("the store does not take the keys: {why}")]
    BadKeys {
        /// Its own word for it.
        why: String,
    },
    /// The store asks for another region.
    #[error("the bucket is in another region than `{region}`{}", expected.as_ref().map(|expected| format!(": in `{expected}`")).unwrap_or_default())]
    OtherRegion {
        /// The region that was asked.
        region: String,
        /// The region that the store names.
        expected: Option<String>,
    },
    /// The clocks are too far apart.
    #[error("the clock of this machine is not that of the store, which refuses requests of another time")]
    ClockOff,
    /// Anything else, in the other side's words.
    #[error("{0}")]
    Other(String),
}

impl RemoteTrouble {
    /// Whether trying again may help.
    pub fn is_transient(&self) -> bool {
        matches!(
            self,
            RemoteTrouble::Lost(_)
                | RemoteTrouble::Silent
                | RemoteTrouble::Refused { .. }
                | RemoteTrouble::Busy { .. }
        )
    }

    /// Whether the server itself is the matter, and not one file.
    pub fn is_of_server(&self) -> bool {
        !matches!(
            self,
            RemoteTrouble::Gone
                | RemoteTrouble::Changed
                | RemoteTrouble::Misstated
                | RemoteTrouble::NoRight { .. }
                | RemoteTrouble::BadName { .. }
                | RemoteTrouble::BadKey { .. }
                | RemoteTrouble::ForeignName { .. }
                | RemoteTrouble::TooLarge { .. }
                | RemoteTrouble::Spool { .. }
                | RemoteTrouble::Unread(_)
                | RemoteTrouble::Slow { .. }
                | RemoteTrouble::Page
                | RemoteTrouble::Redirected { .. }
                | RemoteTrouble::RefusedAddress(_)
                | RemoteTrouble::BadLink(_)
                | RemoteTrouble::CannotMove(_)
        )
    }
}
