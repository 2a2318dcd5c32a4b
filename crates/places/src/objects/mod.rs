//! Object stores: a bucket, or what begins alike in one, as a place.
//!
//! An [`ObjectsAddress`] says where it is and how to be let in; an [`ObjectsBackend`] is the place. Requests
//! are signed and objects are fetched by a library; listing by pages, and what is done on condition, are
//! here: one key that is no path must not cost the others.

mod address;
mod backend;
mod connect;
mod credentials;
mod fetch;
mod page;
mod relocate;
mod signed;
mod trouble;

pub use address::{Credentials, ObjectsAddress, ObjectsAddressError, StoreKind};
pub use backend::ObjectsBackend;
