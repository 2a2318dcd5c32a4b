//! An SFTP server that does what no server should: it lies about its files, stalls, or speaks.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use russh::keys::PrivateKey;
use russh::keys::ssh_key::private::{Ed25519Keypair, KeypairData};
use russh::server::{Auth, ChannelOpenHandle, Msg, Response, Server as _, Session};
use russh::{Channel, ChannelId, MethodKind, MethodSet};
use russh_sftp::protocol::{
    Attrs, Data, File as Entry, FileAttributes, Handle, Name, OpenFlags, Status, StatusCode, Version,
};
use tokio::net::TcpListener;
use tokio::runtime::Runtime;

use crate::sshd::PASSWORD;

/// Who is let in, and by what.
const VISITOR: (&str, &str) = ("pickup", PASSWORD);

/// What is wrong with the server.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fault {
    /// Nothing.
    None,
    /// It says that files are larger than they are.
    SaysMore,
    /// It says that they are smaller.
    SaysLess,
    /// It answers with more than it was asked for.
    GivesMore,
    /// It answers with less than it was asked for, which it may.
    GivesLess,
    /// It answers with a byte at a time, and takes its time for each.
    Drips,
    /// The second answer about a file's content never comes.
    Stalls,
    /// The size told with the list is not that of the open file.
    ListsOther,
    /// The file is another one once the first of it was read.
    Changes,
    /// It takes the password only as the answer to a question.
    AsksPassword,
    /// After the password it asks for a new one.
    AsksNewPassword,
    /// It lets in, and then says that the password has expired.
    Speaks,
    /// It never says whether the password is right.
    Ponders,
}

/// A server that is up until it is dropped.
pub struct BadServer {
    port: u16,
    fault: Arc<Mutex<Fault>>,
    runtime: Option<Runtime>,
}

impl BadServer {
    /// Starts one on a free port, with these files in its only folder, `/outgoing`.
    pub fn start(files: &[(&str, Vec<u8>)], fault: Fault) -> BadServer {
        let runtime = Runtime::new().expect("a runtime");
        let listener = runtime.block_on(TcpListener::bind(("127.0.0.1", 0))).expect("a port");
        let port = listener.local_addr().expect("a port").port();
        let pair = Ed25519Keypair::from_seed(&[7; 32]);
        let key = PrivateKey::new(KeypairData::Ed25519(pair), "bad").expect("a key");
        let methods = [MethodKind::Password, MethodKind::KeyboardInteractive];
        let config = Arc::new(russh::server::Config {
            auth_rejection_time: Duration::from_millis(10),
            methods: MethodSet::from(&methods[..]),
            keys: vec![key],
            ..russh::server::Config::default()
        });
        let files = files.iter().map(|(name, content)| ((*name).to_owned(), content.clone())).collect();
        let fault = Arc::new(Mutex::new(fault));
        let mut door = Door { files: Arc::new(files), fault: fault.clone() };
        runtime.spawn(async move { door.run_on_socket(config, &listener).await });
        BadServer { port, fault, runtime: Some(runtime) }
    }

    /// From now on, something else is wrong.
    pub fn turn(&self, fault: Fault) {
        *self.fault.lock().expect("no panic") = fault;
    }

    /// The address of its folder.
    pub fn url(&self) -> String {
        format!("sftp://{}@127.0.0.1:{}/outgoing", VISITOR.0, self.port)
    }
}

impl Drop for BadServer {
    fn drop(&mut self) {
        // Somebody may still wait for what never comes.
        if let Some(runtime) = self.runtime.take() {
            runtime.shutdown_background();
        }
    }
}

type Files = Arc<HashMap<String, Vec<u8>>>;

#[derive(Clone)]
struct Door {
    files: Files,
    fault: Arc<Mutex<Fault>>,
}

impl russh::server::Server for Door {
    type Handler = Visit;

    fn new_client(&mut self, _: Option<std::net::SocketAddr>) -> Visit {
        Visit { door: self.clone(), channels: HashMap::new() }
    }
}

struct Visit {
    door: Door,
    channels: HashMap<ChannelId, Channel<Msg>>,
}

impl Visit {
    fn fault(&self) -> Fault {
        *self.door.fault.lock().expect("no panic")
    }
}

impl russh::server::Handler for Visit {
    type Error = russh::Error;

    async fn auth_password(&mut self, user: &str, password: &str) -> Result<Auth, russh::Error> {
        let asks = matches!(self.fault(), Fault::AsksPassword | Fault::AsksNewPassword);
        if self.fault() == Fault::Ponders {
            std::future::pending::<()>().await;
        }
        Ok(if (user, password) == VISITOR && !asks { Auth::Accept } else { Auth::reject() })
    }

    async fn auth_keyboard_interactive<'a>(
        &'a mut self,
        user: &str,
        _: &str,
        response: Option<Response<'a>>,
    ) -> Result<Auth, russh::Error> {
        let ask = |what: &'static str, echo: bool| Auth::Partial {
            name: "".into(),
            instructions: "".into(),
            prompts: vec![(what.into(), echo)].into(),
        };
        let Some(mut response) = response else { return Ok(ask("Password: ", false)) };
        let right = user == VISITOR.0 && response.next().is_some_and(|word| *word == *VISITOR.1.as_bytes());
        Ok(match self.fault() {
            Fault::AsksNewPassword if right => ask("Your password has expired.\nNew password: ", false),
            Fault::AsksPassword if right => Auth::Accept,
            _ => Auth::reject(),
        })
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
        _: &str,
        session: &mut Session,
    ) -> Result<(), russh::Error> {
        session.channel_success(id)?;
        let Some(channel) = self.channels.remove(&id) else { return Ok(()) };
        if self.fault() == Fault::Speaks {
            let words = "WARNING: Your password has expired.\r\nChange it \x1b[1mnow\x1b[0m.\n";
            session.extended_data(id, 1, words.as_bytes().to_vec())?;
            session.close(id)?;
            return Ok(());
        }
        let clerk = Clerk { door: self.door.clone(), open: HashMap::new(), reads: 0 };
        russh_sftp::server::run(channel.into_stream(), clerk).await;
        Ok(())
    }
}

struct Clerk {
    door: Door,
    /// Names of files by their handles; nothing where a folder was told already.
    open: HashMap<String, Option<String>>,
    reads: u32,
}

impl Clerk {
    fn fault(&self) -> Fault {
        *self.door.fault.lock().expect("no panic")
    }

    fn attributes(&self, name: &str, is_open: bool) -> Result<FileAttributes, StatusCode> {
        let mut about = FileAttributes::empty();
        if name.is_empty() {
            about.permissions = Some(0o040_755);
            return Ok(about);
        }
        let bytes = self.door.files.get(name).ok_or(StatusCode::NoSuchFile)?.len() as u64;
        about.permissions = Some(0o100_644);
        about.mtime = Some(1_772_400_000 + u32::from(self.fault() == Fault::Changes && self.reads > 0));
        about.atime = about.mtime;
        about.size = Some(match self.fault() {
            Fault::SaysMore => bytes + 100,
            Fault::SaysLess => bytes - 10,
            Fault::ListsOther if !is_open => bytes + 1,
            _ => bytes,
        });
        Ok(about)
    }
}

/// The name of a file in the only folder there is.
fn name_of(path: &str) -> &str {
    path.strip_prefix("/outgoing").unwrap_or(path).trim_start_matches('/')
}

impl russh_sftp::server::Handler for Clerk {
    type Error = StatusCode;

    fn unimplemented(&self) -> StatusCode {
        StatusCode::OpUnsupported
    }

    async fn init(&mut self, _: u32, _: HashMap<String, String>) -> Result<Version, StatusCode> {
        Ok(Version::new())
    }

    async fn stat(&mut self, id: u32, path: String) -> Result<Attrs, StatusCode> {
        Ok(Attrs { id, attrs: self.attributes(name_of(&path), false)? })
    }

    async fn fstat(&mut self, id: u32, handle: String) -> Result<Attrs, StatusCode> {
        let Some(Some(name)) = self.open.get(&handle) else { return Err(StatusCode::BadMessage) };
        Ok(Attrs { id, attrs: self.attributes(name, true)? })
    }

    async fn opendir(&mut self, id: u32, _: String) -> Result<Handle, StatusCode> {
        self.open.insert("folder".to_owned(), Some(String::new()));
        Ok(Handle { id, handle: "folder".to_owned() })
    }

    async fn readdir(&mut self, id: u32, handle: String) -> Result<Name, StatusCode> {
        if self.open.insert(handle, None).flatten().is_none() {
            return Err(StatusCode::Eof);
        }
        let names = self.door.files.keys();
        let entry = |name: &String| Ok(Entry::new(name.clone(), self.attributes(name, false)?));
        Ok(Name { id, files: names.map(entry).collect::<Result<_, StatusCode>>()? })
    }

    async fn open(
        &mut self,
        id: u32,
        path: String,
        _: OpenFlags,
        _: FileAttributes,
    ) -> Result<Handle, StatusCode> {
        let name = name_of(&path).to_owned();
        self.attributes(&name, true)?;
        let handle = format!("file {}", self.open.len());
        self.open.insert(handle.clone(), Some(name));
        Ok(Handle { id, handle })
    }

    async fn read(&mut self, id: u32, handle: String, offset: u64, len: u32) -> Result<Data, StatusCode> {
        let Some(Some(name)) = self.open.get(&handle) else { return Err(StatusCode::BadMessage) };
        let content = &self.door.files[name];
        let from = usize::try_from(offset).unwrap_or(usize::MAX).min(content.len());
        let asked = match self.fault() {
            Fault::GivesMore => len as usize + 1000,
            Fault::GivesLess => (len as usize).min(1000),
            Fault::Drips => 1,
            _ => len as usize,
        };
        let data = content[from..(from + asked).min(content.len())].to_vec();
        self.reads += 1;
        if self.fault() == Fault::Drips {
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
        if self.fault() == Fault::Stalls && self.reads > 1 {
            std::future::pending::<()>().await;
        }
        if data.is_empty() { Err(StatusCode::Eof) } else { Ok(Data { id, data }) }
    }

    async fn close(&mut self, id: u32, _: String) -> Result<Status, StatusCode> {
        let (error_message, language_tag) = ("done".to_owned(), "en".to_owned());
        Ok(Status { id, status_code: StatusCode::Ok, error_message, language_tag })
    }
}
