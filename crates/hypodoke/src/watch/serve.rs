//! The page, health and metrics for whoever asks, on a port of this machine. Whatever comes in by it is
//! limited in number, size and time, so that nobody keeps the loading from its work; and nothing that comes
//! in by it changes anything.

use std::collections::VecDeque;
use std::convert::Infallible;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Request, Response};
use hyper_util::rt::{TokioIo, TokioTimer};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio::task::AbortHandle;
use tracing::warn;

use super::answer::{Answers, Asked};
use crate::exit::Exit;
use crate::failure::Failure;

/// The most connections that are open without a page on its way. A further one closes the oldest of them, so that
/// idle connections keep nobody from health and metrics.
const MOST_WAITING: usize = 32;

/// The most pages that are made and sent at a time. Health and metrics ask no ledger, and are not counted.
const MOST_PAGES: usize = 8;

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

/// An open connection.
struct Connection {
    task: AbortHandle,
    lane: PageLane,
}

async fn answer_all(listener: TcpListener, answers: Arc<Answers>) {
    let pages = Arc::new(Semaphore::new(MOST_PAGES));
    let mut open: VecDeque<Connection> = VecDeque::new();
    loop {
        let Ok((stream, _)) = listener.accept().await else {
            tokio::time::sleep(PAUSE).await;
            continue;
        };
        open.retain(|connection| !connection.task.is_finished());
        make_room(&mut open);
        let lane = PageLane { pages: pages.clone(), permit: Arc::default() };
        let (own, answers) = (lane.clone(), answers.clone());
        let task = tokio::spawn(async move {
            // A client that left before the answer came does not need it.
            let _ = tokio::time::timeout(CONNECTION_WAIT, answer(stream, answers, own)).await;
        });
        open.push_back(Connection { task: task.abort_handle(), lane });
    }
}

/// Closes the oldest connection without a page on its way, where there are too many of them.
fn make_room(open: &mut VecDeque<Connection>) {
    let waits = |connection: &Connection| !connection.lane.has_permit();
    if open.iter().filter(|connection| waits(connection)).count() < MOST_WAITING {
        return;
    }
    if let Some(oldest) = open.iter().position(waits).and_then(|at| open.remove(at)) {
        oldest.task.abort();
    }
}

/// What a connection needs for a page: one of a few permits, which it keeps to its end.
#[derive(Clone)]
struct PageLane {
    pages: Arc<Semaphore>,
    permit: Arc<Mutex<Option<OwnedSemaphorePermit>>>,
}

impl PageLane {
    /// Takes a permit; whether there was one.
    fn enter(&self) -> bool {
        let permit = self.pages.clone().try_acquire_owned().ok();
        *self.permit.lock().unwrap_or_else(PoisonError::into_inner) = permit;
        self.has_permit()
    }

    /// Whether a page is on its way.
    fn has_permit(&self) -> bool {
        self.permit.lock().unwrap_or_else(PoisonError::into_inner).is_some()
    }
}

async fn answer(stream: TcpStream, answers: Arc<Answers>, lane: PageLane) -> Result<(), hyper::Error> {
    let service = service_fn(move |request: Request<Incoming>| {
        let (asked, answers, lane) = (Asked::of(&request), answers.clone(), lane.clone());
        async move {
            if answers.asks_ledger(&asked) && !lane.enter() {
                return Ok::<Response<String>, Infallible>(super::answer::busy());
            }
            // The ledger is asked on a thread of its own: health answers meanwhile.
            let response = tokio::task::spawn_blocking(move || answers.respond(&asked)).await;
            Ok(response.unwrap_or_else(|_| super::answer::failed()))
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

#[cfg(test)]
mod tests {
    use super::*;

    fn lane(pages: &Arc<Semaphore>) -> PageLane {
        PageLane { pages: pages.clone(), permit: Arc::default() }
    }

    #[test]
    fn a_page_has_one_of_a_few_permits_until_its_connection_ends() {
        let pages = Arc::new(Semaphore::new(1));
        let (first, second) = (lane(&pages), lane(&pages));
        assert!(first.enter() && first.has_permit());
        assert!(!second.enter() && !second.has_permit());
        drop(first);
        assert!(second.enter());
    }

    #[tokio::test]
    async fn the_oldest_connection_without_a_page_makes_room() {
        let pages = Arc::new(Semaphore::new(1));
        let connection = || {
            let task = tokio::spawn(std::future::pending::<()>());
            Connection { task: task.abort_handle(), lane: lane(&pages) }
        };
        let mut open: VecDeque<Connection> = (0..MOST_WAITING).map(|_| connection()).collect();
        let ids: Vec<_> = open.iter().map(|connection| connection.task.id()).collect();
        assert!(open[0].lane.enter());
        make_room(&mut open);
        assert_eq!(open.len(), MOST_WAITING, "one with a page does not wait");
        open.push_back(connection());
        make_room(&mut open);
        let left: Vec<_> = open.iter().map(|connection| connection.task.id()).collect();
        assert_eq!((left[0], left[1], left.len()), (ids[0], ids[2], MOST_WAITING));
    }
}
