//! How far a transaction reaches.

/// How far a transaction reaches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Scope {
    /// A whole transaction.
    Whole,
    /// One file of a group, which can be undone by itself.
    File,
    /// Some rows of a file.
    Lot,
    /// Staged rows brought into their table.
    Merge,
}

impl Scope {
    /// The name of its savepoint; `None` for a whole transaction.
    pub(super) fn savepoint(self) -> Option<&'static str> {
        match self {
            Scope::Whole => None,
            Scope::File => Some("hd_file"),
            Scope::Lot => Some("hd_lot"),
            Scope::Merge => Some("hd_merge"),
        }
    }

    /// The scope of one file: a part of the transaction that is open, or one of its own.
    pub fn of_file(in_transaction: bool) -> Scope {
        if in_transaction { Scope::File } else { Scope::Whole }
    }
}
