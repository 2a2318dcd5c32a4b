//! Exit codes: what a script can rely on.

use std::process::ExitCode;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::time::Duration;

use hypodoke_engine::isolate::is_isolated;
use hypodoke_engine::receipt::{Receipt, ReceiptLine};
use signal_hook::consts::{SIGINT, SIGTERM};
use signal_hook::iterator::Signals;

/// How a command ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Exit {
    /// Done, also when nothing was new.
    Done,
    /// Done, but something is held, rows were rejected that nobody allows for, or a table is not what it was.
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
    let has_rejects =
        |line: &ReceiptLine| line.outcome.counts() && line.rows_rejected > 0 && !line.rejects_allowed;
    let has_left_keys = |line: &ReceiptLine| !line.left_keys.is_empty();
    let needs_attention = receipt.totals.files_held > 0
        || !receipt.missing.is_empty()
        || !receipt.refused_corrections.is_empty()
        || receipt.files.iter().any(|line| has_rejects(line) || has_left_keys(line));
    match (receipt.totals.files_failed, needs_attention) {
        (0, false) => Exit::Done,
        (0, true) => Exit::NeedsAttention,
        _ => Exit::Failed,
    }
}

/// The signal of a file that grows beyond a limit (POSIX; its number is the same on Linux and the BSDs).
const SIGXFSZ: i32 = 25;

/// The code of a process that was interrupted (128 + SIGINT).
pub const INTERRUPTED: u8 = 130;

/// For so long a command that is asked to stop may go on with what it has in hand.
const GRACE: Duration = Duration::from_millis(700);

/// A first wish to stop is one that the command sees to.
static FINISHES: AtomicBool = AtomicBool::new(false);
static ASKED: AtomicBool = AtomicBool::new(false);
/// How many loads are being done.
static LOADS: AtomicUsize = AtomicUsize::new(0);

/// Ends the process when it is interrupted. The file in hand is in a transaction that is not
/// committed, so nothing of it stays.
pub fn on_interrupt() {
    listen(SIGINT);
}

/// A file that grows beyond the account's limit is an error of whoever writes it, and not the end of the
/// process.
pub fn outlive_full_files() {
    // Without a handler the system ends the process; a flag that nobody reads keeps it from that.
    let _ = signal_hook::flag::register(SIGXFSZ, Arc::default());
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

/// A load is being done as long as this is held: when the command is asked to stop, it is broken off soon.
pub struct LoadInHand(());

impl LoadInHand {
    /// Begins.
    pub fn begin() -> LoadInHand {
        LOADS.fetch_add(1, Ordering::SeqCst);
        LoadInHand(())
    }
}

impl Drop for LoadInHand {
    fn drop(&mut self) {
        LOADS.fetch_sub(1, Ordering::SeqCst);
    }
}

/// Ends the process if it has not stopped by itself within its time: what is in hand is in transactions that
/// are not committed.
fn break_off_later() {
    std::thread::spawn(|| {
        std::thread::sleep(GRACE);
        while LOADS.load(Ordering::SeqCst) == 0 {
            std::thread::sleep(GRACE / 10);
        }
        break_off();
    });
}

fn break_off() -> ! {
    eprintln!("interrupted; of the file in hand nothing was kept");
    std::process::exit(i32::from(INTERRUPTED));
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
                tracing::info!("stopping");
                break_off_later();
            } else {
                break_off();
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
  3    done, but a person should look: something is held or rejected, or a table is gone
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
