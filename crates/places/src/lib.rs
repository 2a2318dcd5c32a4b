//! Places: where files land. Listing what is there, and reading a file while its content is
//! hashed and watched for changes.

mod after;
mod digest;
mod error;
mod fingerprint;
mod folder;
mod place;
pub mod sftp;

pub use after::PutAway;
pub use digest::Digest;
pub use error::{PlaceError, RemoteTrouble};
pub use fingerprint::{Meter, Opened, open, open_inside};
pub use folder::{Listing, Seen, list, look_at, path_text};
pub use place::{Completeness, Fetched, Place, RemoteFile, beside, dismiss, expect};
