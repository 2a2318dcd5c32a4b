//! `hypodoke demo`: the harbour of Quillane, from its files to its tables.
use super::Context;
use crate::cli::DemoArguments;
use crate::exit::Exit;
use crate::failure::Failure;

/// Runs the command.
pub fn run(_: &DemoArguments, _: &Context) -> Result<Exit, Failure> {
    Ok(Exit::Done)
}
