//! A line to a server that breaks when it is told to.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};

/// When the line breaks, once.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Cut {
    /// After so many bytes to the server.
    AfterBytes(i64),
    /// Where the server says that it has committed for the so-manieth time: it has, and nobody hears it.
    AtCommit(i64),
    /// Where the server answers a COMMIT for the so-manieth time, whatever the answer is: of those that say
    /// nothing of what they answer.
    AnswerToCommit(i64),
}

/// A line that is there until the process ends.
pub struct Cutter {
    port: u16,
    left: Arc<AtomicI64>,
}

impl Cutter {
    /// A line to a port of this machine.
    pub fn to(port: u16, cut: Cut) -> Cutter {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let own = listener.local_addr().expect("a port").port();
        let (Cut::AfterBytes(count) | Cut::AtCommit(count) | Cut::AnswerToCommit(count)) = cut;
        let left = Arc::new(AtomicI64::new(count));
        let counted = left.clone();
        std::thread::spawn(move || {
            for client in listener.incoming().flatten() {
                let Ok(server) = TcpStream::connect(("127.0.0.1", port)) else { continue };
                let (back, forth) = (counted.clone(), counted.clone());
                let asked = Arc::new(AtomicBool::new(false));
                let answered = asked.clone();
                let (from, to) = (server.try_clone().expect("a line"), client.try_clone().expect("a line"));
                std::thread::spawn(move || {
                    carry(from, to, |bytes| match cut {
                        Cut::AtCommit(_) => {
                            found(bytes, b"COMMIT\0") && back.fetch_sub(1, Ordering::SeqCst) == 1
                        }
                        Cut::AnswerToCommit(_) => {
                            answered.swap(false, Ordering::SeqCst) && back.fetch_sub(1, Ordering::SeqCst) == 1
                        }
                        Cut::AfterBytes(_) => false,
                    });
                });
                std::thread::spawn(move || {
                    carry(client, server, |bytes| match cut {
                        Cut::AfterBytes(_) => {
                            let before = forth.fetch_sub(bytes.len() as i64, Ordering::SeqCst);
                            before > 0 && before <= bytes.len() as i64
                        }
                        Cut::AtCommit(_) => false,
                        Cut::AnswerToCommit(_) => {
                            asked.fetch_or(found(bytes, b"\x03COMMIT"), Ordering::SeqCst);
                            false
                        }
                    });
                });
            }
        });
        Cutter { port: own, left }
    }

    /// Where it begins.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// Whether it has broken.
    pub fn has_cut(&self) -> bool {
        self.left.load(Ordering::SeqCst) <= 0
    }
}

fn found(bytes: &[u8], what: &[u8]) -> bool {
    bytes.windows(what.len()).any(|window| window == what)
}

/// Carries bytes until one side ends or `breaks` says so, which nobody is told of.
fn carry(mut from: TcpStream, mut to: TcpStream, mut breaks: impl FnMut(&[u8]) -> bool) {
    let mut bytes = vec![0; 16 * 1024];
    loop {
        match from.read(&mut bytes) {
            Ok(count) if count > 0 && !breaks(&bytes[..count]) && to.write_all(&bytes[..count]).is_ok() => {}
            _ => break,
        }
    }
    let _ = from.shutdown(Shutdown::Both);
    let _ = to.shutdown(Shutdown::Both);
}
