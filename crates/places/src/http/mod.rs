//! Files behind links: one, a list of them, or links with a day in them.
//!
//! An [`HttpAddress`] says which links are asked for; a `Client` makes the requests; an
//! [`HttpBackend`] is the place.

mod address;
mod backend;
pub(crate) mod client;
mod fetch;
mod guard;
mod links;
mod transport;
mod version;

pub use address::{Authorization, HttpAddress, HttpAddressError};
pub use backend::HttpBackend;
