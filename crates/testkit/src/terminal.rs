//! The program on a terminal: what it shows is read from the screen, and keys are pressed.

use std::io::{Read, Write};
use std::num::NonZeroU16;
use std::sync::{Arc, Mutex};

use portable_pty::{Child, CommandBuilder, MasterPty, PtySize, native_pty_system};

use crate::{Workshop, wait_for};

const ROWS: NonZeroU16 = NonZeroU16::new(60).expect("rows");
const COLUMNS: NonZeroU16 = NonZeroU16::new(120).expect("columns");

/// The key that goes back.
pub const ESCAPE: &str = "\x1b";
/// The key that moves to the next answer.
pub const DOWN: &str = "\x1b[B";
/// The keys that interrupt.
pub const INTERRUPT: &str = "\x03";

/// A program on a terminal; it is killed when this is dropped.
pub struct Terminal {
    screen: Arc<Mutex<vt100::Parser>>,
    child: Box<dyn Child + Send + Sync>,
    keys: Box<dyn Write + Send>,
    _terminal: Box<dyn MasterPty + Send>,
}

impl Terminal {
    /// Starts the program with these arguments, split at blanks.
    pub fn start(shop: &Workshop, arguments: &str) -> Terminal {
        let size = PtySize { rows: ROWS.get(), cols: COLUMNS.get(), pixel_width: 0, pixel_height: 0 };
        let pair = native_pty_system().openpty(size).expect("a terminal");
        let plain = shop.command(arguments);
        let mut command = CommandBuilder::new(plain.get_program());
        command.args(plain.get_args());
        command.env_clear();
        for (name, value) in plain.get_envs() {
            command.env(name, value.unwrap_or_default());
        }
        command.env("TERM", "xterm-256color");
        command.cwd(shop.path(""));
        let child = pair.slave.spawn_command(command).expect("it starts");
        drop(pair.slave);
        let mut output = pair.master.try_clone_reader().expect("what it shows");
        let screen = Arc::new(Mutex::new(vt100::Parser::new(ROWS, COLUMNS, 0)));
        let shown = Arc::clone(&screen);
        std::thread::spawn(move || {
            let mut bytes = [0; 4096];
            while let Ok(count @ 1..) = output.read(&mut bytes) {
                shown.lock().expect("the screen").process(&bytes[..count]);
            }
        });
        let keys = pair.master.take_writer().expect("its keys");
        Terminal { screen, child, keys, _terminal: pair.master }
    }

    /// What stands on the screen.
    pub fn screen(&self) -> String {
        self.screen.lock().expect("the screen").screen().contents()
    }

    /// Waits until something stands on the screen.
    #[track_caller]
    pub fn sees(&self, text: &str) {
        wait_for(&format!("`{text}`"), || self.screen().contains(text));
    }

    /// Waits until a question is the one that is open.
    #[track_caller]
    pub fn is_asked(&self, question: &str) {
        wait_for(&format!("the question `{question}`"), || {
            let screen = self.screen();
            let open = screen.lines().rfind(|line| line.starts_with("? "));
            open.is_some_and(|line| line.contains(question))
        });
    }

    /// Presses keys.
    pub fn press(&mut self, keys: &str) {
        self.keys.write_all(keys.as_bytes()).and_then(|()| self.keys.flush()).expect("keys");
    }

    /// Waits for a question, and answers it: these keys, and Enter.
    #[track_caller]
    pub fn answer(&mut self, question: &str, keys: &str) {
        self.is_asked(question);
        self.press(&format!("{keys}\r"));
    }

    /// Waits until the program has ended, and says with which code.
    pub fn end(mut self) -> u32 {
        let mut code = None;
        wait_for("the program to end", || {
            code = self.child.try_wait().expect("a status");
            code.is_some()
        });
        code.map_or(u32::MAX, |status| status.exit_code())
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        if std::thread::panicking() {
            eprintln!("the screen:\n{}", self.screen());
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
