//! Hypodoke: finds what landed, works out what is in it, loads every row it can and keeps
//! every row it cannot.

mod ask;
mod cli;
mod commands;
mod connections;
mod exit;
mod failure;
mod notifications;
mod render;
mod report;
mod schedule;
mod settings;
mod values;
mod watch;
mod window;
mod wording;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    exit::keep_isolated_panics_quiet();
    let arguments = cli::Arguments::parse();
    let context = commands::Context::resolve(&arguments);
    exit::on_interrupt();
    exit::outlive_full_files();
    match commands::run(arguments.command, &context) {
        Ok(exit) => exit.into(),
        Err(failure) => {
            context.complain(&failure);
            failure.exit.into()
        }
    }
}
