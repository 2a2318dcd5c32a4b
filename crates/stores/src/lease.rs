//! Leases: what only one process at a time may do, on however many machines.

use std::fs::{File, OpenOptions, TryLockError};
use std::path::PathBuf;

use crate::address::StoreUrl;
use crate::error::StoreError;
#[cfg(feature = "mysql")]
use crate::mysql::MysqlStore;
#[cfg(feature = "postgres")]
use crate::postgres::PostgresStore;
#[cfg(any(feature = "postgres", feature = "mysql"))]
use crate::sql::SqlDatabase;

/// What one process has to itself until it drops it, or dies.
pub struct Lease(Held);

enum Held {
    /// A file that is locked: a database in a file is used from one machine.
    File { _file: File },
    /// A session with an advisory lock: it ends with the connection.
    #[cfg(feature = "postgres")]
    Session(Box<PostgresStore>),
    /// A session with a named lock, likewise.
    #[cfg(feature = "mysql")]
    Named(Box<MysqlStore>),
}

impl Lease {
    /// Takes it; `None` if somebody else has it.
    ///
    /// ```
    /// use hypodoke_stores::{Lease, StoreUrl};
    ///
    /// let folder = tempfile::tempdir()?;
    /// let url = StoreUrl::parse("sqlite:harbour.db", folder.path())?;
    /// let lease = Lease::take(&url, "berths")?;
    /// assert!(lease.is_some());
    /// // Somebody else does not get it meanwhile.
    /// assert!(Lease::take(&url, "berths")?.is_none());
    /// # Ok::<(), Box<dyn std::error::Error>>(())
    /// ```
    pub fn take(url: &StoreUrl, name: &str) -> Result<Option<Lease>, StoreError> {
        match url {
            StoreUrl::Sqlite { path, .. } => {
                let file = lock_file(url, name).unwrap_or_else(|| path.clone());
                let failed = |error: std::io::Error| StoreError::Unreachable {
                    shown: url.to_string(),
                    why: format!("{}: {error}", file.display()),
                };
                let open = OpenOptions::new().create(true).truncate(false).write(true).open(&file);
                let open = open.map_err(failed)?;
                match open.try_lock() {
                    Ok(()) => Ok(Some(Lease(Held::File { _file: open }))),
                    Err(TryLockError::WouldBlock) => Ok(None),
                    Err(TryLockError::Error(error)) => Err(failed(error)),
                }
            }
            #[cfg(feature = "postgres")]
            StoreUrl::Postgres { address, schema, wait } => {
                let mut store = PostgresStore::open(address, schema.as_deref(), *wait)?;
                let taken = store.lease(name)?;
                Ok(taken.then(|| Lease(Held::Session(Box::new(store)))))
            }
            #[cfg(feature = "mysql")]
            StoreUrl::Mysql { address, wait } => {
                let mut store = MysqlStore::open(address, *wait)?;
                let taken = store.lease(name)?;
                Ok(taken.then(|| Lease(Held::Named(Box::new(store)))))
            }
        }
    }

    /// Whether it is still held: it is lost with the connection.
    pub fn is_held(&mut self) -> bool {
        match &mut self.0 {
            Held::File { .. } => true,
            #[cfg(feature = "postgres")]
            Held::Session(store) => store.is_alive(),
            #[cfg(feature = "mysql")]
            Held::Named(store) => store.is_alive(),
        }
    }
}

/// The file that stands for a lease of a database in a file. Whatever the name, it is one file
/// beside the database.
fn lock_file(url: &StoreUrl, name: &str) -> Option<PathBuf> {
    let mut file = url.lease_prefix()?.into_os_string();
    for byte in name.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'_' | b'-' => file.push((byte as char).to_string()),
            other => file.push(format!("%{other:02X}")),
        }
    }
    Some(PathBuf::from(file))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_one_has_it_until_it_is_dropped() {
        let folder = tempfile::tempdir().expect("a folder");
        let url = StoreUrl::parse("sqlite:h.db", folder.path()).expect("an address");
        let take = |name: &str| Lease::take(&url, name).expect("a lease");
        let mut first = take("north/quay").expect("free");
        assert!(first.is_held() && take("north/quay").is_none() && take("north").is_some());
        drop(first);
        assert!(take("north/quay").is_some());
        let names: Vec<_> = std::fs::read_dir(folder.path()).expect("a folder").flatten().collect();
        assert!(names.iter().all(|entry| url.is_own(&entry.path())), "{names:?}");
    }
}
