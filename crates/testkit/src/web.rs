//! A stand-in for a web server that is told things: answers as it is bid, stalls or hangs up.

use std::collections::VecDeque;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};
use std::time::Duration;

use serde_json::Value;

/// What becomes of a request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answer {
    /// It is answered with a status.
    Status(u16),
    /// It is led to the same path on another port.
    Moved(u16),
    /// It is never answered.
    Stalls,
    /// The connection is closed.
    HangsUp,
}

/// One request as it came.
#[derive(Clone, Debug)]
pub struct Request {
    /// The path and what follows it.
    pub path: String,
    /// The headers, in lower case.
    pub headers: Vec<String>,
    /// What was sent.
    pub body: Value,
}

/// The server.
pub struct Web {
    port: u16,
    requests: Arc<Mutex<Vec<Request>>>,
    answers: Arc<Mutex<VecDeque<Answer>>>,
}

impl Web {
    /// Opens it on a free port. After the last answer it says 200.
    pub fn open(answers: &[Answer]) -> Web {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let port = listener.local_addr().expect("an address").port();
        let requests: Arc<Mutex<Vec<Request>>> = Arc::default();
        let answers = Arc::new(Mutex::new(answers.iter().copied().collect::<VecDeque<_>>()));
        let (seen, queue) = (requests.clone(), answers.clone());
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (seen, queue) = (seen.clone(), queue.clone());
                std::thread::spawn(move || serve(stream, &seen, &queue));
            }
        });
        Web { port, requests, answers }
    }

    /// These are the next answers.
    pub fn answer(&self, answers: &[Answer]) {
        *self.answers.lock().expect("answers") = answers.iter().copied().collect();
    }

    /// Its port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Its address.
    pub fn url(&self, path: &str) -> String {
        format!("http://127.0.0.1:{}/{path}", self.port)
    }

    /// What came.
    pub fn requests(&self) -> Vec<Request> {
        self.requests.lock().expect("requests").clone()
    }
}

fn serve(
    mut stream: TcpStream,
    requests: &Mutex<Vec<Request>>,
    answers: &Mutex<VecDeque<Answer>>,
) -> Option<()> {
    let mut reader = BufReader::new(stream.try_clone().ok()?);
    let mut line = String::new();
    reader.read_line(&mut line).ok()?;
    let path = line.split(' ').nth(1)?.to_owned();
    let mut headers = Vec::new();
    loop {
        let mut line = String::new();
        reader.read_line(&mut line).ok()?;
        if line.trim().is_empty() {
            break;
        }
        headers.push(line.trim().to_lowercase());
    }
    let length = headers.iter().find_map(|line| line.strip_prefix("content-length: "))?;
    let mut body = vec![0; length.parse().ok()?];
    reader.read_exact(&mut body).ok()?;
    let body = serde_json::from_slice(&body).ok()?;
    requests.lock().expect("requests").push(Request { path, headers, body });
    let answer = answers.lock().expect("answers").pop_front().unwrap_or(Answer::Status(200));
    match answer {
        Answer::Status(status) => {
            let text = format!("HTTP/1.1 {status} so\r\nContent-Length: 0\r\nConnection: close\r\n\r\n");
            stream.write_all(text.as_bytes()).ok()
        }
        Answer::Moved(port) => {
            let to = format!("http://127.0.0.1:{port}/told");
            let text = format!(
                "HTTP/1.1 302 Found\r\nLocation: {to}\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
            );
            stream.write_all(text.as_bytes()).ok()
        }
        Answer::Stalls => {
            std::thread::sleep(Duration::from_secs(60));
            None
        }
        Answer::HangsUp => None,
    }
}
