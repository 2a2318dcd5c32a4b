//! The commands: each resolves what it needs, lets the engine work, and hands the result to
//! a renderer.

mod again;
mod check;
mod context;
mod demo;
mod draft;
mod drift;
mod ledger;
mod load;
mod manual;
mod named_place;
mod preview;
mod receipt;
mod rejects;
mod report;
mod settle;
mod survey;
mod tally;
mod watch;

use crate::cli::Command;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render::log::{self, LogPlan};

pub use context::Context;

/// Runs a command.
pub fn run(command: Command, context: &Context) -> Result<Exit, Failure> {
    if !matches!(command, Command::Watch(_)) {
        log::begin(LogPlan { color: context.screen.error_color, ..LogPlan::default() })?;
    }
    match command {
        Command::Demo(arguments) => demo::run(&arguments, context),
        Command::Survey(arguments) => survey::run(&arguments, context),
        Command::Draft(arguments) => draft::run(&arguments, context),
        Command::Preview(arguments) => preview::run(&arguments, context),
        Command::Check(arguments) => check::run(&arguments, context),
        Command::Load(arguments) => load::run(&arguments, context),
        Command::Watch(arguments) => watch::run(&arguments, context),
        Command::Report(arguments) => report::run(&arguments, context),
        Command::Ledger(arguments) => ledger::list(&arguments, context),
        Command::Drift(arguments) => drift::run(&arguments, context),
        Command::Settle(arguments) => settle::run(&arguments, context),
        Command::Tally(arguments) => tally::run(&arguments, context),
        Command::Replay(arguments) => again::replay(&arguments, context),
        Command::Retract(arguments) => again::retract(&arguments, context),
        Command::Receipt(arguments) => receipt::run(&arguments, context),
        Command::Rejects(arguments) => rejects::run(&arguments, context),
        Command::Completions(arguments) => manual::completions(arguments.shell),
        Command::Man(arguments) => manual::pages(&arguments.folder),
    }
}
