//! Hypodoke: finds what landed, works out what is in it, loads every row it can and keeps
//! every row it cannot.

mod cli;
mod commands;
mod engine;
mod exit;
mod failure;
mod render;
mod report;
mod settings;
mod survey;
mod tell;
mod watch;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    let arguments = cli::Arguments::parse();
    let context = commands::Context::resolve(&arguments);
    exit::on_interrupt();
    match commands::run(arguments.command, &context) {
        Ok(exit) => exit.into(),
        Err(failure) => {
            context.complain(&failure);
            failure.exit.into()
        }
    }
}
