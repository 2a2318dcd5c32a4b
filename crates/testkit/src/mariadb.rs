//! A throwaway MariaDB server: made in a temporary folder on a free port, shared by the tests of a process,
//! and gone with it.

use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU32, Ordering};

use crate::keeper::{Keeper, wait_until};
use crate::user::{NOBODY, is_root};

/// Where servers are, which are not on everybody's path.
const PATH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";

/// The user that may do everything on the server.
const OWNER: &str = "quillane";

/// A server.
pub struct Mariadb {
    folder: PathBuf,
    port: u16,
    options: Vec<String>,
    keeper: Keeper,
}

/// A database of its own on the server.
pub struct MariadbDatabase {
    /// Its name.
    pub name: String,
    /// Where it is.
    pub url: String,
    socket: PathBuf,
    port: u16,
}

/// The data of a new server: made once for all test runs, since it takes seconds.
fn new_data() -> &'static Path {
    static MADE: OnceLock<PathBuf> = OnceLock::new();
    MADE.get_or_init(|| {
        let version = modest("mariadbd").arg("--version").stdout(Stdio::piped()).output();
        let version = version.map(|output| String::from_utf8_lossy(&output.stdout).into_owned());
        let version = version.unwrap_or_default().replace(|c: char| !c.is_ascii_alphanumeric(), "_");
        let user = if is_root() { "nobody".to_owned() } else { std::env::var("USER").unwrap_or_default() };
        let made = std::env::temp_dir().join(format!("quillane-new-{user}-{version}"));
        if !made.exists() {
            make_data(&made);
        }
        made
    })
}

/// Makes the data of a new server aside, and puts it in its place at once: others may be at it too.
fn make_data(to: &Path) {
    let aside = to.with_extension(std::process::id().to_string());
    let made = modest("mariadb-install-db")
        .args(["--no-defaults", "--auth-root-authentication-method=normal", "--skip-test-db"])
        .args(["--skip-name-resolve", "--innodb-log-file-size=8M"])
        .arg(format!("--datadir={}", aside.display()))
        .current_dir(std::env::temp_dir())
        .status();
    assert!(
        made.is_ok_and(|status| status.success()),
        "mariadb-install-db: is MariaDB installed? ./scripts/test installs it"
    );
    if std::fs::rename(&aside, to).is_err() {
        // Somebody else was quicker.
        let _ = std::fs::remove_dir_all(&aside);
    }
}

/// A command that is not run as root.
fn modest(program: &str) -> Command {
    let mut command = Command::new(program);
    if is_root() {
        command.uid(NOBODY).gid(NOBODY);
    }
    command.env("PATH", PATH).env("TZ", "UTC").env_remove("MYSQL_PWD").stdin(Stdio::null());
    command.stdout(Stdio::null()).stderr(Stdio::null());
    command
}

impl Mariadb {
    /// The server of this process, started when it is first asked for. A server that does not start fails the
    /// test.
    pub fn shared() -> &'static Mariadb {
        static SHARED: OnceLock<Mariadb> = OnceLock::new();
        SHARED.get_or_init(|| Mariadb::start(&[]))
    }

    /// A server of its own, for tests that stop it or want it otherwise.
    pub fn start(options: &[&str]) -> Mariadb {
        Mariadb::start_with(options, |_| Vec::new())
    }

    /// A server that can be talked to over TLS. In its folder are `ca.pem`, which signed for it as `localhost`,
    /// and `other.pem`, which did not.
    pub fn start_private(options: &[&str]) -> Mariadb {
        Mariadb::start_with(options, |folder| {
            crate::certificates::write_all(folder);
            let file = |option: &str, name: &str| format!("--ssl-{option}={}", folder.join(name).display());
            vec![file("cert", "server.pem"), file("key", "server.key"), file("ca", "ca.pem")]
        })
    }

    fn start_with(options: &[&str], more: impl FnOnce(&Path) -> Vec<String>) -> Mariadb {
        let folder = tempfile::Builder::new().prefix("quillane-my").tempdir().expect("a folder").keep();
        std::fs::set_permissions(&folder, std::fs::Permissions::from_mode(0o777)).expect("rights");
        if is_root() {
            std::os::unix::fs::chown(&folder, Some(NOBODY), Some(NOBODY)).expect("an owner");
        }
        let copied =
            modest("cp").arg("-r").arg(new_data()).arg(folder.join("data")).current_dir(&folder).status();
        assert!(copied.is_ok_and(|status| status.success()), "a new server's data");
        let mut options: Vec<String> = options.iter().map(|option| (*option).to_owned()).collect();
        options.extend(more(&folder));
        let port =
            TcpListener::bind("127.0.0.1:0").and_then(|socket| socket.local_addr()).expect("a port").port();
        let keeper = Mariadb::run(&folder, port, &options);
        let server = Mariadb { folder, port, options, keeper: Keeper::new(keeper) };
        server.wait();
        let all = format!("CREATE USER '{OWNER}'@'%'; GRANT ALL ON *.* TO '{OWNER}'@'%' WITH GRANT OPTION");
        server.ask("", &all).expect("a user");
        server
    }

    fn run(folder: &Path, port: u16, options: &[String]) -> Child {
        // In a folder of temporary files that servers share, one that starts takes those of the others away.
        let script = "folder=$1; port=$2; shift 2; mariadbd --no-defaults --datadir=\"$folder/data\" --port=\"$port\" \
             --socket=\"$folder/s\" --tmpdir=\"$folder\" --pid-file=\"$folder/pid\" --bind-address=127.0.0.1 --skip-name-resolve \
             --skip-log-bin --innodb-log-file-size=8M --innodb-buffer-pool-size=64M \
             --innodb-flush-log-at-trx-commit=0 --innodb-doublewrite=0 --innodb-flush-method=nosync --local-infile=1 \
             --max-connections=200 \"$@\" >\"$folder/log\" 2>&1 & server=$!; read -r stop; \
             if [ \"$stop\" = keep ]; then kill -TERM $server; wait $server; else kill -KILL $server; wait $server; rm -rf \"$folder\"; fi";
        let mut command = modest("/bin/sh");
        command.args(["-c", script, "sh"]).arg(folder).arg(port.to_string()).args(options);
        command.current_dir(folder).stdin(Stdio::piped()).process_group(0);
        command.spawn().expect("a shell")
    }

    fn wait(&self) {
        wait_until(|| self.ask("", "SELECT 1").is_ok(), &self.path("log"));
    }

    /// Stops the server as an administrator would, and keeps its data.
    pub fn stop(&self) {
        self.keeper.stop();
    }

    /// Starts it again.
    pub fn start_again(&self) {
        self.keeper.replace(Mariadb::run(&self.folder, self.port, &self.options));
        self.wait();
    }

    /// A file in its folder.
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.join(name)
    }

    /// A new, empty database.
    pub fn database(&self) -> MariadbDatabase {
        static NEXT: AtomicU32 = AtomicU32::new(1);
        let name = format!("harbour_{}", NEXT.fetch_add(1, Ordering::Relaxed));
        self.ask("", &format!("CREATE DATABASE {name}")).expect("a database");
        let url = format!("mysql://{OWNER}@127.0.0.1:{}/{name}", self.port);
        MariadbDatabase { name, url, socket: self.path("s"), port: self.port }
    }

    /// What statements of an administrator's give.
    pub fn administer(&self, sql: &str) -> Vec<String> {
        self.ask("", sql).unwrap_or_else(|why| panic!("{sql}: {why}"))
    }

    fn ask(&self, database: &str, sql: &str) -> Result<Vec<String>, String> {
        ask(&self.path("s"), database, sql)
    }
}

fn client(socket: &Path, database: &str) -> Command {
    let mut command = Command::new("mariadb");
    // The owner of everything is known by the socket.
    command.args([
        "--no-defaults",
        "-uroot",
        "--batch",
        "--skip-column-names",
        "--default-character-set=utf8mb4",
    ]);
    command.args(["--init-command=SET sql_mode = CONCAT(@@sql_mode, ',ANSI_QUOTES,PIPES_AS_CONCAT'), time_zone = '+00:00'"]);
    command.arg(format!("--socket={}", socket.display())).arg(format!("--database={database}"));
    command.stdin(Stdio::null());
    command
}

fn ask(socket: &Path, database: &str, sql: &str) -> Result<Vec<String>, String> {
    let output = client(socket, database).args(["-e", sql]).output().map_err(|error| error.to_string())?;
    if !output.status.success() {
        return Err(String::from_utf8_lossy(&output.stderr).into_owned());
    }
    let field = |text: &str| match text {
        "NULL" => String::new(),
        text => without_zeros(text).replace("\\n", "\n").replace("\\t", "\t").replace("\\\\", "\\"),
    };
    let row = |line: &str| line.split('\t').map(field).collect::<Vec<_>>().join("|");
    Ok(String::from_utf8_lossy(&output.stdout).lines().map(row).collect())
}

/// A moment or a time of day without zeros that say nothing.
fn without_zeros(text: &str) -> &str {
    let is_mark = |at: usize, mark: &str| text.get(at..=at) == Some(mark);
    let is_moment = text.len() == 26 && is_mark(4, "-") && is_mark(10, " ") && is_mark(19, ".");
    let is_time = text.len() == 15 && is_mark(2, ":") && is_mark(8, ".");
    if is_moment || is_time { text.trim_end_matches('0').trim_end_matches('.') } else { text }
}

impl MariadbDatabase {
    /// The rows of a query as text, fields parted by `|`, nulls as nothing: asked of the server's own client.
    pub fn query(&self, sql: &str) -> Vec<String> {
        ask(&self.socket, &self.name, sql).unwrap_or_else(|why| panic!("{sql}: {why}"))
    }

    /// Runs statements in a session of their own, beside whatever else goes on.
    pub fn beside(&self, sql: &str) -> Child {
        let mut command = client(&self.socket, &self.name);
        command.args(["-e", sql]).stdout(Stdio::null()).stderr(Stdio::null());
        command.spawn().expect("the client is installed")
    }

    /// Ends all sessions that others have on it.
    pub fn kill_sessions(&self) {
        let sql =
            "SELECT ID FROM information_schema.PROCESSLIST WHERE DB = DATABASE() AND ID <> CONNECTION_ID()";
        for id in self.query(sql) {
            // It may have ended by itself.
            let _ = ask(&self.socket, &self.name, &format!("KILL {id}"));
        }
    }

    /// The address by a line of one's own.
    pub fn url_through(&self, port: u16) -> String {
        self.url.replacen(&format!(":{}", self.port), &format!(":{port}"), 1)
    }

    /// The server's port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// The server's socket.
    pub fn socket(&self) -> &Path {
        &self.socket
    }

    /// The address for another user.
    pub fn url_as(&self, user: &str) -> String {
        self.url.replacen(OWNER, user, 1)
    }
}
