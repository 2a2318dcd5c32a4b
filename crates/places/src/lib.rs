//! Places: where files land. Listing what is there, and reading a file while its content is
//! hashed and watched for changes.
//!
//! A [`Place`] is a name, the [`Backend`] behind it and, where files have to be fetched before they
//! can be read, a spool. Another kind of place is another backend.

mod after;
mod backend;
mod digest;
mod error;
mod fingerprint;
mod folder;
pub mod http;
mod memory_file;
#[cfg(feature = "objects")]
pub mod objects;
mod one_line;
mod pace;
mod part_file;
mod place;
mod private;
mod secret;
mod seen;
pub mod sftp;
mod space;
mod spool;
#[cfg(test)]
mod spool_tests;
mod version;

pub use after::PutAway;
pub use backend::{Backend, Identity, ListRequest, Listed, ShownKey};
pub use digest::Digest;
pub use error::{PlaceError, RemoteTrouble};
pub use fingerprint::{Meter, MeteredFile, open, open_inside};
pub use folder::{look_at, path_text};
pub use place::{Completeness, Place, Scope, beside};
pub use private::{private, private_folder};
pub use secret::Secret;
pub use seen::{Fetched, Listing, Seen, SpooledFile, dismiss, expect};
pub use space::free_space;
pub use spool::{DURABLE, SpoolSettings};
