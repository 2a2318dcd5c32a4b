//! A place and a database in memory, for tests that need no process.

mod place;
mod store;

pub use place::MemoryPlace;
pub use store::MemoryStore;
