//! Completions and man pages, from the same definitions as `--help`.

use std::path::Path;

use clap::CommandFactory;

use crate::cli::Arguments;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render;

/// Prints a completion script.
pub fn completions(shell: clap_complete::Shell) -> Result<Exit, Failure> {
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut Arguments::command(), "hypodoke", &mut script);
    render::print(&String::from_utf8_lossy(&script));
    Ok(Exit::Done)
}

/// Writes one man page per command.
pub fn pages(folder: &Path) -> Result<Exit, Failure> {
    let written =
        std::fs::create_dir_all(folder).and_then(|()| clap_mangen::generate_to(Arguments::command(), folder));
    match written {
        Ok(()) => Ok(Exit::Done),
        Err(error) => Err(Failure::load(format!("`{}` could not be written: {error}", folder.display()))),
    }
}
