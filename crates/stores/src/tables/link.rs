//! What ties tables to the ledger that records their loads.

use std::collections::{HashMap, HashSet};

use crate::ledger::LedgerConnection;
use crate::ledger::intents::OpenLoad;
use crate::ledger::joined_layouts::JoinedLayout;

/// What ties tables to the ledger that records their loads.
#[derive(Default)]
pub struct LedgerLink {
    /// The connection to the ledger, where it is in another database than the tables.
    elsewhere: Option<Box<dyn LedgerConnection>>,
    /// The transaction of several files, as far as it has come.
    pub group: Option<OpenGroup>,
    /// The tokens of loads whose marks are not needed any more.
    pub finished: Vec<String>,
}

/// The transaction of several files, as far as it has come.
#[derive(Default)]
pub struct OpenGroup {
    /// The files that nobody else loads, by the keys of their claims: the newest entry known of each, as it
    /// was claimed. Of those that the ledger knows nothing else of that would matter.
    pub claimed: HashMap<String, i64>,
    /// The tables that nobody else fills whose files are loaded in their order.
    pub in_order: HashSet<String>,
    /// What its files found in tables that stay as they are: kept when it ends.
    pub layouts: Vec<JoinedLayout>,
    /// Its loads, where rows and ledger are committed apart.
    pub loads: Vec<OpenLoad>,
}

impl LedgerLink {
    /// A link to a ledger in another database.
    pub fn to(ledger: Box<dyn LedgerConnection>) -> LedgerLink {
        LedgerLink { elsewhere: Some(ledger), ..LedgerLink::default() }
    }

    /// Whether the ledger is in another database than the tables.
    pub fn is_elsewhere(&self) -> bool {
        self.elsewhere.is_some()
    }

    /// Whether several connections can write to the ledger at the same time, where it is in another database.
    pub fn many_writers(&self) -> Option<bool> {
        self.elsewhere.as_ref().map(|ledger| !ledger.dialect().is_one_writer)
    }

    /// The ledger in another database, if it is in one.
    pub fn elsewhere(&mut self) -> Option<&mut (dyn LedgerConnection + 'static)> {
        self.elsewhere.as_deref_mut()
    }

    /// The ledger in another database, where that is known to be.
    pub fn other(&mut self) -> &mut dyn LedgerConnection {
        match self.elsewhere.as_deref_mut() {
            Some(ledger) => ledger,
            None => unreachable!("the ledger is asked for elsewhere, and is beside the tables"),
        }
    }
}
