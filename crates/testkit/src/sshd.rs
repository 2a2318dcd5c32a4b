//! A throwaway OpenSSH server, as any user, on a free port.

use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use tempfile::TempDir;

/// The password of [`Sshd::take_password`], and what the system keeps of it (crypt, SHA-512).
pub const PASSWORD: &str = "low water";
const PASSWORD_HASH: &str =
    "$6$quillane$jLvcYiOZG9hw4hl/pwagkmyO5yKg114Xx4S4W/MyAMbnecdNQ1RgB6OU9ajrlvS7fpQ.i2h77MhGcVtKW9.G11";

/// A server that serves files by SFTP, and goes with its owner.
pub struct Sshd {
    folder: TempDir,
    port: u16,
    child: Option<Child>,
}

fn run(command: &mut Command) {
    let out = command.output().expect("OpenSSH is installed");
    assert!(out.status.success(), "{command:?}\n{}", String::from_utf8_lossy(&out.stderr));
}

impl Sshd {
    /// Starts one. A missing OpenSSH is a failure.
    pub fn start() -> Sshd {
        let folder = tempfile::Builder::new().prefix("quillane-sshd").tempdir().expect("a folder");
        let port = TcpListener::bind("127.0.0.1:0").and_then(|l| l.local_addr()).expect("a port").port();
        let mut sshd = Sshd { folder, port, child: None };
        for name in ["host_key", "user_key", "other_key"] {
            run(Command::new("ssh-keygen")
                .args(["-q", "-t", "ed25519", "-N", "", "-f"])
                .arg(sshd.path(name)));
        }
        let passphrase = ["-q", "-t", "ed25519", "-N", "open sesame", "-f"];
        run(Command::new("ssh-keygen").args(passphrase).arg(sshd.path("locked_key")));
        let public = |name: &str| std::fs::read_to_string(sshd.path(name)).expect("a public key");
        let keys = public("user_key.pub") + &public("locked_key.pub");
        std::fs::write(sshd.path("authorized_keys"), keys).expect("keys");
        let sftp = ["/usr/lib/openssh/sftp-server", "/usr/libexec/sftp-server", "/usr/lib/ssh/sftp-server"];
        let sftp =
            sftp.into_iter().find(|path| Path::new(path).exists()).expect("OpenSSH has its SFTP server");
        let config = format!(
            "HostKey {0}/host_key\nAuthorizedKeysFile {0}/authorized_keys\nPidFile none\nStrictModes no\nUsePAM no\n\
             PasswordAuthentication no\nKbdInteractiveAuthentication no\nMaxStartups 100\nMaxSessions 100\nSubsystem sftp {sftp}\n",
            sshd.folder.path().display()
        );
        std::fs::write(sshd.path("config"), config).expect("a configuration");
        sshd.start_again();
        sshd
    }

    /// Starts it after [`Sshd::stop`], on the port it had.
    pub fn start_again(&mut self) {
        // It keeps the rights of root apart in a folder that has to be there.
        let _ = std::fs::create_dir_all("/run/sshd");
        let mut command = Command::new("/usr/sbin/sshd");
        if self.path("shadow").exists() {
            // What it takes for the machine's passwords is so for it alone.
            command = Command::new("unshare");
            command.args(["-m", "sh", "-c", "mount --bind \"$0\" /etc/shadow && exec /usr/sbin/sshd \"$@\""]);
            command.arg(self.path("shadow"));
        }
        let child = command
            .args(["-D", "-e", "-o", "ListenAddress=127.0.0.1", "-p", &self.port.to_string(), "-f"])
            .arg(self.path("config"))
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(std::fs::File::create(self.path("log")).expect("a log"))
            .spawn()
            .expect("OpenSSH is installed");
        self.child = Some(child);
        let until = Instant::now() + Duration::from_secs(20);
        while std::net::TcpStream::connect(("127.0.0.1", self.port)).is_err() {
            assert!(Instant::now() < until, "{}", self.log());
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Starts it anew with [`PASSWORD`] for whoever runs the tests, maybe expired. Whose password it
    /// is, the system says, so this takes root; `false` for anybody else.
    pub fn take_password(&mut self, is_expired: bool) -> bool {
        let Ok(shadow) = std::fs::read_to_string("/etc/shadow") else { return false };
        let ours = |line: &str| line.split(':').next() == Some("root");
        let may_unshare =
            Command::new("unshare").args(["-m", "mount", "--bind", "/etc/shadow", "/etc/shadow"]).output();
        if Sshd::user() != "root" || !may_unshare.is_ok_and(|out| out.status.success()) {
            return false;
        }
        self.stop();
        let mut lines: Vec<String> = shadow.lines().filter(|line| !ours(line)).map(str::to_owned).collect();
        let changed = if is_expired { "0" } else { "20500" };
        lines.push(format!("root:{PASSWORD_HASH}:{changed}:0:99999:7:::"));
        std::fs::write(self.path("shadow"), lines.join("\n") + "\n").expect("passwords");
        let config = std::fs::read_to_string(self.path("config")).expect("a configuration");
        let config =
            config.replace("PasswordAuthentication no", "PasswordAuthentication yes\nPermitRootLogin yes");
        std::fs::write(self.path("config"), config).expect("a configuration");
        self.start_again();
        true
    }

    /// Ends the server and every connection to it, at once.
    pub fn stop(&mut self) {
        if let Some(mut child) = self.child.take() {
            let id = child.id().to_string();
            let _ = Command::new("pkill").args(["-KILL", "-P", &id]).status();
            let _ = child.kill();
            let _ = child.wait();
            let _ = Command::new("pkill")
                .args(["-KILL", "-f", &format!("{}/config", self.folder.path().display())])
                .status();
        }
    }

    /// Ends the connections there are and keeps the server.
    pub fn cut(&self) {
        if let Some(child) = &self.child {
            let _ = Command::new("pkill").args(["-KILL", "-P", &child.id().to_string()]).status();
        }
    }

    /// A path in the server's own folder.
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// Its port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Who may log in: whoever runs the tests.
    pub fn user() -> String {
        let out = Command::new("id").arg("-un").output().expect("id");
        String::from_utf8_lossy(&out.stdout).trim().to_owned()
    }

    /// The address of a folder on it.
    pub fn url(&self, folder: &Path) -> String {
        format!("sftp://{}@127.0.0.1:{}{}", Sshd::user(), self.port, folder.display())
    }

    /// The line by which it is known.
    pub fn known_host(&self) -> String {
        let key = std::fs::read_to_string(self.path("host_key.pub")).expect("a key");
        format!("[127.0.0.1]:{} {key}", self.port)
    }

    /// What it said.
    pub fn log(&self) -> String {
        std::fs::read_to_string(self.path("log")).unwrap_or_default()
    }
}

impl Drop for Sshd {
    fn drop(&mut self) {
        self.stop();
    }
}
