//! The page, health and metrics for whoever asks, on a port of this machine. Whatever comes in by it is
//! limited in number, size and time, so that nobody keeps the loading from its work; and nothing that comes
//! in by it changes anything.

use std::convert::Infallible;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Request, Response};
use hyper_util::rt::{TokioIo, TokioTimer};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use tracing::warn;

use super::answer::{Answers, Asked};
use crate::exit::Exit;
use crate::failure::Failure;

/// So many connections are answered at a time; more are closed.
const MOST_CONNECTIONS: usize = 32;

/// So much of a request is read, in bytes: more are more headers than anybody needs.
const MOST_READ: usize = 16 * 1024;

/// So long a request may take to come in, and a connection to be done with.
const HEADER_WAIT: Duration = Duration::from_secs(5);
const CONNECTION_WAIT: Duration = Duration::from_secs(15);

/// The pause where the system has no handles left for a connection.
const PAUSE: Duration = Duration::from_millis(200);

/// Answers on a port as long as the process lives; gives the address, with the port the system chose
/// where it was asked to.
pub fn open(listen: SocketAddr, answers: Arc<Answers>) -> Result<SocketAddr, Failure> {
    let failed = |error: std::io::Error| {
        let what = format!("{listen} cannot be listened on: {error}");
        let failure = Failure { exit: Exit::Usage, ..Failure::usage(what) };
        failure.advise("another program has the port, or another watch; name a free one with --listen")
    };
    let listener = std::net::TcpListener::bind(listen).map_err(failed)?;
    listener.set_nonblocking(true).map_err(failed)?;
    let address = listener.local_addr().map_err(failed)?;
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(failed)?;
    let serve = move || {
        runtime.block_on(async move {
            match TcpListener::from_std(listener) {
                Ok(listener) => answer_all(listener, answers).await,
                Err(error) => warn!(error = %error, "the page, health and metrics are not served"),
            }
        });
    };
    std::thread::Builder::new().name("health".to_owned()).spawn(serve).map_err(failed)?;
    Ok(address)
}

async fn answer_all(listener: TcpListener, answers: Arc<Answers>) {
    let free = Arc::new(Semaphore::new(MOST_CONNECTIONS));
    loop {
        let Ok((stream, _)) = listener.accept().await else {
            tokio::time::sleep(PAUSE).await;
            continue;
        };
        // One too many is closed at once: waiting, it would hold a handle.
        let Ok(permit) = free.clone().try_acquire_owned() else { continue };
        let answers = answers.clone();
        tokio::spawn(async move {
            let _permit = permit;
            // Who went away before the answer came does not need it.
            let _ = tokio::time::timeout(CONNECTION_WAIT, answer(stream, answers)).await;
        });
    }
}

async fn answer(stream: TcpStream, answers: Arc<Answers>) -> Result<(), hyper::Error> {
    let service = service_fn(move |request: Request<Incoming>| {
        let (asked, answers) = (Asked::of(&request), answers.clone());
        async move {
            // The ledger is asked on a thread of its own: health answers meanwhile.
            let response = tokio::task::spawn_blocking(move || answers.respond(&asked)).await;
            Ok::<Response<String>, Infallible>(response.unwrap_or_else(|_| super::answer::failed()))
        }
    });
    http1::Builder::new()
        .timer(TokioTimer::new())
        .header_read_timeout(HEADER_WAIT)
        .max_buf_size(MOST_READ)
        .keep_alive(false)
        .title_case_headers(true)
        .serve_connection(TokioIo::new(stream), service)
        .await
}
