//! The tide-gauge office: a small SFTP server that gives the files of one folder to whoever knows
//! the password, and takes none. It stands in for the servers that files are fetched from.

use std::collections::HashMap;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::{Component, Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use russh::keys::PrivateKey;
use russh::keys::ssh_key::private::{Ed25519Keypair, KeypairData};
use russh::server::{Auth, ChannelOpenHandle, Msg, Server as _, Session};
use russh::{Channel, ChannelId};
use russh_sftp::protocol::{
    Attrs, Data, File as Entry, FileAttributes, Handle, Name, OpenFlags, Status, StatusCode, Version,
};
use tokio::net::TcpListener;
use tokio::runtime::Runtime;

/// Whom to be at the office, and what to say.
pub const USER: &str = "pickup";
/// The office's password: it is made up like all the rest.
pub const PASSWORD: &str = "low water";

/// The most that is read at a time, in bytes.
const MOST_READ: u32 = 256 * 1024;

/// An office that is open until it is dropped.
pub struct Office {
    port: u16,
    _runtime: Runtime,
}

impl Office {
    /// Opens on a free port of this machine, with the files of `folder`.
    pub fn open(folder: &Path) -> io::Result<Office> {
        let folder = folder.canonicalize()?;
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build()?;
        let listener = runtime.block_on(TcpListener::bind(("127.0.0.1", 0)))?;
        let port = listener.local_addr()?.port();
        let config = Arc::new(russh::server::Config {
            auth_rejection_time: Duration::from_millis(200),
            auth_rejection_time_initial: Some(Duration::ZERO),
            keys: vec![key()?],
            ..russh::server::Config::default()
        });
        runtime.spawn(async move {
            let mut door = Door { folder };
            // It ends with the runtime it runs on.
            let _ = door.run_on_socket(config, &listener).await;
        });
        Ok(Office { port, _runtime: runtime })
    }

    /// The port it is open on.
    pub fn port(&self) -> u16 {
        self.port
    }
}

/// A key of its own each time: nobody is to trust it longer than the demo runs.
fn key() -> io::Result<PrivateKey> {
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap_or_default().as_nanos();
    let mut seed = [0; 32];
    seed[..16].copy_from_slice(&now.to_le_bytes());
    seed[16..20].copy_from_slice(&std::process::id().to_le_bytes());
    let pair = Ed25519Keypair::from_seed(&seed);
    PrivateKey::new(KeypairData::Ed25519(pair), "office").map_err(io::Error::other)
}

#[derive(Clone)]
struct Door {
    folder: PathBuf,
}

impl russh::server::Server for Door {
    type Handler = Visitor;

    fn new_client(&mut self, _: Option<std::net::SocketAddr>) -> Visitor {
        Visitor { folder: self.folder.clone(), channels: HashMap::new() }
    }
}

/// Somebody at the door.
struct Visitor {
    folder: PathBuf,
    channels: HashMap<ChannelId, Channel<Msg>>,
}

impl russh::server::Handler for Visitor {
    type Error = russh::Error;

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, russh::Error> {
        Ok(if user == USER && password == PASSWORD { Auth::Accept } else { Auth::reject() })
    }

    async fn channel_open_session(
        &mut self,
        channel: Channel<Msg>,
        reply: ChannelOpenHandle,
        _: &mut Session,
    ) -> Result<(), russh::Error> {
        self.channels.insert(channel.id(), channel);
        reply.accept().await;
        Ok(())
    }

    async fn subsystem_request(
        &mut self,
        id: ChannelId,
        name: &str,
        session: &mut Session,
    ) -> Result<(), russh::Error> {
        match self.channels.remove(&id).filter(|_| name == "sftp") {
            Some(channel) => {
                session.channel_success(id)?;
                let clerk = Clerk { folder: self.folder.clone(), open: HashMap::new(), next: 0 };
                russh_sftp::server::run(channel.into_stream(), clerk).await;
            }
            None => session.channel_failure(id)?,
        }
        Ok(())
    }
}

/// What is open: a file, or what is still to be told of a folder.
enum Opened {
    File(File),
    Folder(Vec<Entry>),
}

/// Whoever hands the files out.
struct Clerk {
    folder: PathBuf,
    open: HashMap<String, Opened>,
    next: u64,
}

impl Clerk {
    /// Where a path is, nowhere but in the folder.
    fn inside(&self, path: &str) -> Result<PathBuf, StatusCode> {
        let mut whole = self.folder.clone();
        for part in Path::new(path).components() {
            match part {
                Component::Normal(name) => whole.push(name),
                Component::RootDir | Component::CurDir => {}
                Component::ParentDir | Component::Prefix(_) => return Err(StatusCode::PermissionDenied),
            }
        }
        Ok(whole)
    }

    fn attributes(&self, path: &str) -> Result<FileAttributes, StatusCode> {
        let about = std::fs::symlink_metadata(self.inside(path)?).map_err(of)?;
        Ok(FileAttributes::from(&about))
    }

    fn keep(&mut self, id: u32, opened: Opened) -> Handle {
        self.next += 1;
        let handle = self.next.to_string();
        self.open.insert(handle.clone(), opened);
        Handle { id, handle }
    }
}

fn of(error: io::Error) -> StatusCode {
    match error.kind() {
        io::ErrorKind::NotFound => StatusCode::NoSuchFile,
        io::ErrorKind::PermissionDenied => StatusCode::PermissionDenied,
        _ => StatusCode::Failure,
    }
}

impl russh_sftp::server::Handler for Clerk {
    type Error = StatusCode;

    fn unimplemented(&self) -> StatusCode {
        StatusCode::OpUnsupported
    }

    async fn init(&mut self, _: u32, _: HashMap<String, String>) -> Result<Version, StatusCode> {
        Ok(Version::new())
    }

    async fn realpath(&mut self, id: u32, path: String) -> Result<Name, StatusCode> {
        Ok(Name { id, files: vec![Entry::dummy(if path == "." { "/".to_owned() } else { path })] })
    }

    async fn stat(&mut self, id: u32, path: String) -> Result<Attrs, StatusCode> {
        Ok(Attrs { id, attrs: self.attributes(&path)? })
    }

    async fn lstat(&mut self, id: u32, path: String) -> Result<Attrs, StatusCode> {
        Ok(Attrs { id, attrs: self.attributes(&path)? })
    }

    async fn fstat(&mut self, id: u32, handle: String) -> Result<Attrs, StatusCode> {
        let Some(Opened::File(file)) = self.open.get(&handle) else { return Err(StatusCode::BadMessage) };
        Ok(Attrs { id, attrs: FileAttributes::from(&file.metadata().map_err(of)?) })
    }

    async fn opendir(&mut self, id: u32, path: String) -> Result<Handle, StatusCode> {
        let mut entries = Vec::new();
        for entry in std::fs::read_dir(self.inside(&path)?).map_err(of)?.flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            let about = entry.metadata().map_err(of)?;
            entries.push(Entry::new(name, FileAttributes::from(&about)));
        }
        Ok(self.keep(id, Opened::Folder(entries)))
    }

    async fn readdir(&mut self, id: u32, handle: String) -> Result<Name, StatusCode> {
        match self.open.get_mut(&handle) {
            Some(Opened::Folder(entries)) if !entries.is_empty() => {
                let files = entries.drain(..entries.len().min(100)).collect();
                Ok(Name { id, files })
            }
            Some(Opened::Folder(_)) => Err(StatusCode::Eof),
            _ => Err(StatusCode::BadMessage),
        }
    }

    async fn open(
        &mut self,
        id: u32,
        path: String,
        flags: OpenFlags,
        _: FileAttributes,
    ) -> Result<Handle, StatusCode> {
        if flags.intersects(OpenFlags::WRITE | OpenFlags::APPEND | OpenFlags::CREATE | OpenFlags::TRUNCATE) {
            return Err(StatusCode::PermissionDenied);
        }
        let file = File::open(self.inside(&path)?).map_err(of)?;
        Ok(self.keep(id, Opened::File(file)))
    }

    async fn read(&mut self, id: u32, handle: String, offset: u64, len: u32) -> Result<Data, StatusCode> {
        let Some(Opened::File(file)) = self.open.get_mut(&handle) else { return Err(StatusCode::BadMessage) };
        file.seek(SeekFrom::Start(offset)).map_err(of)?;
        let mut data = Vec::new();
        file.take(u64::from(len.min(MOST_READ))).read_to_end(&mut data).map_err(of)?;
        if data.is_empty() { Err(StatusCode::Eof) } else { Ok(Data { id, data }) }
    }

    async fn close(&mut self, id: u32, handle: String) -> Result<Status, StatusCode> {
        self.open.remove(&handle);
        let (error_message, language_tag) = ("done".to_owned(), "en".to_owned());
        Ok(Status { id, status_code: StatusCode::Ok, error_message, language_tag })
    }
}
