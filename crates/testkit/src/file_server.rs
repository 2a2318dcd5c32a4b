//! A small web server with files, which answers in the ways that servers of files do.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

/// A file that is served, and how.
#[derive(Clone, Debug, Default)]
pub struct ServedFile {
    /// What is in it.
    pub content: Vec<u8>,
    /// Its entity tag, if it has one.
    pub tag: Option<String>,
    /// When it was modified, as a header says it, if any does.
    pub modified: Option<String>,
    /// What kind of file the server says that it is.
    pub kind: Option<String>,
    /// It is packed for the way, where that is asked for.
    pub packs: bool,
    /// Its size is not told.
    pub hides_size: bool,
    /// Nothing is told of it without giving it.
    pub refuses_head: bool,
    /// Parts of it are given.
    pub gives_parts: bool,
    /// So many answers break off in the middle.
    pub cuts: u32,
    /// Its bytes come one by one, with a pause before each.
    pub drips: Option<Duration>,
    /// It is somewhere else.
    pub redirect: Option<String>,
    /// Who may have it, as a header says it.
    pub authorization: Option<String>,
    /// It is answered with this number.
    pub status: Option<u16>,
}

/// A request as it came.
#[derive(Clone, Debug)]
pub struct FileRequest {
    /// `GET` or `HEAD`.
    pub method: String,
    /// The path and what follows it.
    pub path: String,
    /// The headers, their names in lower case.
    pub headers: BTreeMap<String, String>,
}

#[derive(Default)]
struct Shared {
    files: BTreeMap<String, ServedFile>,
    requests: Vec<FileRequest>,
}

/// The server.
pub struct FileServer {
    port: u16,
    shared: Arc<Mutex<Shared>>,
}

impl ServedFile {
    /// A file as most servers give it.
    pub fn usual(content: impl Into<Vec<u8>>) -> ServedFile {
        let content = content.into();
        let sum: u64 = content.iter().fold(7, |sum, byte| sum * 31 % 1_000_003 + u64::from(*byte));
        ServedFile {
            tag: Some(format!("\"{sum}-{}\"", content.len())),
            modified: Some("Mon, 02 Mar 2026 06:00:00 GMT".to_owned()),
            kind: Some("text/csv".to_owned()),
            gives_parts: true,
            content,
            ..ServedFile::default()
        }
    }
}

impl FileServer {
    /// Opens it on a free port.
    pub fn open() -> FileServer {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let port = listener.local_addr().expect("an address").port();
        let shared: Arc<Mutex<Shared>> = Arc::default();
        let serving = shared.clone();
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let serving = serving.clone();
                std::thread::spawn(move || while serve(&stream, &serving).is_some() {});
            }
        });
        FileServer { port, shared }
    }

    /// The address of a path.
    pub fn url(&self, path: &str) -> String {
        format!("http://127.0.0.1:{}/{path}", self.port)
    }

    /// Serves a file under a path.
    pub fn put(&self, path: &str, file: ServedFile) {
        self.lock().files.insert(format!("/{path}"), file);
    }

    /// What came.
    pub fn requests(&self) -> Vec<FileRequest> {
        self.lock().requests.clone()
    }

    fn lock(&self) -> MutexGuard<'_, Shared> {
        self.shared.lock().expect("the server's state")
    }
}

/// Answers one request; `None` where the connection is over.
fn serve(stream: &TcpStream, shared: &Mutex<Shared>) -> Option<()> {
    let request = read_request(stream)?;
    let is_head = request.method == "HEAD";
    let path = request.path.split('?').next()?.to_owned();
    let (file, is_cut) = {
        let mut shared = shared.lock().ok()?;
        shared.requests.push(request.clone());
        let file = shared.files.get_mut(&path);
        let is_cut = file.as_ref().is_some_and(|file| file.cuts > 0 && !is_head);
        let file = file.map(|file| {
            file.cuts -= u32::from(is_cut);
            file.clone()
        });
        (file, is_cut)
    };
    let Some(file) = file else { return send(stream, "404 Not Found", &[], b"", is_head) };
    answer(stream, &file, &request, is_head, is_cut)
}

fn read_request(stream: &TcpStream) -> Option<FileRequest> {
    let mut reader = BufReader::new(stream);
    let mut line = String::new();
    reader.read_line(&mut line).ok()?;
    let mut words = line.split(' ');
    let (method, path) = (words.next()?.to_owned(), words.next()?.to_owned());
    let mut headers = BTreeMap::new();
    loop {
        let mut line = String::new();
        reader.read_line(&mut line).ok()?;
        let Some((name, value)) = line.trim_end().split_once(": ") else { break };
        headers.insert(name.to_lowercase(), value.to_owned());
    }
    Some(FileRequest { method, path, headers })
}

fn answer(
    stream: &TcpStream,
    file: &ServedFile,
    request: &FileRequest,
    is_head: bool,
    is_cut: bool,
) -> Option<()> {
    let header = |name: &str| request.headers.get(name).map(String::as_str);
    if file.authorization.as_deref().is_some_and(|wanted| header("authorization") != Some(wanted)) {
        return send(stream, "401 Unauthorized", &[], b"", is_head);
    }
    if let Some(to) = &file.redirect {
        return send(stream, "302 Found", &[format!("Location: {to}")], b"", is_head);
    }
    if let Some(status) = file.status {
        return send(stream, &format!("{status} so"), &[], b"", is_head);
    }
    if is_head && file.refuses_head {
        return send(stream, "405 Method Not Allowed", &[], b"", is_head);
    }
    let mut headers: Vec<String> = Vec::new();
    headers.extend(file.modified.iter().map(|modified| format!("Last-Modified: {modified}")));
    headers.extend(file.kind.iter().map(|kind| format!("Content-Type: {kind}")));
    if file.tag.is_some() && header("if-none-match") == file.tag.as_deref() {
        return send(stream, "304 Not Modified", &headers, b"", true);
    }
    let is_packed = file.packs && header("accept-encoding").is_some_and(|accepted| accepted.contains("gzip"));
    let ending = if is_packed { "-gzip\"" } else { "\"" };
    headers.extend(file.tag.iter().map(|tag| format!("ETag: {}{ending}", tag.trim_end_matches('"'))));
    let mut content = if is_packed { gzip(&file.content) } else { file.content.clone() };
    headers.extend(is_packed.then(|| "Content-Encoding: gzip".to_owned()));
    let mut status = "200 OK".to_owned();
    let is_version = header("if-range").is_none_or(|tag| Some(tag) == file.tag.as_deref());
    if let (true, true, Some(range)) = (file.gives_parts, is_version, header("range")) {
        let (from, to) = range.strip_prefix("bytes=")?.split_once('-')?;
        let (from, all): (usize, usize) = (from.parse().ok()?, content.len());
        let to = to.parse().unwrap_or(all - 1).min(all - 1);
        headers.push(format!("Content-Range: bytes {from}-{to}/{all}"));
        content = content[from..=to].to_vec();
        status = "206 Partial Content".to_owned();
    }
    if is_cut {
        headers.push(format!("Content-Length: {}", content.len()));
        let half = content.len() / 2;
        raw(stream, &status, &headers, &content[..half])?;
        let _ = stream.shutdown(std::net::Shutdown::Both);
        return None;
    }
    if let Some(pause) = file.drips.filter(|_| !is_head) {
        headers.push(format!("Content-Length: {}", content.len()));
        raw(stream, &status, &headers, b"")?;
        for byte in content {
            std::thread::sleep(pause);
            (&*stream).write_all(&[byte]).ok()?;
        }
        return Some(());
    }
    if file.hides_size {
        headers.push("Connection: close".to_owned());
        raw(stream, &status, &headers, if is_head { b"" } else { &content })?;
        let _ = stream.shutdown(std::net::Shutdown::Both);
        return None;
    }
    send(stream, &status, &headers, &content, is_head)
}

fn send(stream: &TcpStream, status: &str, headers: &[String], content: &[u8], is_head: bool) -> Option<()> {
    let length = format!("Content-Length: {}", content.len());
    let headers: Vec<String> = headers.iter().cloned().chain([length]).collect();
    raw(stream, status, &headers, if is_head { b"" } else { content })
}

fn raw(mut stream: &TcpStream, status: &str, headers: &[String], content: &[u8]) -> Option<()> {
    let mut text = format!("HTTP/1.1 {status}\r\n");
    headers.iter().for_each(|header| text.push_str(&format!("{header}\r\n")));
    text.push_str("\r\n");
    stream.write_all(text.as_bytes()).ok()?;
    stream.write_all(content).ok()
}

fn gzip(content: &[u8]) -> Vec<u8> {
    let mut child = Command::new("gzip")
        .arg("-c")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("gzip starts");
    let mut input = child.stdin.take().expect("a pipe");
    let content = content.to_vec();
    let writer = std::thread::spawn(move || input.write_all(&content));
    let output = child.wait_with_output().expect("gzip ends");
    writer.join().expect("a writer").expect("written");
    output.stdout
}
