//! A stand-in for a mail server: takes mail, or refuses, stalls or hangs up.

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpListener;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use rustls::pki_types::{PrivateKeyDer, PrivatePkcs8KeyDer};
use rustls::{ServerConfig, ServerConnection, StreamOwned};

/// How the server behaves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Manners {
    /// Takes what it is sent.
    Takes,
    /// Takes it from who logs in.
    WantsLogin,
    /// Does not know the receiver.
    Refuses,
    /// Says nothing.
    Stalls,
    /// Goes away when it is greeted.
    HangsUp,
}

/// One mail as it was taken.
#[derive(Clone, Debug, Default)]
pub struct Mail {
    /// The sender of the envelope.
    pub from: String,
    /// The receivers of the envelope.
    pub to: Vec<String>,
    /// The message, its lines decoded where they were quoted.
    pub text: String,
}

/// The server.
pub struct Mailbox {
    port: u16,
    mails: Arc<Mutex<Vec<Mail>>>,
    manners: Arc<Mutex<Manners>>,
}

impl Mailbox {
    /// Opens it on a free port.
    pub fn open(manners: Manners) -> Mailbox {
        Mailbox::behind(manners, None)
    }

    /// The same with the way there kept private from the first byte on. Gives the certificate too,
    /// which nobody but the test has reason to trust.
    pub fn open_private(manners: Manners) -> (Mailbox, String) {
        let made = rcgen::generate_simple_self_signed(["localhost".to_owned()]).expect("a certificate");
        let key = PrivateKeyDer::Pkcs8(PrivatePkcs8KeyDer::from(made.signing_key.serialize_der()));
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .expect("versions")
            .with_no_client_auth()
            .with_single_cert(vec![made.cert.der().clone()], key)
            .expect("a certificate and its key");
        (Mailbox::behind(manners, Some(Arc::new(config))), made.cert.pem())
    }

    fn behind(manners: Manners, private: Option<Arc<ServerConfig>>) -> Mailbox {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let port = listener.local_addr().expect("an address").port();
        let mails: Arc<Mutex<Vec<Mail>>> = Arc::default();
        let manners = Arc::new(Mutex::new(manners));
        let (taken, shared) = (mails.clone(), manners.clone());
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (taken, manners) = (taken.clone(), *shared.lock().expect("manners"));
                let private = private.clone();
                // Whoever hangs up on the server is no concern of the test's.
                std::thread::spawn(move || match private {
                    Some(config) => {
                        let connection = ServerConnection::new(config).ok()?;
                        talk(StreamOwned::new(connection, stream), manners, &taken)
                    }
                    None => talk(stream, manners, &taken),
                });
            }
        });
        Mailbox { port, mails, manners }
    }

    /// Behaves otherwise from the next connection on.
    pub fn behave(&self, manners: Manners) {
        *self.manners.lock().expect("manners") = manners;
    }

    /// Its port.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// What was taken.
    pub fn mails(&self) -> Vec<Mail> {
        self.mails.lock().expect("mails").clone()
    }
}

/// `hypodoke` and `secret` as a client logs in with them.
const LOGIN: &str = "AUTH PLAIN AGh5cG9kb2tlAG1haWwtc2VjcmV0";

fn talk<S: Read + Write>(stream: S, manners: Manners, mails: &Mutex<Vec<Mail>>) -> Option<()> {
    if manners == Manners::Stalls {
        std::thread::sleep(Duration::from_secs(60));
        return None;
    }
    let mut stream = BufReader::new(stream);
    say(&mut stream, "220 mail.quillane.example ready")?;
    let (mut mail, mut is_known) = (Mail::default(), manners != Manners::WantsLogin);
    loop {
        let line = read_line(&mut stream)?;
        let word = line.to_ascii_uppercase();
        let answer = match () {
            () if manners == Manners::HangsUp => return None,
            () if word.starts_with("EHLO") => "250-mail.quillane.example\r\n250 AUTH PLAIN",
            () if word.starts_with("AUTH") => {
                is_known = line == LOGIN;
                if is_known { "235 welcome" } else { "535 who are you" }
            }
            () if !is_known && word.starts_with("MAIL") => "530 log in first",
            () if word.starts_with("MAIL FROM:") => {
                mail.from = line[10..].split('>').next()?.trim_matches(['<', ' ']).to_owned();
                "250 yes"
            }
            () if word.starts_with("RCPT TO:") && manners == Manners::Refuses => {
                "550 nobody of that name here"
            }
            () if word.starts_with("RCPT TO:") => {
                mail.to.push(line[8..].trim_matches(['<', '>', ' ']).to_owned());
                "250 yes"
            }
            () if word == "DATA" => {
                say(&mut stream, "354 go on")?;
                let mut text = String::new();
                loop {
                    let line = read_line(&mut stream)?;
                    if line == "." {
                        break;
                    }
                    text.push_str(&line);
                    text.push('\n');
                }
                mail.text = unquoted(&text);
                mails.lock().expect("mails").push(std::mem::take(&mut mail));
                "250 taken"
            }
            () if word == "QUIT" => {
                return say(&mut stream, "221 bye");
            }
            () => "250 fine",
        };
        say(&mut stream, answer)?;
    }
}

fn read_line<S: Read>(stream: &mut BufReader<S>) -> Option<String> {
    let mut line = String::new();
    let read = stream.read_line(&mut line).ok()?;
    (read > 0).then(|| line.trim_end_matches(['\r', '\n']).to_owned())
}

fn say<S: Read + Write>(stream: &mut BufReader<S>, words: &str) -> Option<()> {
    stream.get_mut().write_all(format!("{words}\r\n").as_bytes()).ok()?;
    stream.get_mut().flush().ok()
}

/// Undoes the quoting of lines: `=C3=A4` and breaks after `=`.
fn unquoted(text: &str) -> String {
    let joined = text.replace("=\n", "");
    let (mut out, mut rest) = (Vec::new(), joined.as_bytes());
    while let [first, tail @ ..] = rest {
        let code = tail.get(..2).and_then(|code| std::str::from_utf8(code).ok());
        match code.filter(|_| *first == b'=').and_then(|code| u8::from_str_radix(code, 16).ok()) {
            Some(byte) => {
                out.push(byte);
                rest = &tail[2..];
            }
            None => {
                out.push(*first);
                rest = tail;
            }
        }
    }
    String::from_utf8_lossy(&out).into_owned()
}
