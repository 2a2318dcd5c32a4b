//! Object stores that other people wrote, and the Python that writes files for tests. They are packages that
//! `scripts/test` installs; where they are missing, the tests that need them fail.

use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU16, Ordering};

use tempfile::TempDir;

use crate::finish;
use crate::keeper::wait_until;

/// Whom to be at these stores, and what shows it.
pub const PEER_KEYS: (&str, &str) = ("crane-yard", "heave-ho");

/// The stores.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Peer {
    /// A stand-in of Python's, which takes any keys.
    Moto,
    /// A store for real use.
    Weed,
}

/// A store that runs until this is dropped.
pub struct PeerStore {
    folder: TempDir,
    port: u16,
    child: Child,
}

/// A program of the packages that tests need.
fn program(name: &str) -> PathBuf {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/peers/bin");
    let path = folder.join(name);
    assert!(path.exists(), "`{}` is missing: ./scripts/test installs it", path.display());
    path
}

/// The Python that has the packages.
pub fn python() -> Command {
    Command::new(program("python3"))
}

/// The port that was given out last.
static LAST: AtomicU16 = AtomicU16::new(0);

/// A port that is free, and so is the one 10,000 above it; none is given out twice.
fn port() -> u16 {
    let start = 12_000 + (std::process::id() % 6_000) as u16;
    let _ = LAST.compare_exchange(0, start, Ordering::SeqCst, Ordering::SeqCst);
    loop {
        let next = LAST.fetch_add(1, Ordering::SeqCst);
        let is_free = |port: u16| TcpListener::bind(("127.0.0.1", port)).is_ok();
        if is_free(next) && is_free(next + 10_000) {
            return next;
        }
    }
}

impl PeerStore {
    /// Starts a store with a bucket `quillane`.
    pub fn start(peer: Peer) -> PeerStore {
        let folder = tempfile::Builder::new().prefix("quillane-store").tempdir().expect("a folder");
        let port = port();
        let log = folder.path().join("log");
        let mut command = match peer {
            Peer::Moto => moto(port),
            Peer::Weed => weed(folder.path(), port),
        };
        let child = command
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(std::fs::File::create(&log).expect("a log"))
            .spawn()
            .expect("the store starts");
        let store = PeerStore { folder, port, child };
        wait_until(|| TcpStream::connect(("127.0.0.1", port)).is_ok(), &log);
        let make = "import time\nfor _ in range(100):\n    try:\n        s3.create_bucket(Bucket='quillane')\n        break\n    except Exception:\n        time.sleep(0.2)\n";
        store.python(make);
        store
    }

    /// Where it is.
    pub fn endpoint(&self) -> String {
        format!("http://127.0.0.1:{}", self.port)
    }

    /// Puts objects there, by another client.
    pub fn put(&self, objects: &[(&str, &[u8])]) {
        let mut code = String::new();
        for (at, (key, content)) in objects.iter().enumerate() {
            let path = self.folder.path().join(format!("object_{at}"));
            std::fs::write(&path, content).expect("a file");
            let key = serde_json::to_string(key).expect("a text");
            code.push_str(&format!(
                "s3.put_object(Bucket='quillane', Key={key}, Body=open(r'{}', 'rb').read())\n",
                path.display()
            ));
        }
        self.python(&code);
    }

    /// The keys there are, by another client.
    pub fn keys(&self) -> Vec<String> {
        let code = "pages = s3.get_paginator('list_objects_v2').paginate(Bucket='quillane')\nprint('\\n'.join(o['Key'] for page in pages for o in page.get('Contents', [])))\n";
        self.python(code).lines().map(str::to_owned).filter(|key| !key.is_empty()).collect()
    }

    /// Runs lines of Python that have a client at hand, `s3`.
    pub fn python(&self, code: &str) -> String {
        let head = format!(
            "import boto3\nfrom botocore.config import Config\ns3 = boto3.client('s3', endpoint_url='{}', aws_access_key_id='{}', aws_secret_access_key='{}', region_name='us-east-1', config=Config(s3={{'addressing_style': 'path'}}))\n",
            self.endpoint(),
            PEER_KEYS.0,
            PEER_KEYS.1
        );
        let mut command = python();
        command.arg("-c").arg(head + code);
        let run = finish(command);
        assert_eq!(run.code, Some(0), "{}", run.err);
        run.out
    }
}

impl Drop for PeerStore {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn moto(port: u16) -> Command {
    let mut command = Command::new(program("moto_server"));
    command.args(["-H", "127.0.0.1", "-p", &port.to_string()]);
    command
}

fn weed(folder: &Path, s3: u16) -> Command {
    let keys = format!(
        "{{\"identities\":[{{\"name\":\"yard\",\"credentials\":[{{\"accessKey\":\"{}\",\"secretKey\":\"{}\"}}],\"actions\":[\"Admin\",\"Read\",\"Write\",\"List\",\"Tagging\"]}}]}}",
        PEER_KEYS.0, PEER_KEYS.1
    );
    let file = folder.join("keys.json");
    std::fs::write(&file, keys).expect("a file");
    std::fs::create_dir(folder.join("data")).expect("a folder");
    let mut command = Command::new(program("weed"));
    command.args(["server", "-ip=127.0.0.1", "-ip.bind=127.0.0.1", "-filer", "-s3"]);
    command.arg(format!("-dir={}", folder.join("data").display()));
    command.arg(format!("-s3.config={}", file.display()));
    command.arg(format!("-s3.port={s3}"));
    for service in ["master.port", "volume.port", "filer.port", "s3.port.iceberg", "s3.port.lance"] {
        command.arg(format!("-{service}={}", port()));
    }
    for service in ["filer", "s3"] {
        command.arg(format!("-{service}.localSocket={}", folder.join(format!("{service}.sock")).display()));
    }
    command
}
