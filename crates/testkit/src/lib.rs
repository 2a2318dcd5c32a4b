//! What the tests share: the built program, run on files in a temporary folder.

mod bad_server;
mod browser;
mod certificates;
mod cutter;
mod file_server;
mod keeper;
mod mailbox;
mod mariadb;
mod memory;
mod peers;
mod points;
mod postgres;
mod sshd;
mod terminal;
mod user;
mod watch;
mod web;

use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use rusqlite::{Connection, OpenFlags};
use serde_json::Value;
use tempfile::TempDir;

pub use hypodoke_demo::bucket;

pub use bad_server::{BadServer, Fault};
pub use browser::Browser;
pub use certificates::write_all as certificates;
pub use cutter::{Cut, Cutter};
pub use file_server::{FileRequest, FileServer, ServedFile};
pub use mailbox::{Mail, Mailbox, Manners};
pub use mariadb::{Mariadb, MariadbDatabase};
pub use memory::{MemoryPlace, MemoryStore};
pub use peers::{PEER_KEYS, Peer, PeerStore, python};
pub use points::{Stopped, end_at, stop_at};
pub use postgres::{Database, Server};
pub use sshd::{PASSWORD, Sshd};
pub use terminal::{DOWN, ESCAPE, INTERRUPT, Terminal};
pub use watch::{Watch, wait_for};
pub use web::{Answer, Request, Web};

/// A temporary folder with the built program at hand.
pub struct Workshop {
    folder: TempDir,
    program: PathBuf,
}

/// A run of the program that is over.
#[derive(Debug)]
pub struct Run {
    /// Its exit code; `None` if a signal ended it.
    pub code: Option<i32>,
    /// What it printed.
    pub out: String,
    /// What it said on standard error.
    pub err: String,
}

impl Workshop {
    /// A new, empty folder.
    pub fn new(program: impl Into<PathBuf>) -> Workshop {
        let folder = tempfile::Builder::new().prefix("quillane").tempdir().expect("a temporary folder");
        Workshop { folder, program: program.into() }
    }

    /// A path in the folder.
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// Writes a file, and the folders it stands in.
    pub fn write(&self, name: &str, content: impl AsRef<[u8]>) -> PathBuf {
        let path = self.path(name);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("folders");
        std::fs::write(&path, content).expect("a file");
        path
    }

    /// The command, to be changed before it is run.
    pub fn command(&self, arguments: &str) -> Command {
        let mut command = Command::new(&self.program);
        command.current_dir(self.folder.path()).args(arguments.split_whitespace());
        command.env_clear().env("PATH", "/usr/bin:/bin").env("TZ", "UTC").env("HOME", self.folder.path());
        command.stdin(Stdio::null());
        command
    }

    /// Runs the program with these arguments, split at blanks.
    pub fn run(&self, arguments: &str) -> Run {
        finish(self.command(arguments))
    }

    /// Runs it and insists that it ends well.
    #[track_caller]
    pub fn ok(&self, arguments: &str) -> Run {
        let run = self.run(arguments);
        assert_eq!(run.code, Some(0), "hypodoke {arguments}\n{}{}", run.out, run.err);
        run
    }

    /// Runs it and insists that it is done, and that a person should look: rows were rejected, say.
    #[track_caller]
    pub fn attention(&self, arguments: &str) -> Run {
        let run = self.run(arguments);
        assert_eq!(run.code, Some(3), "hypodoke {arguments}\n{}{}", run.out, run.err);
        run
    }

    /// Runs it and insists that it is done, whether or not a person should look.
    #[track_caller]
    pub fn done(&self, arguments: &str) -> Run {
        let run = self.run(arguments);
        assert!(matches!(run.code, Some(0 | 3)), "hypodoke {arguments}\n{}{}", run.out, run.err);
        run
    }

    /// Runs it with `--json`, insists on a code, and reads the document.
    #[track_caller]
    pub fn json(&self, arguments: &str, code: i32) -> Value {
        let run = self.run(&format!("{arguments} --json"));
        assert_eq!(run.code, Some(code), "hypodoke {arguments}\n{}{}", run.out, run.err);
        serde_json::from_str(&run.out).unwrap_or_else(|error| panic!("{error} in {}", run.out))
    }

    /// Opens a database of the folder.
    pub fn database(&self, name: &str) -> Connection {
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE;
        Connection::open_with_flags(self.path(name), flags).expect("a database")
    }

    /// The rows of a query as text, fields parted by `|`, nulls as nothing.
    pub fn query(&self, name: &str, sql: &str) -> Vec<String> {
        rows(&self.database(name), sql)
    }
}

/// Runs a command to its end.
pub fn finish(mut command: Command) -> Run {
    let Output { status, stdout, stderr } = command.output().expect("the program starts");
    let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
    Run { code: status.code(), out: text(stdout), err: text(stderr) }
}

/// The rows of a query as text, fields parted by `|`, nulls as nothing.
pub fn rows(database: &Connection, sql: &str) -> Vec<String> {
    let mut statement = database.prepare(sql).unwrap_or_else(|error| panic!("{sql}: {error}"));
    let width = statement.column_count();
    let row = |row: &rusqlite::Row<'_>| {
        let field = |at: usize| {
            Ok(match row.get_ref(at)? {
                rusqlite::types::ValueRef::Null => String::new(),
                rusqlite::types::ValueRef::Integer(value) => value.to_string(),
                rusqlite::types::ValueRef::Real(value) => value.to_string(),
                rusqlite::types::ValueRef::Text(text) | rusqlite::types::ValueRef::Blob(text) => {
                    String::from_utf8_lossy(text).into_owned()
                }
            })
        };
        (0..width).map(field).collect::<rusqlite::Result<Vec<String>>>().map(|fields| fields.join("|"))
    };
    statement.query_map([], row).and_then(Iterator::collect).unwrap_or_else(|error| panic!("{sql}: {error}"))
}

/// Sets the time a file was modified, in seconds since 1970.
pub fn set_modified(path: &Path, seconds: u64) {
    let time = std::time::UNIX_EPOCH + std::time::Duration::from_secs(seconds);
    std::fs::File::options()
        .append(true)
        .open(path)
        .and_then(|file| file.set_modified(time))
        .expect("a time");
}
