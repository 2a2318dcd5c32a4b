//! Which ledger and which tables belong together where they are in two databases, and the marks that
//! committed loads leave among the tables.

use std::hash::{BuildHasher, RandomState};
use std::time::SystemTime;

use super::link::LedgerLink;
use crate::error::StoreError;
use crate::ledger::intents::OpenLoad;
use crate::ledger::{self, schema};
use crate::load_plan::Mode;
use crate::sql::{SqlConnection, SqlValue, in_transaction};
use crate::tables::load_target::LoadTarget;

/// The tables of ours that are beside the staging tables, where the ledger is elsewhere.
pub const TABLES_BESIDE: [&str; 2] = ["hd_pairing", "hd_commits"];

const COMMITS: &str = "
CREATE TABLE hd_commits (load_token {name} NOT NULL PRIMARY KEY, file {integer} NOT NULL){options};
";

/// What a database says of its pair: the token of both, and the other in words for people.
type Pairing = Option<(String, String)>;

/// Refuses a ledger and tables that do not belong together. Nothing is written.
///
/// # Errors
///
/// One of them belongs to another, or has loads in it that the other knows nothing of.
pub fn check<T: LoadTarget>(store: &mut T) -> Result<(), StoreError> {
    if !store.link().is_elsewhere() {
        return Ok(());
    }
    let refused = |tables: &T, ledger: &str, why: &str| StoreError::NotPaired {
        tables: tables.shown(),
        ledger: ledger.to_owned(),
        why: why.to_owned(),
    };
    let shown = store.ledger().shown();
    if store.has_column("hd_ledger", "version")? == Some(true) {
        return Err(refused(store, &shown, "the tables' database holds a ledger of its own"));
    }
    let of_tables = pairing_of(store)?;
    let has_ledger = store.ledger().has_column("hd_ledger", "version")? == Some(true);
    let of_ledger = if has_ledger { pairing_of(store.ledger())? } else { None };
    let why = match (&of_tables, &of_ledger) {
        (Some((tables, _)), Some((ledger, _))) if tables == ledger => return Ok(()),
        (Some((_, with)), _) => format!("the tables are recorded in another ledger, {with}"),
        (None, Some(_)) => return Ok(()),
        (None, None) if !has_ledger || !has_files(store.ledger())? => return Ok(()),
        (None, None) => "the ledger records loads into its own database".to_owned(),
    };
    Err(refused(store, &shown, &why))
}

/// Makes the ledger, and what the tables need beside them to be in step with it.
pub fn make<T: LoadTarget>(store: &mut T) -> Result<(), StoreError> {
    store.records().open_ledger()?;
    if !store.link().is_elsewhere() {
        return Ok(());
    }
    check(store)?;
    let shown = store.shown();
    let token = match pairing_of(store.ledger())? {
        Some((token, _)) => token,
        None => {
            let token = new_token();
            pair(store.ledger(), &token, &shown)?
        }
    };
    if pairing_of(store)?.is_none() {
        let ledger = store.ledger().shown();
        make_beside(store)?;
        pair(store, &token, &ledger)?;
    }
    Ok(())
}

/// A token that no other pair and no other load has.
pub fn new_token() -> String {
    let part = || RandomState::new().hash_one(SystemTime::now());
    format!("{:016x}{:016x}", part(), part())
}

/// Makes the tables of ours beside the staging tables.
fn make_beside(connection: &mut dyn SqlConnection) -> Result<(), StoreError> {
    in_transaction(connection, |connection| {
        connection.prepare_for_ledger()?;
        if connection.has_column("hd_commits", "")?.is_none() {
            let more = connection.dialect().more_tables;
            schema::run(connection, &[more, COMMITS])?;
        }
        if connection.has_column("hd_pairing", "")?.is_none() {
            schema::run(connection, &[schema::PAIRING])?;
        }
        Ok(())
    })
}

/// Writes a pairing down, unless somebody has meanwhile; gives the one that is there.
fn pair(connection: &mut dyn SqlConnection, token: &str, with: &str) -> Result<String, StoreError> {
    in_transaction(connection, |connection| {
        connection.prepare_for_ledger()?;
        if let Some((known, _)) = pairing_of(connection)? {
            return Ok(known);
        }
        let sql = "INSERT INTO hd_pairing (pairing, paired_with) VALUES (?1, ?2)";
        connection.execute(sql, &[SqlValue::from(token), SqlValue::from(with)])?;
        Ok(token.to_owned())
    })
}

fn pairing_of(connection: &mut dyn SqlConnection) -> Result<Pairing, StoreError> {
    if connection.has_column("hd_pairing", "pairing")? != Some(true) {
        return Ok(None);
    }
    let sql = "SELECT pairing, paired_with FROM hd_pairing";
    let found = connection.entries(sql, &[], |row| Ok((row.text(0)?, row.text(1)?)))?;
    Ok(found.into_iter().next())
}

fn has_files(ledger: &mut dyn SqlConnection) -> Result<bool, StoreError> {
    Ok(!ledger.query("SELECT file FROM hd_files LIMIT 1", &[])?.is_empty())
}

/// Marks loads as committed, in the transaction of their rows.
pub fn add_marks(connection: &mut dyn SqlConnection, loads: &[OpenLoad]) -> Result<(), StoreError> {
    let sql = "INSERT INTO hd_commits (load_token, file) VALUES (?1, ?2)";
    let mark = |load: &OpenLoad| vec![SqlValue::from(&load.token), SqlValue::Integer(load.file)];
    connection.execute_all(sql, &loads.iter().map(mark).collect::<Vec<_>>())
}

/// Whether a load is committed.
pub fn has_mark(connection: &mut dyn SqlConnection, token: &str) -> Result<bool, StoreError> {
    let sql = "SELECT file FROM hd_commits WHERE load_token = ?1";
    Ok(!connection.query(sql, &[SqlValue::from(token)])?.is_empty())
}

/// The tokens of all marks.
pub fn marks(connection: &mut dyn SqlConnection) -> Result<Vec<String>, StoreError> {
    if connection.has_column("hd_commits", "load_token")? != Some(true) {
        return Ok(Vec::new());
    }
    connection.entries("SELECT load_token FROM hd_commits", &[], |row| row.text(0))
}

/// Takes marks out that are not needed any more.
pub fn remove_marks(connection: &mut dyn SqlConnection, tokens: &[String]) -> Result<(), StoreError> {
    let sql = "DELETE FROM hd_commits WHERE load_token = ?1";
    connection.execute_all(sql, &tokens.iter().map(|token| vec![SqlValue::from(token)]).collect::<Vec<_>>())
}

/// The rights on tables of ours that loading needs in the database of the tables.
pub fn rights_beside<T: LoadTarget>(store: &T) -> Vec<(String, &'static [&'static str])> {
    let names: &[&str] = match store.link().is_elsewhere() {
        true => &TABLES_BESIDE,
        false => &ledger::LEDGER_TABLES,
    };
    let more = store.dialect().more_table_names.iter();
    names.iter().chain(more).map(|name| ((*name).to_owned(), ledger::rights_on(name))).collect()
}

/// The rights on the tables of a ledger in another database, whose entries may have to be taken back.
pub fn missing_in_ledger(link: &mut LedgerLink) -> Result<Vec<String>, StoreError> {
    const ALL: &[&str] = &["SELECT", "INSERT", "UPDATE", "DELETE"];
    let Some(ledger) = link.elsewhere() else { return Ok(Vec::new()) };
    let on: Vec<(String, &'static [&'static str])> =
        ledger::LEDGER_TABLES.iter().map(|name| ((*name).to_owned(), ALL)).collect();
    ledger.missing_ledger_grants(&on)
}

/// The rights that loading into these tables needs and that are not given, as the statements that would give
/// them, in both databases.
pub fn missing_rights<T: LoadTarget>(
    store: &mut T,
    tables: &[(String, Mode)],
) -> Result<Vec<String>, StoreError> {
    let mut on = rights_beside(store);
    on.extend(tables.iter().map(|(name, mode)| (name.clone(), mode.rights())));
    let mut missing = store.missing_grants(&on)?;
    missing.extend(missing_in_ledger(store.link_mut())?);
    Ok(missing)
}
