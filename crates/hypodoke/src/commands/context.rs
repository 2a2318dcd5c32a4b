//! What commands share.

use std::io::IsTerminal;
use std::path::{Path, PathBuf};

use hypodoke_engine::event::{Listener, Silent};
use hypodoke_stores::{Ledger, Staging, StoreUrl, Tables};

use crate::cli::{Arguments, DatabaseArguments};
use crate::connections;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::log::Logged;
use crate::render::progress::{Narrator, Progress};
use crate::render::receipt::Detail;
use crate::render::{Screen, Tone};
use crate::settings::{DEFAULT_DATABASE, Settings};

/// What commands share, resolved from the arguments and the machine.
pub struct Context {
    /// How to print.
    pub screen: Screen,
    /// How much to say of what is done: 0 nothing, 1 what became of files, 2 every step.
    pub verbose: u8,
    /// One JSON document is wanted.
    pub json: bool,
    /// The configuration named on the command line.
    pub config: Option<PathBuf>,
}

impl Context {
    /// Looks at the arguments, the terminal and the environment.
    pub fn resolve(arguments: &Arguments) -> Context {
        let common = &arguments.common;
        let screen = Screen::resolve(common.color, common.quiet);
        Context { screen, verbose: common.verbose, json: common.json, config: common.config.clone() }
    }

    /// The same by another configuration.
    pub fn with_config(&self, file: &Path) -> Context {
        Context {
            screen: self.screen,
            verbose: self.verbose,
            json: self.json,
            config: Some(file.to_path_buf()),
        }
    }

    /// The configuration, if there is one.
    pub fn settings(&self) -> Result<Option<Settings>, Failure> {
        Settings::find(self.config.as_deref())
    }

    /// Who is told of what happens: a narrator, a progress bar, or nobody.
    pub fn listener(&self) -> Box<dyn Listener> {
        let listener: Box<dyn Listener> = match self.verbose {
            0 if self.screen.progress => Box::new(Progress::new()),
            0 => Box::new(Silent),
            level => Box::new(Narrator::new(level > 1)),
        };
        Box::new(Logged(listener))
    }

    /// How much of a receipt is shown.
    pub fn detail(&self) -> Detail {
        if self.verbose > 0 { Detail::EachFile } else { Detail::Grouped }
    }

    /// Tells the person what went wrong.
    pub fn complain(&self, failure: &Failure) {
        eprintln!("{} {}", self.screen.paint_error(Tone::Bad, "error:"), failure.message);
        if let Some(advice) = &failure.advice {
            eprintln!("  → {advice}");
        }
    }

    /// A remark on standard error, unless only results are wanted.
    pub fn remark(&self, text: &str) {
        if !self.screen.quiet {
            eprintln!("{text}");
        }
    }

    /// Where the tables and the ledger are.
    pub fn staging(&self, database: &DatabaseArguments) -> Result<Staging, Failure> {
        match (&database.into, self.settings()?) {
            (Some(_), _) | (None, None) => staging_of(database),
            (None, Some(settings)) => Ok(settings.staging),
        }
    }

    /// Opens a ledger that has to be there. The tables need not be reached.
    pub fn ledger(&self, database: &DatabaseArguments) -> Result<Box<dyn Ledger>, Failure> {
        let staging = self.staging(database)?;
        let url = staging.ledger_url();
        if !url.exists() {
            return Err(no_ledger(url));
        }
        let mut ledger = connections::ledger(&staging)?;
        if ledger.has_ledger()? { Ok(ledger) } else { Err(no_ledger(url)) }
    }

    /// Opens tables whose ledger has to be there.
    pub fn tables(&self, database: &DatabaseArguments) -> Result<Box<dyn Tables>, Failure> {
        let staging = self.staging(database)?;
        let url = staging.ledger_url();
        if !url.exists() {
            return Err(no_ledger(url));
        }
        let mut tables = connections::tables(&staging)?;
        if tables.ledger().has_ledger()? { Ok(tables) } else { Err(no_ledger(url)) }
    }
}

fn no_ledger(url: &StoreUrl) -> Failure {
    let failure =
        Failure { exit: Exit::Unreachable, ..Failure::usage(format!("there is no ledger in {url}")) };
    failure.advise(
        "name the database with --into, or the configuration with --config; the first load makes the ledger",
    )
}

/// The databases that options name.
pub fn staging_of(database: &DatabaseArguments) -> Result<Staging, Failure> {
    let tables = Staging::new(store_url(database.into.as_deref().unwrap_or(DEFAULT_DATABASE))?);
    Ok(match &database.ledger {
        Some(ledger) => tables.with_ledger(store_url(ledger)?),
        None => tables,
    })
}

/// The database that an option names. A password does not belong on a command line.
pub fn store_url(url: &str) -> Result<StoreUrl, Failure> {
    let store = StoreUrl::parse(url, Path::new(""))?;
    if store.has_password() {
        let what = "the address on the command line holds a password, which others could read there";
        return Err(Failure::usage(what)
            .advise("give it in PGPASSWORD, in a password file, or in the configuration as ${NAME}"));
    }
    Ok(store)
}

/// Asks whoever is there; nobody there is a no.
pub fn asked(question: &str) -> Result<bool, Failure> {
    if !std::io::stdin().is_terminal() {
        eprintln!("{question}");
        return Ok(false);
    }
    eprint!("{question}");
    let mut answer = String::new();
    std::io::stdin()
        .read_line(&mut answer)
        .map_err(|error| Failure::usage(format!("the answer could not be read: {error}")))?;
    Ok(matches!(answer.trim(), "y" | "Y" | "yes"))
}
