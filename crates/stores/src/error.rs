//! Why a staging database did not do what was asked.

/// Why a staging database did not do what was asked.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum StoreError {
    /// It could not be opened or reached.
    #[error("the database {shown} could not be opened: {why}")]
    Unreachable {
        /// The database.
        shown: String,
        /// Its own words.
        why: String,
    },
    /// Its server does not take the user, or the password.
    #[error("the database {shown} does not let us in: {why}")]
    NotLetIn {
        /// The database.
        shown: String,
        /// Its own words.
        why: String,
    },
    /// Somebody else holds its lock.
    #[error("the database {shown} is locked by somebody else")]
    Locked {
        /// The database.
        shown: String,
    },
    /// It may be read but not written.
    #[error("the database {shown} is read-only")]
    ReadOnly {
        /// The database.
        shown: String,
    },
    /// There is no room for more.
    #[error("the disk of the database {shown} is full")]
    Full {
        /// The database.
        shown: String,
    },
    /// The disk it is on does not do what it should.
    #[error("the database {shown} could not be read or written: {why}")]
    Failing {
        /// The database.
        shown: String,
        /// Its own words.
        why: String,
    },
    /// The file is something else.
    #[error("{shown} is not an SQLite database")]
    NotADatabase {
        /// The database.
        shown: String,
    },
    /// The ledger was written by a newer program.
    #[error("the ledger in {shown} has version {found}; this program knows versions up to {known}")]
    NewerLedger {
        /// The database.
        shown: String,
        /// The ledger's version.
        found: i64,
        /// The newest version known here.
        known: i64,
    },
    /// A right is missing.
    #[error("{shown} does not let the user `{user}` do that: {why}")]
    Denied {
        /// The database.
        shown: String,
        /// The user.
        user: String,
        /// Its own words: which right, on which object.
        why: String,
    },
    /// The connection was lost, or the server went away, while something was done.
    #[error("the connection to {shown} was lost: {why}")]
    Lost {
        /// The database.
        shown: String,
        /// What is known of it.
        why: String,
    },
    /// It aborted something that may work when it is tried again: a deadlock, a timeout.
    #[error("{shown} aborted it: {why}")]
    Aborted {
        /// The database.
        shown: String,
        /// Its own words.
        why: String,
    },
    /// Another session has held a lock for longer than this one waits.
    #[error("{shown} is in use by somebody else: {why}")]
    InUse {
        /// The database.
        shown: String,
        /// Its own words, or what is locked.
        why: String,
    },
    /// The table is not what it was when the load was planned: another process changed it.
    #[error("the table `{table}` was changed by somebody else meanwhile")]
    Changed {
        /// The table.
        table: String,
    },
    /// A ledger of an earlier program, which could not be brought up to date.
    #[error(
        "the ledger in {shown} is of version {found}, this program reads {known}, and it could not be brought up to date: {why}"
    )]
    OlderLedger {
        /// The database.
        shown: String,
        /// Its version.
        found: i64,
        /// The version of this program.
        known: i64,
        /// What was in the way.
        why: String,
    },
    /// Another process has told people of an event.
    #[error("another process told of it meanwhile")]
    ToldMeanwhile,
    /// The rows of files are not kept any more that the change would need.
    #[error("`{table}` cannot be rebuilt: the rows of {} are not kept", files.join(", "))]
    NotKept {
        /// The table.
        table: String,
        /// The paths of the files.
        files: Vec<String>,
    },
    /// A ledger and tables that are in two databases, and do not belong together.
    #[error("the ledger {ledger} and the tables in {tables} do not belong together: {why}")]
    NotPaired {
        /// The database of the tables.
        tables: String,
        /// The database of the ledger.
        ledger: String,
        /// What shows that.
        why: String,
    },
    /// A reject is none any more.
    #[error("reject {reject} was corrected meanwhile, or its file was loaded anew")]
    RejectTaken {
        /// Its number.
        reject: i64,
    },
    /// More keys are gone with a file than may be.
    #[error("{vanished} of the {there} keys of `{table}` are not in the file")]
    TooManyVanished {
        /// The table.
        table: String,
        /// How many are gone.
        vanished: u64,
        /// How many there were.
        there: u64,
    },
    /// A value was refused in the middle of many: which one shows when they are sent in small lots.
    #[error("{shown} refused a row: {why}")]
    RowRefused {
        /// The database.
        shown: String,
        /// Its own words.
        why: String,
    },
    /// A statement of the user's own failed.
    #[error("the statement of `{setting}` failed: {why}\n  {statement}")]
    Statement {
        /// The setting it stands in.
        setting: &'static str,
        /// The statement.
        statement: String,
        /// The database's own words.
        why: String,
    },
    /// It refused a statement.
    #[error("{shown} refused: {why}")]
    Refused {
        /// The database.
        shown: String,
        /// Its own words.
        why: String,
    },
    /// An entry of the ledger does not read as it was written.
    #[error("the ledger in {shown} is damaged: {what}")]
    Damaged {
        /// The database.
        shown: String,
        /// What does not read.
        what: String,
    },
}

/// Why a server could not be connected to.
#[derive(Debug, Default)]
pub struct NotConnected {
    /// Its own words.
    pub why: String,
    /// It answered, and does not take the user or the password.
    pub is_refused: bool,
}

impl From<String> for NotConnected {
    fn from(why: String) -> NotConnected {
        NotConnected { why, is_refused: false }
    }
}

impl NotConnected {
    /// As an error about a database.
    pub fn of(self, shown: &str) -> StoreError {
        let (shown, why) = (shown.to_owned(), self.why);
        if self.is_refused {
            StoreError::NotLetIn { shown, why }
        } else {
            StoreError::Unreachable { shown, why }
        }
    }
}

impl StoreError {
    /// Whether the database could not be reached or used at all, rather than refusing one load.
    pub fn is_unreachable(&self) -> bool {
        !matches!(
            self,
            StoreError::Refused { .. }
                | StoreError::Damaged { .. }
                | StoreError::Denied { .. }
                | StoreError::Changed { .. }
                | StoreError::RowRefused { .. }
                | StoreError::Statement { .. }
                | StoreError::Aborted { .. }
                | StoreError::InUse { .. }
                | StoreError::NotKept { .. }
                | StoreError::RejectTaken { .. }
                | StoreError::TooManyVanished { .. }
        )
    }

    /// The error of a statement of the user's own: the statement failed, unless the connection, the disk or
    /// another load was in its way.
    pub(crate) fn in_statement(self, setting: &'static str, statement: &str) -> StoreError {
        let behind = |why: String| format!("{why}; it was at the statement of `{setting}`:\n  {statement}");
        match self {
            StoreError::Lost { shown, why } => StoreError::Lost { shown, why: behind(why) },
            StoreError::Aborted { shown, why } | StoreError::InUse { shown, why } => {
                StoreError::Aborted { shown, why: behind(why) }
            }
            StoreError::Locked { .. } | StoreError::Full { .. } | StoreError::Failing { .. } => self,
            other => {
                let why = match other {
                    StoreError::Refused { why, .. }
                    | StoreError::RowRefused { why, .. }
                    | StoreError::Denied { why, .. } => why,
                    other => other.to_string(),
                };
                StoreError::Statement { setting, statement: statement.to_owned(), why }
            }
        }
    }

    /// Whether the same may work when it is tried again: nothing of it was kept.
    ///
    /// ```
    /// use hypodoke_stores::StoreError;
    ///
    /// let lost = StoreError::Lost { shown: "sqlite:harbour.db".into(), why: "it is closed".into() };
    /// assert!(lost.is_transient());
    /// ```
    pub fn is_transient(&self) -> bool {
        matches!(
            self,
            StoreError::Lost { .. }
                | StoreError::Aborted { .. }
                | StoreError::InUse { .. }
                | StoreError::Changed { .. }
        )
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn shown() -> String {
        "sqlite:harbour.db".to_owned()
    }

    #[rstest]
    #[case::refused(StoreError::Refused { shown: shown(), why: "no such table".into() }, false)]
    #[case::a_row_refused(StoreError::RowRefused { shown: shown(), why: "not null".into() }, false)]
    #[case::denied(StoreError::Denied { shown: shown(), user: "quay".into(), why: "permission denied".into() }, false)]
    #[case::read_only(StoreError::ReadOnly { shown: shown() }, false)]
    #[case::no_such_file(StoreError::Unreachable { shown: shown(), why: "unable to open".into() }, false)]
    #[case::lost(StoreError::Lost { shown: shown(), why: "connection closed".into() }, true)]
    #[case::aborted(StoreError::Aborted { shown: shown(), why: "deadlock".into() }, true)]
    fn a_statement_fails_by_itself_or_by_what_was_in_its_way(
        #[case] error: StoreError,
        #[case] passes: bool,
    ) {
        let told = error.in_statement("sql_after", "ANALYZE moorings");
        assert_eq!(matches!(told, StoreError::Statement { .. }), !passes, "{told}");
        assert_eq!(told.is_transient(), passes);
        let words = told.to_string();
        assert!(words.contains("`sql_after`") && words.contains("ANALYZE moorings"), "{words}");
    }

    #[test]
    fn a_full_disk_is_no_fault_of_the_statement() {
        let told = StoreError::Full { shown: shown() }.in_statement("sql_before", "SELECT 1");
        assert!(matches!(told, StoreError::Full { .. }));
    }
}
