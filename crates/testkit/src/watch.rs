//! The program left to run: a watch, with its log in a file.

use std::process::{Child, Command, ExitStatus, Stdio};
use std::time::{Duration, Instant};

use crate::Workshop;

/// How long something is waited for on a machine that is busy with other work.
const PATIENCE: Duration = Duration::from_secs(300);

/// A watch that runs; it is killed when it is dropped.
pub struct Watch {
    child: Child,
    log: std::path::PathBuf,
}

impl Watch {
    /// Starts `hypodoke watch` with more arguments, and waits until it watches.
    pub fn start(shop: &Workshop, arguments: &str) -> Watch {
        Watch::of(shop, shop.command(&format!("watch {arguments}")), "watch.log")
    }

    /// The same of a command, with a log of its own.
    pub fn of(shop: &Workshop, mut command: Command, log: &str) -> Watch {
        let log = shop.path(log);
        let file = std::fs::File::options().create(true).append(true).open(&log).expect("a log");
        let before = std::fs::metadata(&log).map_or(0, |data| data.len() as usize);
        let mut child = command.stdout(Stdio::null()).stderr(file).spawn().expect("it starts");
        wait_for("the watch to begin, or to end", || {
            let said = std::fs::read_to_string(&log).unwrap_or_default();
            let has_begun = said.get(before..).is_some_and(|log| log.contains("watching feed"));
            has_begun || child.try_wait().expect("a state").is_some()
        });
        Watch { child, log }
    }

    /// What it has logged.
    pub fn log(&self) -> String {
        std::fs::read_to_string(&self.log).unwrap_or_default()
    }

    /// The address it tells health on.
    pub fn address(&self) -> String {
        let log = self.log();
        let at = log.find("address=").expect("it listens") + 8;
        log[at..].split_whitespace().next().expect("an address").to_owned()
    }

    /// Sends a signal by its name.
    pub fn signal(&self, name: &str) {
        let sent = Command::new("kill").args([&format!("-{name}"), &self.child.id().to_string()]).status();
        assert!(sent.expect("kill").success());
    }

    /// Its number.
    pub fn id(&self) -> u32 {
        self.child.id()
    }

    /// Waits until it has ended.
    pub fn end(mut self) -> ExitStatus {
        let until = Instant::now() + PATIENCE;
        loop {
            if let Some(status) = self.child.try_wait().expect("a status") {
                return status;
            }
            assert!(Instant::now() < until, "it does not end\n{}", self.log());
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

impl Drop for Watch {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// Waits for something, and fails if it does not come.
pub fn wait_for(what: &str, mut is_so: impl FnMut() -> bool) {
    let until = Instant::now() + PATIENCE;
    while !is_so() {
        assert!(Instant::now() < until, "waited in vain for {what}");
        std::thread::sleep(Duration::from_millis(30));
    }
}
