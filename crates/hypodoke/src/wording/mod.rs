//! What went wrong, and what to do about it, in words: sentences for reasons, and the commands, options and settings
//! of this program.

pub mod reasons;

use hypodoke_core::drift::{Change, Remedy};
use hypodoke_core::outcome::Outcome;
use hypodoke_engine::decide::FailReason;
use hypodoke_engine::error::{AgainProblem, EngineError, ResubmitProblem};
use hypodoke_engine::receipt::ReceiptLine;
use hypodoke_formats::ReadError;
use hypodoke_places::{PlaceError, RemoteTrouble};
use hypodoke_stores::{StoreError, Takes};

/// A word as a shell takes it for one.
pub fn quoted(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "_-./=:%+,@".contains(c);
    if !word.is_empty() && word.chars().all(plain) {
        word.to_owned()
    } else {
        format!("'{}'", word.replace('\'', "'\\''"))
    }
}

/// A remedy as an option of `settle`.
pub fn option(remedy: &Remedy) -> String {
    match remedy {
        Remedy::Rename(old, new) => format!("--rename {}", quoted(&format!("{old}={new}"))),
        Remedy::AddColumn(column) => format!("--add-column {}", quoted(column)),
        Remedy::IgnoreColumn(column) => format!("--ignore-column {}", quoted(column)),
        Remedy::AsText(column) => format!("--as-text {}", quoted(column)),
        Remedy::LoadAnyway => "--load-anyway".to_owned(),
        Remedy::Discard => "--discard".to_owned(),
    }
}

/// Remedies as options of `settle`, each once.
pub fn options<'r>(remedies: impl IntoIterator<Item = &'r Remedy>) -> String {
    let mut all: Vec<String> = Vec::new();
    for option in remedies.into_iter().map(option) {
        if !all.contains(&option) {
            all.push(option);
        }
    }
    all.join(" ")
}

/// What to do about a line of a receipt.
pub fn line_advice(line: &ReceiptLine) -> Option<String> {
    match line.outcome {
        Outcome::Held if line.holds.is_empty() => None,
        Outcome::Held => {
            let first: Vec<Remedy> =
                line.holds.iter().filter_map(|reason| reason.remedies().into_iter().next()).collect();
            Some(format!("hypodoke settle {} {}", quoted(&line.path), options(&first)))
        }
        Outcome::Loaded if !line.left_keys.is_empty() => {
            Some(format!("hypodoke replay {} --overwrite replaces their rows", quoted(&line.path)))
        }
        Outcome::Loaded => {
            let misread = line.changes.iter().any(|drift| matches!(drift.change, Change::Misread { .. }));
            let table = line.table.as_deref().filter(|_| misread)?;
            Some(format!("hypodoke replay {} reads the files before it anew", quoted(table)))
        }
        _ => advice(line.error.as_ref()?),
    }
}

/// What to do about an error of the engine.
pub fn advice(error: &EngineError) -> Option<String> {
    let fixed = match error {
        EngineError::Place { place, cause } => {
            // Which place it is, is not known where files are fetched.
            return place_advice(cause).map(|advice| advice.replace("PLACE", place));
        }
        EngineError::File(cause) => place_advice(cause),
        EngineError::Read { cause, .. } => read_advice(cause),
        EngineError::Unloadable { reason: FailReason::OtherColumns { of_name, .. }, .. }
            if !of_name.is_empty() =>
        {
            let skips: Vec<String> =
                of_name.iter().map(|name| format!("{name} = {{ skip = true }}")).collect();
            return Some(format!(
                "{} from the file's name: leave it out under [feed.NAME.columns], {}",
                if of_name.len() == 1 { "a column comes" } else { "columns come" },
                skips.join(", ")
            ));
        }
        EngineError::Unloadable { reason, .. } => fail_advice(reason),
        EngineError::Store(cause) => store_advice(cause),
        EngineError::PlaceLost { cause, .. } => return advice(cause),
        EngineError::OneTable { .. } => Some("give one of them another name, or a feed of its own"),
        EngineError::EmptyFolder { .. } => Some("name a folder that does, or the files themselves"),
        EngineError::LedgerEntry { .. } => {
            Some("another program has changed the ledger: restore the entry, or load the file again")
        }
        EngineError::Resubmit(problem) => resubmit_advice(problem),
        EngineError::Again(problem) => again_advice(problem),
        _ => None,
    };
    fixed.map(str::to_owned)
}

fn fail_advice(reason: &FailReason) -> Option<&'static str> {
    Some(match reason {
        FailReason::Unmet(_) => "nothing of it was loaded; ask for it again",
        FailReason::ReservedTable { .. } => "give the feed's `table` another name",
        FailReason::RowsNotFound { .. } => "take its rows out by hand, or load it under another name",
        FailReason::TooManyColumns { .. } => {
            "check the delimiter (--delimiter), keep objects as they are (--nested json), or ask for the file in parts"
        }
        FailReason::NotOffered { .. } => "choose another `mode`, or another database",
        FailReason::ChangedWhileRead => "load it again once it is whole",
        FailReason::OtherWidth { .. } => "ask for the file with its header",
        FailReason::KeyOfList { .. } => {
            "say which columns tell its rows apart, under [feed.NAME.keys], or keep nested lists as JSON, nested = \"json\""
        }
        FailReason::OtherColumns { .. } => {
            "load into another table with --table, or name the columns alike in the feed"
        }
        FailReason::TakesNoRows { takes: Takes::Statements, .. } => {
            "load into the table behind it, give it such a trigger, or use a mode with a key"
        }
        FailReason::TakesNoRows { .. } => "load into the table behind it, or another one",
        FailReason::Panicked(_) => {
            "nothing of it was loaded, and the other files are not affected; report the file to the makers of hypodoke"
        }
        _ => return None,
    })
}

fn resubmit_advice(problem: &ResubmitProblem) -> Option<&'static str> {
    Some(match problem {
        ResubmitProblem::NoRejectColumn { .. } | ResubmitProblem::NoMarkColumn { .. } => {
            "correct a file that `hypodoke rejects --export` wrote, and keep its columns"
        }
        ResubmitProblem::OtherWidth { .. }
        | ResubmitProblem::NoRow { .. }
        | ResubmitProblem::NoJson { .. } => {
            "nothing of it was loaded; correct the line and take the file again"
        }
        ResubmitProblem::NoNumber { .. } => "nothing of it was loaded; keep the column as it was exported",
        ResubmitProblem::NotOpen { .. } => {
            "nothing of it was loaded; take the line out, or export the rejects anew"
        }
        ResubmitProblem::NestedLists { .. } | ResubmitProblem::OtherColumns { .. } => {
            "correct the file itself; loaded again it takes the place of the first"
        }
        ResubmitProblem::NoFeed { .. } => "name the configuration with --config",
        ResubmitProblem::Unreadable { .. } | ResubmitProblem::NotWritten(_) => return None,
    })
}

fn again_advice(problem: &AgainProblem) -> Option<&'static str> {
    Some(match problem {
        AgainProblem::NoLineage { .. } => "nothing was touched; take them out by hand",
        AgainProblem::Gone { .. } => "put it back, or decide to --discard it",
        AgainProblem::Changed { .. } => "hypodoke load looks at it again",
        AgainProblem::InUse { .. } => return None,
    })
}

/// What to do about a place or a file in it. `PLACE` stands for the name of the place.
pub fn place_advice(error: &PlaceError) -> Option<&'static str> {
    match error {
        PlaceError::Missing { .. } => Some("check the spelling of the path"),
        PlaceError::NoFile { .. } => Some("write what comes out of it to a file, and load that"),
        PlaceError::Forbidden { .. } => Some("give yourself the right to read it"),
        PlaceError::Changed { .. } => Some("load again once the file is complete"),
        PlaceError::Replaced { .. } => {
            Some("load that version by hand if it counts; have files sent under a name of their own")
        }
        PlaceError::Remote { trouble, .. } => remote_advice(trouble),
        _ => None,
    }
}

fn read_advice(error: &ReadError) -> Option<&'static str> {
    match error {
        ReadError::Expansion { .. } => {
            Some("if it is what you expect, raise `max_expansion` in the feed or give --max-expansion")
        }
        ReadError::TooManyFields { .. } => Some("check the delimiter (--delimiter); no database has so many"),
        ReadError::LongLine { .. } | ReadError::LongCell { .. } | ReadError::LongValue { .. } => {
            Some("if it is what you expect, raise `max_record` in the feed or give --max-record")
        }
        ReadError::KeysAreData { .. } => {
            Some("keep them as they are with `nested = \"json\"` in the feed, or --nested json")
        }
        ReadError::Columnar { .. } => Some("ask for the file again"),
        ReadError::Encrypted { .. } => Some("ask for the file without encryption"),
        ReadError::NotBuilt { .. } => Some("build it in: cargo build --release --features full"),
        ReadError::Password => Some("ask for the workbook without a password"),
        ReadError::Workbook(_) | ReadError::Json { .. } => Some("ask for the file again"),
        ReadError::TooLarge { .. } => Some("ask for it in several files, or as CSV"),
        ReadError::Locked { .. } => Some("ask for the file without a password"),
        ReadError::Archive(_) | ReadError::Compressed { .. } => Some("ask for the file again"),
        ReadError::Binary { .. } => Some("if it is text, name its encoding with --encoding"),
        _ => None,
    }
}

fn remote_advice(error: &RemoteTrouble) -> Option<&'static str> {
    Some(match error {
        RemoteTrouble::NoSuchHost { .. } => "check the spelling of the address",
        RemoteTrouble::Refused { .. } | RemoteTrouble::Silent | RemoteTrouble::Lost(_) => {
            "check address and port, and whether the server is up; load again once it is"
        }
        RemoteTrouble::UnknownKey { .. } => {
            "ask its owner for the fingerprint; if it is the same: hypodoke check --trust PLACE"
        }
        RemoteTrouble::ChangedKey { .. } => {
            "somebody else may be answering in its place: ask its owner, and only then take the line out"
        }
        RemoteTrouble::Weak { .. } => "ask its owner to offer what is safe",
        RemoteTrouble::NoKnownHosts => "set `known_hosts` in the place",
        RemoteTrouble::BadKeyFile { .. } => "check `key_file`, and `passphrase` where it has one",
        RemoteTrouble::NoWayIn => "set `key_file` or `password` in the place, or start an agent",
        RemoteTrouble::NotLetIn { .. } => "check user, key and password with the server's owner",
        RemoteTrouble::Asks { .. } => {
            "log in there by hand once, with ssh, and do what it asks; or ask its owner for a key"
        }
        RemoteTrouble::Speaks { .. } => {
            "log in there by hand once, with ssh, and do what it asks; greetings its owner has to keep out of SFTP"
        }
        RemoteTrouble::ForeignName { .. } | RemoteTrouble::BadKey { .. } => {
            "ask whoever sends it to rename it"
        }
        RemoteTrouble::NoSftp => "ask its owner to let you use SFTP",
        RemoteTrouble::NoFolder { .. } => "check the folder in the address",
        RemoteTrouble::NoRight { .. } => "ask the server's owner for the right to read it",
        RemoteTrouble::Gone | RemoteTrouble::Changed => "load again once the file is complete",
        RemoteTrouble::Misstated => "ask whoever runs the server, or whoever sends the file, for it again",
        RemoteTrouble::TooLarge { .. } => "raise `limit` in [spool], or `max_size` of the place",
        RemoteTrouble::Busy { .. } => "load again later",
        RemoteTrouble::Slow { .. } => {
            "load again: it goes on where it broke off; or ask the server's owner what is wrong"
        }
        RemoteTrouble::NotAuthorized { .. } => "set `user` and `password`, or `token`, in the place",
        RemoteTrouble::Page => {
            "open the link in a browser: it may ask for a login, or lead to a page about the file"
        }
        RemoteTrouble::Redirected { .. } => "name the link that it leads to",
        RemoteTrouble::RefusedAddress(_) => {
            "if it is what you want, name the host in `path` or `links` of the place"
        }
        RemoteTrouble::BadLink(_) => "check `links` of the place, or whoever writes the list",
        RemoteTrouble::Untrusted(_) => {
            "set `ca_file` in the place, if the server has certificates of your own"
        }
        RemoteTrouble::BadCertificates { .. } => "check `ca_file`: a file of certificates in PEM",
        RemoteTrouble::CannotMove(_) => "set after = \"leave\" in the place",
        RemoteTrouble::NoBucket { .. } => "check the bucket in `path`, and `endpoint`",
        RemoteTrouble::NoKeys => {
            "set `access_key` and `secret_key` in the place, or credentials = \"anonymous\" or \"machine\""
        }
        RemoteTrouble::BadKeys { .. } => "check `access_key` and `secret_key` with the store's owner",
        RemoteTrouble::OtherRegion { .. } => "set `region` in the place",
        RemoteTrouble::ClockOff => "set the clock of this machine",
        RemoteTrouble::Spool { .. } => "make room, or set `path` in [spool]",
        _ => return None,
    })
}

/// What to do about a database.
pub fn store_advice(error: &StoreError) -> Option<&'static str> {
    Some(match error {
        StoreError::Unreachable { .. } => {
            "check the address: of a file, that its folder exists and may be written; of a server, that it runs"
        }
        StoreError::NotLetIn { .. } => {
            "check the user, and where the password is kept: PGPASSWORD or ~/.pgpass, MYSQL_PWD or ~/.my.cnf, or ${NAME} in the configuration"
        }
        StoreError::Locked { .. } => "wait until the other program is done, or raise `wait` in [staging]",
        StoreError::ReadOnly { .. } => "give yourself the right to write the file and its folder",
        StoreError::Full { .. } => "make room; nothing of the file in hand was kept, so load again then",
        StoreError::Failing { .. } => {
            "check the disk, and limits of the account on the size of files; nothing of the file in hand was kept"
        }
        StoreError::NotADatabase { .. } => "name another file, or move that one away",
        StoreError::OlderLedger { .. } => {
            "the next load, by somebody who may write to it, brings it up to date"
        }
        StoreError::NewerLedger { .. } => "use the newer program for this database",
        StoreError::Denied { .. } => "`hypodoke check` prints the GRANT statements that are missing",
        StoreError::Lost { .. } => {
            "load again once the server is back: what was loaded is kept, and nothing twice"
        }
        StoreError::Aborted { .. } | StoreError::Changed { .. } => "load again",
        StoreError::InUse { .. } => "wait until the other process is done, or raise `wait` in [staging]",
        StoreError::NotKept { .. } => {
            "nothing was touched; load these files again (hypodoke replay), or set `keep_superseded` to keep rows longer"
        }
        StoreError::NotPaired { .. } => {
            "name the ledger that these tables were loaded with; a ledger serves the tables of one database, and another database needs another ledger"
        }
        StoreError::RejectTaken { .. } => "nothing of its file was loaded; export the rejects anew",
        StoreError::TooManyVanished { .. } => "ask for the whole file, or raise `vanished_at_most`",
        StoreError::Statement { .. } => "correct the statement; nothing of the file was kept",
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use hypodoke_core::drift::HeldChange;
    use hypodoke_core::types::Type;
    use hypodoke_engine::decide::HoldReason;
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("draught=draft_m", "draught=draft_m")]
    #[case("Draught (m)", "'Draught (m)'")]
    #[case("it's", "'it'\\''s'")]
    #[case("", "''")]
    fn words_are_quoted_for_a_shell(#[case] word: &str, #[case] expected: &str) {
        assert_eq!(quoted(word), expected);
    }

    #[test]
    fn a_held_file_is_settled_by_the_likeliest_remedy_of_each_reason() {
        let column =
            |name: &str| HoldReason::Change(HeldChange::NewColumn { column: name.into(), ty: Type::Integer });
        let mut line = ReceiptLine::default();
        (line.path, line.outcome) = ("north/a b.csv".into(), Outcome::Held);
        line.holds = vec![column("gt"), column("gt"), HoldReason::HeaderGone];
        let expected = "hypodoke settle 'north/a b.csv' --add-column gt --load-anyway";
        assert_eq!(line_advice(&line).as_deref(), Some(expected));
    }

    #[test]
    fn a_failed_line_is_advised_by_its_reason() {
        let error = EngineError::unloadable("a.csv", FailReason::ChangedWhileRead);
        let mut line = ReceiptLine::default();
        (line.outcome, line.error) = (Outcome::Failed, Some(error));
        assert_eq!(line_advice(&line).as_deref(), Some("load it again once it is whole"));
    }
}
