//! SFTP places: files on other people's servers.
//!
//! A `SftpSession` speaks to a server; an [`SftpBackend`] is a folder on one. SSH is asynchronous
//! inside, and everything that leaves this module blocks.

mod address;
mod backend;
mod connect;
mod fetch;
mod host;
mod list;
mod login;
mod rsa_key;

pub use address::{AddressError, SftpAddress};
pub use backend::SftpBackend;
