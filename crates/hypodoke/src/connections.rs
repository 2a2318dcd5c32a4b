//! Connections to the ledger and the tables: here, and nowhere else, they are opened.

use hypodoke_stores::{Ledger, Staging, StoreError, Tables};

/// Opens the tables, with their ledger.
pub fn tables(staging: &Staging) -> Result<Box<dyn Tables>, StoreError> {
    hypodoke_stores::open(staging)
}

/// Opens the ledger alone: the tables need not be reached.
pub fn ledger(staging: &Staging) -> Result<Box<dyn Ledger>, StoreError> {
    hypodoke_stores::open_ledger(staging)
}

/// Connections that are kept from one use to the next, as long as they stand.
pub struct KeptConnections {
    staging: Staging,
    tables: Option<Box<dyn Tables>>,
    ledger: Option<Box<dyn Ledger>>,
}

impl KeptConnections {
    /// Connections that are opened when they are needed.
    pub fn new(staging: &Staging) -> KeptConnections {
        KeptConnections { staging: staging.clone(), tables: None, ledger: None }
    }

    /// The tables, with their ledger.
    pub fn tables(&mut self) -> Result<&mut dyn Tables, StoreError> {
        let alive = self.tables.take().and_then(|mut kept| kept.is_alive().then_some(kept));
        let open = alive.map_or_else(|| tables(&self.staging), Ok)?;
        Ok(self.tables.insert(open).as_mut())
    }

    /// The ledger alone.
    pub fn ledger(&mut self) -> Result<&mut dyn Ledger, StoreError> {
        let alive = self.ledger.take().and_then(|mut kept| kept.is_alive().then_some(kept));
        let open = alive.map_or_else(|| ledger(&self.staging), Ok)?;
        Ok(self.ledger.insert(open).as_mut())
    }
}
