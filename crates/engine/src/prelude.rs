//! What a program needs that loads files: one `use` for all of it.

pub use hypodoke_core::layout::ColumnRule;
pub use hypodoke_core::outcome::Outcome;
pub use hypodoke_core::pattern::Pattern;
pub use hypodoke_core::types::Type;
pub use hypodoke_formats::{Format, FormatOptions};
pub use hypodoke_places::{Backend, Completeness, Place, PutAway, SpoolSettings};
pub use hypodoke_stores::{Ledger, Mode, Staging, StoreUrl, Tables, open};

pub use crate::batch::{LoadReport, RunOptions, StopSignal, load_new};
pub use crate::error::EngineError;
pub use crate::event::{Event, Listener, Silent};
pub use crate::job::{Expectations, Feed, FeedSource, Job, JobBuilder, JobError, PlaceSource};
pub use crate::receipt::{Receipt, ReceiptLine};
