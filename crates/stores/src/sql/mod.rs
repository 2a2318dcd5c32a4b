//! SQL as the ledger speaks it, whichever database answers: connections, values, transactions, and
//! what differs between databases.

mod connection;
mod dialect;
mod scope;
mod transaction;
mod value;

pub use connection::{SqlConnection, SqlDatabase};
pub use dialect::{MYSQL, POSTGRES, SQLITE, SqlDialect, quote, unquote};
pub use scope::Scope;
pub use transaction::in_transaction;
pub use value::{Misread, SqlRow, SqlValue, moment_text};
