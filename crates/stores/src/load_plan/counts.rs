//! What became of the rows of a file in its tables, in figures.

/// What became of the rows of a file in its table.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// Rows added.
    pub inserted: u64,
    /// Rows that took the place of others, or a new version of them.
    pub updated: u64,
    /// Rows that were there just so.
    pub unchanged: u64,
    /// Rows taken out.
    pub deleted: u64,
    /// Rows of the file that a later one of the same file, the mode, or the table leaves out.
    pub left_out: u64,
    /// How many of these a trigger of the table left out.
    pub by_trigger: u64,
    /// Rows of other files that are back in the table.
    pub restored: u64,
    /// Keys whose rows somebody else has changed, and that were left as they are.
    pub touched: u64,
    /// Keys that somebody else had changed, and that were overwritten.
    pub overwritten: u64,
    /// Missing rows that were inserted again.
    pub put_back: u64,
    /// Rows that stand behind those of later files.
    pub overtaken: u64,
    /// Keys that are gone with this file.
    pub vanished: u64,
    /// Corrected rows of the version before that came along.
    pub carried: u64,
    /// Corrected rows of the version before that are gone with it.
    pub uncorrected: u64,
}

impl Counts {
    /// What is to be said of them, one thing at a time.
    pub fn notes(&self) -> Vec<String> {
        let said = |count: u64, one: &str, more: &str| {
            (count > 0).then(|| format!("{count} {}", if count == 1 { one } else { more }))
        };
        let all = [
            said(
                self.by_trigger,
                "row left out by a trigger of the table",
                "rows left out by a trigger of the table",
            ),
            said(
                self.overtaken,
                "row is also in a later file, which stands",
                "rows are also in later files, which stand",
            ),
            said(
                self.restored,
                "row of another file is back in the table",
                "rows of other files are back in the table",
            ),
            said(
                self.vanished,
                "key that the table held is not in this file",
                "keys that the table held are not in this file",
            ),
            said(
                self.carried,
                "row that was corrected before stays corrected",
                "rows that were corrected before stay corrected",
            ),
            said(
                self.uncorrected,
                "corrected row of the version before is gone with it",
                "corrected rows of the version before are gone with it",
            ),
            said(
                self.put_back,
                "row that was missing in the table is back in it",
                "rows that were missing in the table are back in it",
            ),
            said(
                self.overwritten,
                "key that somebody else had changed was overwritten",
                "keys that somebody else had changed were overwritten",
            ),
            said(
                self.touched,
                "key was changed by somebody else since it was loaded, and left as it is",
                "keys were changed by somebody else since they were loaded, and left as they are",
            ),
        ];
        all.into_iter().flatten().collect()
    }
}
