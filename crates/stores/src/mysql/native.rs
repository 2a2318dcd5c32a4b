//! Tables as the catalogue of a server has them.

use hypodoke_core::layout::{Column, Layout};
use hypodoke_core::names::Lineage;

use super::types::{NativeType, declared};
use crate::tables::catalog::{TableColumn, TableShape, Takes};

/// The column that numbers rows where the server takes no table without a primary key.
pub const KEY_COLUMN: &str = "hd_number";

/// A column as the catalogue has it.
#[derive(Clone, Debug)]
pub struct NativeColumn {
    /// What it is to everybody.
    pub column: TableColumn,
    /// Its type.
    pub native: NativeType,
}

/// A table as the catalogue has it.
#[derive(Clone, Debug)]
pub struct NativeTable {
    /// Its name.
    pub name: String,
    /// Its columns, our own left out.
    pub columns: Vec<NativeColumn>,
    /// Our own columns that it has.
    pub own: Vec<String>,
    /// The lineage columns it has.
    pub lineage: Lineage,
    /// How rows get into it.
    pub takes: Takes,
    /// What keeps its rows; `None` for a view.
    pub engine: Option<String>,
    /// The names of its indexes.
    pub indexes: Vec<String>,
}

impl NativeTable {
    /// The table as others see it.
    pub fn shape(&self) -> TableShape {
        TableShape {
            name: self.name.clone(),
            columns: self.columns.iter().map(|column| column.column.clone()).collect(),
            lineage: self.lineage,
            takes: self.takes,
        }
    }

    /// Takes in what the ledger says of a table of ours: some types are declared alike.
    pub fn take_in(&mut self, layout: &Layout) {
        for column in &mut self.columns {
            let known = layout.columns.iter().find(|known| known.name == column.column.name);
            if let Some(ty) = known.map(Column::ty).filter(|ty| column.native.is(&declared(*ty))) {
                column.column.ty = ty;
                column.column.limit = None;
            }
        }
    }

    /// The column of that name. Names of columns are alike whatever their case.
    pub fn column(&self, name: &str) -> Option<&NativeColumn> {
        self.columns.iter().find(|column| column.column.name.to_lowercase() == name.to_lowercase())
    }

    /// Whether what it keeps can be undone.
    pub fn is_transactional(&self) -> bool {
        self.engine.as_ref().is_none_or(|engine| engine.eq_ignore_ascii_case("InnoDB"))
    }

    /// Whether all its texts are kept as UTF-8 of up to four bytes, and none is checked for what it says.
    pub fn takes_plain_bytes(&self) -> bool {
        self.columns.iter().all(|column| {
            let native = &column.native;
            native.word != "json"
                && native.charset.as_deref().is_none_or(|set| matches!(set, "utf8mb4" | "ascii"))
        })
    }
}
