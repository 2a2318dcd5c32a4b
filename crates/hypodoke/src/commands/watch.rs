//! `hypodoke watch`: keep loading, on arrival and on schedule.

use std::sync::Arc;

use tracing::info;

use super::context::Context;
use crate::cli::WatchArguments;
use crate::exit::{self, Exit};
use crate::failure::Failure;
use crate::render;
use crate::render::log::{self, LogPlan};
use crate::settings::watch::address;
use crate::watch::answer::Answers;
use crate::watch::status::Status;
use crate::watch::{self, serve, unit};

/// Runs the command.
pub fn run(arguments: &WatchArguments, context: &Context) -> Result<Exit, Failure> {
    let Some(settings) = context.settings()? else {
        return Err(Failure::usage("there is no hypodoke.toml here, and a watch needs one")
            .advise("hypodoke draft FOLDER writes one; or name it with --config"));
    };
    settings.feeds_named(&arguments.feeds)?;
    if settings.feeds.is_empty() {
        return Err(Failure::usage(format!("{} has no feeds to watch", settings.file.display())));
    }
    if arguments.unit {
        let absolute = |path: &std::path::Path| path.canonicalize().unwrap_or_else(|_| path.to_path_buf());
        let program = std::env::current_exe().unwrap_or_else(|_| "/usr/local/bin/hypodoke".into());
        render::print(&unit::text(&absolute(&program), &absolute(&settings.file), &arguments.feeds));
        return Ok(Exit::Done);
    }
    let level = match (context.screen.quiet, context.verbose) {
        (true, _) => "warn",
        (false, 0) => "info",
        (false, 1) => "debug",
        (false, _) => "trace",
    };
    log::begin(LogPlan {
        file: settings.watch.log_file.as_deref(),
        json: settings.watch.log_json || context.json,
        level: Some(level),
        color: context.screen.error_color,
    })?;
    let listen = match &arguments.listen {
        Some(text) => Some(address(text).map_err(|why| Failure::usage(format!("--listen: {why}")))?),
        None => settings.watch.listen,
    };
    let status = Arc::new(Status::default());
    if let Some(listen) = listen {
        let answers = Answers::new(settings.clone(), status.clone(), listen)?;
        let address = serve::open(listen, Arc::new(answers))?;
        info!(address = %address, "the page, health and metrics are served");
    }
    exit::finish_when_asked();
    watch::run(settings, &arguments.feeds, &status)?;
    info!("stopped");
    Ok(Exit::Done)
}
