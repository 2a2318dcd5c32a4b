//! A server that ends with whoever started it.

use std::path::Path;
use std::process::Child;
use std::sync::Mutex;
use std::time::{Duration, Instant};

/// A shell that runs a server, and stops it and removes its folder when its own input ends: with this process.
pub struct Keeper(Mutex<Child>);

impl Keeper {
    /// A shell that runs a server.
    pub fn new(shell: Child) -> Keeper {
        Keeper(Mutex::new(shell))
    }

    /// Stops the server as an administrator would, and keeps its data.
    pub fn stop(&self) {
        use std::io::Write;
        let mut shell = self.0.lock().expect("the shell");
        if let Some(mut input) = shell.stdin.take() {
            let _ = input.write_all(b"keep\n");
        }
        shell.wait().expect("an end");
    }

    /// Another shell runs it from now on.
    pub fn replace(&self, shell: Child) {
        *self.0.lock().expect("the shell") = shell;
    }
}

/// Waits until a server answers; what it has written is shown where it does not.
pub fn wait_until(answers: impl Fn() -> bool, log: &Path) {
    let began = Instant::now();
    while !answers() {
        let written = || std::fs::read_to_string(log).unwrap_or_default();
        assert!(began.elapsed() < Duration::from_secs(60), "the server does not start: {}", written());
        std::thread::sleep(Duration::from_millis(50));
    }
}
