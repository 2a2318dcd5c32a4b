//! Exit codes: what a script can rely on.

use std::process::ExitCode;
use std::sync::atomic::{AtomicBool, Ordering};

use hypodoke_engine::isolate::is_isolated;
use hypodoke_engine::receipt::Receipt;
use signal_hook::consts::{SIGINT, SIGTERM};
use signal_hook::iterator::Signals;

/// How a command ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Exit {
    /// Done, also when nothing was new.
    Done,
    /// Done, but something is held or rejected beyond its limit.
    NeedsAttention,
    /// Something failed to load.
    Failed,
    /// A place or the database could not be reached.
    Unreachable,
    /// Wrong usage or configuration.
    Usage,
}

impl Exit {
    /// The code the process ends with.
    pub fn code(self) -> u8 {
        match self {
            Exit::Done => 0,
            Exit::Failed => 1,
            Exit::Usage => 2,
            Exit::NeedsAttention => 3,
            Exit::Unreachable => 4,
        }
    }
}

/// How the process ends by a receipt.
pub fn of_receipt(receipt: &Receipt) -> Exit {
    match (receipt.totals.files_failed, receipt.totals.files_held) {
        (0, 0) => Exit::Done,
        (0, _) => Exit::NeedsAttention,
        _ => Exit::Failed,
    }
}

/// The code of a process that was interrupted (128 + SIGINT).
pub const INTERRUPTED: u8 = 130;

/// A first wish to stop is one to finish the file in hand.
static FINISHES: AtomicBool = AtomicBool::new(false);
static ASKED: AtomicBool = AtomicBool::new(false);

/// Ends the process when it is interrupted. The file in hand is in a transaction that is not
/// committed, so nothing of it stays.
pub fn on_interrupt() {
    listen(SIGINT);
}

/// From now on, the first wish to stop, an interrupt or a termination, is for the command to see.
pub fn finish_when_asked() {
    FINISHES.store(true, Ordering::SeqCst);
    listen(SIGTERM);
}

/// Whether somebody wants the command to stop.
pub fn is_asked_to_stop() -> bool {
    ASKED.load(Ordering::SeqCst)
}

/// A panic that the engine catches is told as the failure of one file, and not besides.
pub fn keep_isolated_panics_quiet() {
    let usual = std::panic::take_hook();
    std::panic::set_hook(Box::new(move |panic| {
        if !is_isolated() {
            usual(panic);
        }
    }));
}

fn listen(signal: i32) {
    // Without a handler the system ends the process, which is as safe.
    let Ok(mut signals) = Signals::new([signal]) else { return };
    std::thread::spawn(move || {
        for _ in signals.forever() {
            if FINISHES.load(Ordering::SeqCst) && !ASKED.swap(true, Ordering::SeqCst) {
                tracing::info!("stopping once the file in hand is done; once more stops at once");
            } else {
                eprintln!("interrupted; of the file in hand nothing was kept");
                std::process::exit(i32::from(INTERRUPTED));
            }
        }
    });
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> ExitCode {
        ExitCode::from(exit.code())
    }
}

/// The codes as `--help` shows them.
pub const HELP: &str = "\
Exit codes:
  0    done, also when nothing was new
  1    something failed to load
  2    wrong usage or configuration
  3    done, but something is held or rejected beyond its limit
  4    a place or the database could not be reached
  130  interrupted";

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_help_lists_every_code() {
        for exit in [Exit::Done, Exit::Failed, Exit::Usage, Exit::NeedsAttention, Exit::Unreachable] {
            assert!(HELP.contains(&format!("\n  {}  ", exit.code())), "{exit:?}");
        }
        assert!(HELP.contains(&format!("\n  {INTERRUPTED}  ")));
    }
}
