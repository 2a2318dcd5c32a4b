//! What a feed wants done about each kind of change.

/// What becomes of a column that the table has not.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum NewColumn {
    /// The table gets it.
    #[default]
    Add,
    /// Its values are kept in one JSON column.
    Extras,
    /// It is left out.
    Ignore,
    /// The file is held.
    Hold,
}

/// What becomes of a file that lacks a sheet which files before it had.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum MissingSheet {
    /// It is held.
    #[default]
    Hold,
    /// It is loaded, and the sheet's table gets nothing.
    Load,
}

/// What becomes of a column that the file has not.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum MissingColumn {
    /// Its rows hold null there.
    #[default]
    Null,
    /// The file is held.
    Hold,
}

/// What becomes of values that need a wider type of the table's kind: integer, decimal, float; date,
/// timestamp.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum WiderType {
    /// The table's column gets it.
    #[default]
    Widen,
    /// Rows that hold such values are rejected.
    Reject,
    /// The file is held.
    Hold,
}

/// What becomes of values of another kind than the table's column: words where numbers were.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum OtherKind {
    /// Their rows are rejected, as long as they are few; a file with more is held.
    #[default]
    Reject,
    /// Their rows are rejected, however many: a person has decided so.
    RejectAll,
    /// The table's column becomes text.
    Widen,
    /// The file is held.
    Hold,
}

/// What becomes of a column that seems to be another under a new name.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum RenamedColumn {
    /// The file is held until somebody has said so.
    #[default]
    Hold,
    /// It is taken for the other.
    Follow,
    /// It is a new column, and the other is missing.
    Apart,
}

/// What becomes of a file that has none or few of the columns of the files before it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum OtherLayout {
    /// It is held: it may be of another feed.
    #[default]
    Hold,
    /// It is loaded.
    Load,
}

/// What becomes of a file whose header is gone, or has appeared.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum HeaderPolicy {
    /// The file is held.
    #[default]
    Hold,
    /// Its columns are matched by their place.
    ByPlace,
}

/// A feed's policies.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Policy {
    /// For a column that the table has not.
    pub new_column: NewColumn,
    /// For one that the file has not.
    pub missing_column: MissingColumn,
    /// For values that need a wider type.
    pub wider_type: WiderType,
    /// For values of another kind.
    pub other_kind: OtherKind,
    /// For a column that seems renamed.
    pub renamed_column: RenamedColumn,
    /// For a sheet that the file has not.
    pub missing_sheet: MissingSheet,
    /// For a file of another layout altogether.
    pub other_layout: OtherLayout,
    /// For a header that is gone or has appeared.
    pub header: HeaderPolicy,
    /// Columns that are added whatever the policy says, by their names in the file.
    pub add: Vec<String>,
    /// Columns that are left out whatever the policy says.
    pub ignore: Vec<String>,
}

impl Policy {
    /// The words of [`NewColumn`] in the configuration.
    pub const NEW_COLUMN: [(&str, NewColumn); 4] = [
        ("add", NewColumn::Add),
        ("extras", NewColumn::Extras),
        ("ignore", NewColumn::Ignore),
        ("hold", NewColumn::Hold),
    ];
    /// The words of [`MissingColumn`].
    pub const MISSING_COLUMN: [(&str, MissingColumn); 2] =
        [("null", MissingColumn::Null), ("hold", MissingColumn::Hold)];
    /// The words of [`MissingSheet`].
    pub const MISSING_SHEET: [(&str, MissingSheet); 2] =
        [("hold", MissingSheet::Hold), ("load", MissingSheet::Load)];
    /// The words of [`WiderType`].
    pub const WIDER_TYPE: [(&str, WiderType); 3] =
        [("widen", WiderType::Widen), ("reject", WiderType::Reject), ("hold", WiderType::Hold)];
    /// The words of [`OtherKind`].
    pub const OTHER_KIND: [(&str, OtherKind); 3] =
        [("reject", OtherKind::Reject), ("widen", OtherKind::Widen), ("hold", OtherKind::Hold)];
    /// The words of [`RenamedColumn`].
    pub const RENAMED_COLUMN: [(&str, RenamedColumn); 3] =
        [("hold", RenamedColumn::Hold), ("follow", RenamedColumn::Follow), ("apart", RenamedColumn::Apart)];
    /// The words of [`OtherLayout`].
    pub const OTHER_LAYOUT: [(&str, OtherLayout); 2] =
        [("hold", OtherLayout::Hold), ("load", OtherLayout::Load)];
    /// The words of [`HeaderPolicy`].
    pub const HEADER: [(&str, HeaderPolicy); 2] =
        [("hold", HeaderPolicy::Hold), ("by-place", HeaderPolicy::ByPlace)];

    /// The same, holding nothing: for a file that a person has decided to load.
    pub fn letting_all_through(&self) -> Policy {
        let mut policy = self.clone();
        if policy.new_column == NewColumn::Hold {
            policy.new_column = NewColumn::Add;
        }
        if policy.wider_type == WiderType::Hold {
            policy.wider_type = WiderType::Widen;
        }
        if policy.other_kind != OtherKind::Widen {
            policy.other_kind = OtherKind::RejectAll;
        }
        if policy.renamed_column == RenamedColumn::Hold {
            policy.renamed_column = RenamedColumn::Apart;
        }
        policy.missing_column = MissingColumn::Null;
        policy.missing_sheet = MissingSheet::Load;
        policy.other_layout = OtherLayout::Load;
        policy.header = HeaderPolicy::ByPlace;
        policy
    }
}
