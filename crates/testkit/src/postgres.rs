//! A throwaway PostgreSQL server: made in a temporary folder on a free port, shared by the tests
//! of a process, and gone with it.

use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};

use crate::certificates;
use crate::keeper::{Keeper, wait_until};
use crate::user::{NOBODY, is_root};

/// The user that owns everything on the server.
const OWNER: &str = "quillane";

/// A server.
pub struct Server {
    folder: PathBuf,
    port: u16,
    keeper: Keeper,
}

/// A database of its own on the server.
pub struct Database {
    /// Its name.
    pub name: String,
    /// Where it is.
    pub url: String,
    port: u16,
}

/// Where the server's programs are: on the path, or where Debian puts them.
fn program(name: &str) -> PathBuf {
    let debian = std::fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
    let mut found: Vec<PathBuf> = debian.map(|version| version.path().join("bin").join(name)).collect();
    found.sort();
    found.retain(|path| path.exists());
    found.pop().unwrap_or_else(|| PathBuf::from(name))
}

/// A command that is not run as root.
fn modest(program: &Path) -> Command {
    let mut command = Command::new(program);
    if is_root() {
        command.uid(NOBODY).gid(NOBODY);
    }
    command
        .env("LC_ALL", "C.UTF-8")
        .env("TZ", "UTC")
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    command
}

impl Server {
    /// The server of this process, started when it is first asked for. A server that does not start
    /// fails the test.
    pub fn shared() -> &'static Server {
        static SHARED: OnceLock<Server> = OnceLock::new();
        SHARED.get_or_init(Server::start)
    }

    /// A server of its own, for tests that stop it.
    pub fn start() -> Server {
        Server::start_with(|_| {})
    }

    /// A server that takes nobody but over TLS, and the user `gauger` by certificate only. In its
    /// folder are `ca.pem`, which signed for it as `localhost`, `other.pem`, which did not, and the
    /// certificate `gauger.pem` with `gauger.key`.
    pub fn start_private() -> Server {
        Server::start_with(ask_for_certificates)
    }

    fn start_with(more: impl FnOnce(&Path)) -> Server {
        let folder = tempfile::Builder::new().prefix("quillane-pg").tempdir().expect("a folder").keep();
        std::fs::set_permissions(&folder, std::fs::Permissions::from_mode(0o777)).expect("rights");
        if is_root() {
            // Whoever runs the server removes the folder too, and among others' only its owner may.
            std::os::unix::fs::chown(&folder, Some(NOBODY), Some(NOBODY)).expect("an owner");
        }
        let data = folder.join("data");
        let made = modest(&program("initdb"))
            .args(["-U", OWNER, "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8", "-N", "-D"])
            .arg(&data)
            .current_dir(&folder)
            .status();
        assert!(
            made.is_ok_and(|status| status.success()),
            "initdb: is PostgreSQL installed? ./scripts/test installs it"
        );
        more(&folder);
        let port =
            TcpListener::bind("127.0.0.1:0").and_then(|socket| socket.local_addr()).expect("a port").port();
        let keeper = Server::run(&folder, port);
        let server = Server { folder, port, keeper: Keeper::new(keeper) };
        server.wait();
        server
    }

    fn run(folder: &Path, port: u16) -> Child {
        let script = "\"$1\" -D \"$2/data\" -p \"$3\" -c listen_addresses=127.0.0.1 -c unix_socket_directories=\"$2\" \
             -c fsync=off -c max_connections=100 -c log_min_messages=fatal & server=$!; read -r stop; \
             if [ \"$stop\" = keep ]; then kill -INT $server; wait $server; else kill -INT $server; wait $server; rm -rf \"$2\"; fi";
        let mut command = modest(Path::new("/bin/sh"));
        command.args(["-c", script, "sh"]).arg(program("postgres")).arg(folder).arg(port.to_string());
        command.current_dir(folder).stdin(Stdio::piped()).process_group(0);
        command.spawn().expect("a shell")
    }

    fn wait(&self) {
        wait_until(|| self.ask("postgres", "SELECT 1").is_some(), &self.path("log"));
    }

    /// Stops the server as an administrator would, and keeps its data.
    pub fn stop(&self) {
        self.keeper.stop();
    }

    /// Starts it again.
    pub fn start_again(&self) {
        self.keeper.replace(Server::run(&self.folder, self.port));
        self.wait();
    }

    /// A file in its folder.
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.join(name)
    }

    /// A new, empty database.
    pub fn database(&self) -> Database {
        static NEXT: AtomicU32 = AtomicU32::new(1);
        let name = format!("harbour_{}", NEXT.fetch_add(1, Ordering::Relaxed));
        self.ask("postgres", &format!("CREATE DATABASE {name}")).expect("a database");
        let url = format!("postgres://{OWNER}@127.0.0.1:{}/{name}", self.port);
        Database { name, url, port: self.port }
    }

    fn ask(&self, database: &str, sql: &str) -> Option<Vec<String>> {
        ask(self.port, database, sql)
    }
}

/// Writes certificates into a server's folder, and the settings that ask for them.
fn ask_for_certificates(folder: &Path) {
    certificates::write_all(folder);
    let settings = format!(
        "ssl = on\nssl_ca_file = '{0}/ca.pem'\nssl_cert_file = '{0}/server.pem'\nssl_key_file = '{0}/server.key'\n",
        folder.display()
    );
    let data = folder.join("data");
    let before = std::fs::read_to_string(data.join("postgresql.conf")).expect("settings");
    certificates::put(&data, "postgresql.conf", &(before + &settings));
    certificates::put(
        &data,
        "pg_hba.conf",
        "hostssl all gauger 127.0.0.1/32 cert\nhostssl all clerk 127.0.0.1/32 scram-sha-256\nhostssl all all 127.0.0.1/32 trust\n",
    );
}

fn ask(port: u16, database: &str, sql: &str) -> Option<Vec<String>> {
    let output = Command::new(program("psql"))
        .args([
            "-X",
            "-q",
            "-A",
            "-t",
            "-F",
            "|",
            "-v",
            "ON_ERROR_STOP=1",
            "-h",
            "127.0.0.1",
            "-U",
            OWNER,
            "-p",
        ])
        .args([&port.to_string(), "-d", database, "-c", sql])
        .env("TZ", "UTC")
        .env("PGTZ", "UTC")
        .output()
        .ok()?;
    if !output.status.success() {
        return None;
    }
    Some(String::from_utf8_lossy(&output.stdout).lines().map(str::to_owned).collect())
}

impl Database {
    /// The rows of a query as text, fields parted by `|`, nulls as nothing: asked of the server's
    /// own client.
    pub fn query(&self, sql: &str) -> Vec<String> {
        ask(self.port, &self.name, sql).unwrap_or_else(|| panic!("{sql}"))
    }

    /// The address by a line of one's own.
    pub fn url_through(&self, port: u16) -> String {
        self.url.replacen(&format!(":{}", self.port), &format!(":{port}"), 1)
    }

    /// The server's port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Runs statements in a session of their own, beside whatever else goes on.
    pub fn beside(&self, sql: &str) -> Child {
        let mut command = Command::new(program("psql"));
        command.args(["-X", "-q", "-h", "127.0.0.1", "-U", OWNER, "-p", &self.port.to_string()]);
        command.args(["-d", &self.name, "-c", sql]).stdout(Stdio::null()).stderr(Stdio::null());
        command.spawn().expect("psql is installed")
    }

    /// The address for another user.
    pub fn url_as(&self, user: &str) -> String {
        self.url.replacen(OWNER, user, 1)
    }
}
