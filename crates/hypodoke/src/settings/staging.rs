//! Where the staging tables are, and the ledger: `[staging]`.

use std::path::Path;
use std::time::Duration;

use hypodoke_stores::{Staging, StoreUrl};

use super::expand::expand;
use super::reader::{Placed, Section};
use crate::failure::Failure;
use crate::values::duration;

/// Who may read a database that is made, by the rights of its file.
const READERS: [(&str, u32); 3] = [("owner", 0o600), ("group", 0o640), ("all", 0o644)];

/// Where the tables and the ledger are, and how files are loaded into them.
pub struct StagingSettings {
    /// Where they are.
    pub staging: Staging,
    /// How many connections load side by side.
    pub connections: Option<usize>,
    /// After so long what is loaded is committed.
    pub commit_every: Option<Duration>,
}

impl StagingSettings {
    /// Nothing else is said.
    pub fn of(staging: Staging) -> StagingSettings {
        StagingSettings { staging, connections: None, commit_every: None }
    }
}

/// Reads `[staging]`; files are meant from `base`.
pub fn read(mut section: Section<'_>, base: &Path) -> Result<StagingSettings, Failure> {
    let url = section.required("url", "\"sqlite:harbour.db\"")?;
    let tables = address(&section, &url, base)?;
    let ledger = section.text("ledger")?;
    let ledger = ledger.map(|ledger| address(&section, &ledger, base)).transpose()?;
    let (wait, commit_every) = (span(&mut section, "wait")?, span(&mut section, "commit_every")?);
    let mut staging = match ledger {
        Some(ledger) => Staging::new(tables).with_ledger(ledger),
        None => Staging::new(tables),
    };
    staging = readable(&mut section, staging)?;
    staging.tables = in_schema(&mut section, "schema", staging.tables)?;
    staging.ledger = match staging.ledger {
        Some(ledger) => Some(in_schema(&mut section, "ledger_schema", ledger)?),
        None => match section.text("ledger_schema")? {
            Some(at) => return Err(section.wrong(&at, "`ledger_schema` goes with `ledger`")),
            None => None,
        },
    };
    let connections = match section.count("connections")? {
        Some(count) if count.value == 0 || count.value > 64 => {
            return Err(section.wrong(&count, "`connections` is 1 to 64"));
        }
        count => count.map(|count| count.value as usize),
    };
    section.finish()?;
    if let Some(wait) = wait {
        staging = staging.map(|url| url.waiting(wait));
    }
    Ok(StagingSettings { staging, connections, commit_every })
}

fn address(section: &Section<'_>, text: &Placed<String>, base: &Path) -> Result<StoreUrl, Failure> {
    let expanded = expand(section, text)?;
    StoreUrl::parse(&expanded, base).map_err(|error| section.wrong(text, error))
}

/// The addresses with the rights of files that are made.
fn readable(section: &mut Section<'_>, staging: Staging) -> Result<Staging, Failure> {
    let at = section.text("readable_by")?;
    let (Some(rights), Some(at)) = (section.word("readable_by", &READERS)?, at) else { return Ok(staging) };
    if !staging.urls().any(StoreUrl::is_file) {
        let what = "who may read a server's tables is said there; `readable_by` goes with sqlite:";
        return Err(section.wrong(&at, what));
    }
    Ok(staging.map(|url| url.with_rights(rights).unwrap_or_else(|other| other)))
}

fn in_schema(section: &mut Section<'_>, key: &'static str, url: StoreUrl) -> Result<StoreUrl, Failure> {
    match section.text(key)? {
        Some(schema) => url.in_schema(schema.value.clone()).map_err(|_| {
            section.wrong(&schema, format!("only PostgreSQL has schemas; `{key}` goes with postgres://"))
        }),
        None => Ok(url),
    }
}

fn span(section: &mut Section<'_>, key: &'static str) -> Result<Option<Duration>, Failure> {
    let Some(span) = section.text(key)? else { return Ok(None) };
    let read = duration(&span.value).ok_or_else(|| {
        let what = "is not a duration; write \"500ms\", \"10s\", \"5m\" or \"1h\"";
        section.wrong(&span, format!("`{}` {what}", span.value))
    })?;
    Ok(Some(read))
}
