//! The ledger's tables, made and brought up to this version, in every SQL database alike.

use super::{LEDGER_TABLES, LEDGER_VERSION};
use crate::error::StoreError;
use crate::sql::{SqlConnection, SqlValue, in_transaction};

/// The program and its version, as the ledger names it.
pub const PROGRAM: &str = concat!("hypodoke ", env!("CARGO_PKG_VERSION"));

const TABLES: &str = r#"
CREATE TABLE hd_ledger (version {integer} NOT NULL PRIMARY KEY, program {text} NOT NULL){options};
CREATE TABLE hd_batches (
  batch {id}, began_at {moment} NOT NULL, ended_at {moment}, program {text} NOT NULL
){options};
CREATE TABLE hd_files (
  file {id}, batch {integer} NOT NULL{of_batch},
  place {text} NOT NULL, path {text} NOT NULL, bytes {integer} NOT NULL, modified_at {moment} NOT NULL,
  content_hash {text}, feed {text}, table_name {name}, kind {text}, outcome {text} NOT NULL,
  rows_read {integer} NOT NULL DEFAULT 0, rows_loaded {integer} NOT NULL DEFAULT 0,
  rows_rejected {integer} NOT NULL DEFAULT 0, rows_left_out {integer} NOT NULL DEFAULT 0,
  began_at {moment} NOT NULL, ended_at {moment}, message {text}, replaced_by {integer}{of_file},
  rows_inserted {integer} NOT NULL DEFAULT 0, rows_updated {integer} NOT NULL DEFAULT 0,
  rows_unchanged {integer} NOT NULL DEFAULT 0, rows_deleted {integer} NOT NULL DEFAULT 0, shape {text},
  version_token {text}, ordered_by {text} NOT NULL DEFAULT (''), ordered_at {moment}, first_file {integer},
  effective_at {moment}, delivery {text}, rules {text}, rows_kept {integer} NOT NULL DEFAULT 0, figures {text},
  reasons {text}, has_parts {integer} NOT NULL DEFAULT 1
){options};
CREATE INDEX hd_files_in_order ON hd_files (table_name, ordered_by{prefix}, ordered_at, path{prefix});
CREATE INDEX hd_files_by_path ON hd_files (place{prefix}, path{prefix});
CREATE INDEX hd_files_by_batch ON hd_files (batch);
CREATE INDEX hd_files_by_size ON hd_files (bytes);
CREATE TABLE hd_layouts (
  table_name {name} NOT NULL, version {integer} NOT NULL, file {integer} NOT NULL{of_file},
  layout {text} NOT NULL, PRIMARY KEY (table_name, version)
){options};
CREATE TABLE hd_drift (
  drift {id}, file {integer} NOT NULL{of_file}, table_name {name} NOT NULL,
  column_name {text} NOT NULL, "change" {text} NOT NULL, from_type {text}, to_type {text},
  action {text} NOT NULL DEFAULT ('noted'), line {integer}, value {text}
){options};
CREATE TABLE hd_rejects (
  reject {id}, file {integer} NOT NULL{of_file}, line {integer} NOT NULL,
  column_name {text}, value {text}, reason {text} NOT NULL, raw {record} NOT NULL, place {text},
  mended_at {moment}, more {text}, sheet {text}
){options};
CREATE INDEX hd_rejects_by_file ON hd_rejects (file, line);
"#;

const PARTS: &str = "
CREATE TABLE hd_parts (
  file {integer} NOT NULL{of_file}, table_name {name} NOT NULL, path {text} NOT NULL,
  rows_read {integer} NOT NULL, rows_loaded {integer} NOT NULL, PRIMARY KEY (file, table_name)
){options};
";

const DECISIONS: &str = "
CREATE TABLE hd_decisions (
  decision {id}, place {text} NOT NULL, path {text} NOT NULL, bytes {integer} NOT NULL,
  modified_at {moment} NOT NULL, table_name {name} NOT NULL, decided {text} NOT NULL,
  decided_by {text} NOT NULL, decided_at {moment} NOT NULL, why {text}
){options};
";

const NOTICES: &str = "
CREATE TABLE hd_notices (
  notice {id}, notify {name} NOT NULL, content {text} NOT NULL, made_at {moment} NOT NULL,
  tried_at {moment}, sent_at {moment}, trouble {text}
){options};
CREATE TABLE hd_noticed (
  notify {name} NOT NULL, event {key} NOT NULL, notice {integer} NOT NULL{of_notice},
  PRIMARY KEY (notify, event)
){options};
";

const KEPT_ROWS: &str = r#"
CREATE TABLE hd_kept_rows (
  file {integer} NOT NULL{of_file}, table_name {name} NOT NULL, block {integer} NOT NULL,
  "rows" {integer} NOT NULL, packed {bytes} NOT NULL, PRIMARY KEY (file, table_name, block)
){options};
"#;

const INTENTS: &str = "
CREATE TABLE hd_intents (
  file {integer} NOT NULL PRIMARY KEY{of_file}, load_token {name} NOT NULL, undo_steps {text} NOT NULL
){options};
";

/// Which ledger and which tables belong together, where they are in two databases: in both of these.
pub const PAIRING: &str = "
CREATE TABLE hd_pairing (pairing {name} NOT NULL PRIMARY KEY, paired_with {text} NOT NULL){options};
";

/// What the second version added to the first, besides its tables.
const TO_SECOND: &str = "
ALTER TABLE hd_rejects ADD COLUMN place {text};
ALTER TABLE hd_files ADD COLUMN rows_inserted {integer} NOT NULL DEFAULT 0;
ALTER TABLE hd_files ADD COLUMN rows_updated {integer} NOT NULL DEFAULT 0;
ALTER TABLE hd_files ADD COLUMN rows_unchanged {integer} NOT NULL DEFAULT 0;
ALTER TABLE hd_files ADD COLUMN rows_deleted {integer} NOT NULL DEFAULT 0;
UPDATE hd_files SET rows_inserted = rows_loaded;
INSERT INTO hd_ledger SELECT 2, program FROM hd_ledger LIMIT 1;
";

/// What the third version added to the second, besides its tables.
const TO_THIRD: &str = "
ALTER TABLE hd_files ADD COLUMN shape {text};
ALTER TABLE hd_drift ADD COLUMN action {text} NOT NULL DEFAULT ('noted');
UPDATE hd_drift SET action = CASE change WHEN 'missing' THEN 'nulled' ELSE change END;
ALTER TABLE hd_rejects ADD COLUMN mended_at {moment};
INSERT INTO hd_ledger SELECT 3, program FROM hd_ledger LIMIT 1;
";

/// What the fourth version added to the third, besides its tables.
const TO_FOURTH: &str = "
CREATE INDEX hd_files_by_size ON hd_files (bytes);
INSERT INTO hd_ledger SELECT 4, program FROM hd_ledger LIMIT 1;
";

/// The version that a decision was made for, as its place called it.
const DECISION_TOKENS: &str = "ALTER TABLE hd_decisions ADD COLUMN version_token {text};";

/// What the fifth version added to the fourth, besides that.
const TO_FIFTH: &str = "
ALTER TABLE hd_files ADD COLUMN version_token {text};
INSERT INTO hd_ledger SELECT 5, program FROM hd_ledger LIMIT 1;
";

/// What the sixth version added to the fifth, besides its table.
const TO_SIXTH: &str = "
ALTER TABLE hd_files ADD COLUMN ordered_by {text} NOT NULL DEFAULT ('');
ALTER TABLE hd_files ADD COLUMN ordered_at {moment};
ALTER TABLE hd_files ADD COLUMN first_file {integer};
ALTER TABLE hd_files ADD COLUMN effective_at {moment};
ALTER TABLE hd_files ADD COLUMN delivery {text};
ALTER TABLE hd_files ADD COLUMN rules {text};
ALTER TABLE hd_files ADD COLUMN rows_kept {integer} NOT NULL DEFAULT 0;
UPDATE hd_files SET ordered_at = modified_at, effective_at = began_at;
CREATE INDEX hd_files_in_order ON hd_files (table_name, ordered_by, ordered_at, path);
INSERT INTO hd_ledger SELECT 6, program FROM hd_ledger LIMIT 1;
";

/// What the seventh version added to the sixth.
const TO_SEVENTH: &str = "
ALTER TABLE hd_files ADD COLUMN figures {text};
ALTER TABLE hd_drift ADD COLUMN line {integer};
ALTER TABLE hd_drift ADD COLUMN value {text};
ALTER TABLE hd_rejects ADD COLUMN more {text};
INSERT INTO hd_ledger SELECT 7, program FROM hd_ledger LIMIT 1;
";

/// What the eighth version added to the seventh, besides its tables.
const TO_EIGHTH: &str = r#"
ALTER TABLE hd_files ADD COLUMN reasons {text};
UPDATE hd_files SET reasons = '[{"code":"skipped.empty"}]' WHERE outcome = 'discarded' AND message = 'it is empty';
UPDATE hd_files SET reasons = '[{"code":"held.empty"}]' WHERE outcome = 'held' AND message = 'it is empty';
INSERT INTO hd_ledger SELECT 8, program FROM hd_ledger LIMIT 1;
"#;

/// What the ninth version added to the eighth. An entry of an earlier one may have named parts.
const TO_NINTH: &str = "
ALTER TABLE hd_files ADD COLUMN has_parts {integer} NOT NULL DEFAULT 1;
ALTER TABLE hd_rejects ADD COLUMN sheet {text};
UPDATE hd_rejects SET sheet = replace(place, ', row ' || line, '') WHERE place LIKE '%, row ' || line;
INSERT INTO hd_ledger SELECT 9, program FROM hd_ledger LIMIT 1;
";

const CORRECTIONS: &str = "
CREATE TABLE hd_corrections (
  reject {integer} NOT NULL PRIMARY KEY, row_values {text} NOT NULL, made_at {moment} NOT NULL, refused {text}
){options};
";

/// What the tenth version added to the ninth, besides its table.
const TO_TENTH: &str = "
INSERT INTO hd_ledger SELECT 10, program FROM hd_ledger LIMIT 1;
";

/// What each version added to the one before.
const STEPS: [(i64, &[&str]); 9] = [
    (2, &[TO_SECOND, PARTS]),
    (3, &[TO_THIRD, DECISIONS]),
    (4, &[NOTICES, TO_FOURTH]),
    (5, &[DECISION_TOKENS, TO_FIFTH]),
    (6, &[KEPT_ROWS, TO_SIXTH]),
    (7, &[TO_SEVENTH]),
    (8, &[INTENTS, PAIRING, TO_EIGHTH]),
    (9, &[TO_NINTH]),
    (10, &[CORRECTIONS, TO_TENTH]),
];

/// The version of the ledger, if there is one.
pub fn version(connection: &mut dyn SqlConnection) -> Result<Option<i64>, StoreError> {
    if connection.has_column("hd_ledger", "version")? != Some(true) {
        return Ok(None);
    }
    let rows = connection.query("SELECT max(version) FROM hd_ledger", &[])?;
    let version = rows.first().map_or(Ok(None), |row| row.optional_integer(0));
    version.map_err(|misread| connection.damaged(misread))
}

/// Whether there is a ledger, brought up to this version if an earlier one made it.
pub fn exists(connection: &mut dyn SqlConnection) -> Result<bool, StoreError> {
    let known = LEDGER_VERSION;
    match version(connection)? {
        None => Ok(false),
        Some(found) if found > known => {
            Err(StoreError::NewerLedger { shown: connection.shown(), found, known })
        }
        Some(found) if found < known => match make(connection) {
            Ok(()) => Ok(true),
            Err(error) if error.is_transient() || error.is_unreachable() => Err(error),
            // Who may only read cannot bring it up to date.
            Err(error) => Err(StoreError::OlderLedger {
                shown: connection.shown(),
                found,
                known,
                why: error.to_string(),
            }),
        },
        Some(_) => Ok(true),
    }
}

/// Makes the ledger's tables, or brings them up to this version. All of it is asked under a lock:
/// another process may make them meanwhile.
pub fn make(connection: &mut dyn SqlConnection) -> Result<(), StoreError> {
    in_transaction(connection, |connection| {
        connection.prepare_for_ledger()?;
        match version(connection)? {
            Some(found) => {
                for (_, scripts) in STEPS.iter().filter(|(to, _)| *to > found) {
                    run(connection, scripts)?;
                }
                Ok(())
            }
            None => {
                drop_half_made(connection)?;
                refuse_other_tables(connection)?;
                let more = connection.dialect().more_tables;
                let tables = [
                    TABLES,
                    PARTS,
                    DECISIONS,
                    DECISION_TOKENS,
                    NOTICES,
                    KEPT_ROWS,
                    INTENTS,
                    PAIRING,
                    CORRECTIONS,
                ];
                run(connection, &[more])?;
                run(connection, &tables)?;
                let signature = [SqlValue::Integer(LEDGER_VERSION), SqlValue::from(PROGRAM)];
                connection.execute("INSERT INTO hd_ledger VALUES (?1, ?2)", &signature).map(drop)
            }
        }
    })
}

/// Runs scripts that make tables, in the words of the database.
pub fn run(connection: &mut dyn SqlConnection, scripts: &[&str]) -> Result<(), StoreError> {
    scripts.iter().try_for_each(|script| {
        let script = connection.dialect().script(script, &connection.table_options());
        if script.is_empty() { Ok(()) } else { connection.script(&script) }
    })
}

/// Drops the empty tables of a ledger whose maker died before it was whole, where tables cannot be made in
/// one transaction: the row that signs it comes last.
fn drop_half_made(connection: &mut dyn SqlConnection) -> Result<(), StoreError> {
    if connection.has_column("hd_ledger", "version")? != Some(true) {
        return Ok(());
    }
    // The first to be made goes last.
    for name in LEDGER_TABLES.iter().rev() {
        let is_empty = match connection.has_column(name, "")? {
            Some(_) => connection.query(&format!("SELECT 1 FROM {name} LIMIT 1"), &[])?.is_empty(),
            None => continue,
        };
        if is_empty {
            connection.script(&format!("DROP TABLE {name}"))?;
        }
    }
    Ok(())
}

/// Refuses to go on where a table has a name of the ledger's without being of one.
fn refuse_other_tables(connection: &mut dyn SqlConnection) -> Result<(), StoreError> {
    for name in LEDGER_TABLES {
        if connection.has_column(name, "")?.is_some() {
            let why = format!("a table called `{name}` is there already, and is not of a ledger");
            return Err(StoreError::Refused { shown: connection.shown(), why });
        }
    }
    Ok(())
}
