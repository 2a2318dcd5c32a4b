//! A transport that reports a broken connection as an error, not as the end of a response.
//!
//! A response without a length ends when the server closes the connection. The HTTP client also accepts a connection that
//! breaks as that end, even over TLS, where a server announces that it closes. A file could be cut short unnoticed.

use std::io;

use ureq::Error;
use ureq::unversioned::transport::{Buffers, ConnectionDetails, Connector, NextTimeout, Transport};

/// Wraps each connection in a [`StrictEofTransport`].
#[derive(Debug)]
pub struct StrictEofConnector;

/// A connection that returns an error when it breaks.
#[derive(Debug)]
pub struct StrictEofTransport(Box<dyn Transport>);

impl Connector<Box<dyn Transport>> for StrictEofConnector {
    type Out = StrictEofTransport;

    fn connect(
        &self,
        _: &ConnectionDetails,
        chained: Option<Box<dyn Transport>>,
    ) -> Result<Option<StrictEofTransport>, Error> {
        Ok(chained.map(StrictEofTransport))
    }
}

impl Transport for StrictEofTransport {
    fn buffers(&mut self) -> &mut dyn Buffers {
        self.0.buffers()
    }

    fn transmit_output(&mut self, amount: usize, timeout: NextTimeout) -> Result<(), Error> {
        self.0.transmit_output(amount, timeout)
    }

    fn await_input(&mut self, timeout: NextTimeout) -> Result<bool, Error> {
        self.0.await_input(timeout).map_err(|error| match error {
            Error::Io(error) if is_cut(&error) => Error::Io(cut(&error)),
            error => error,
        })
    }

    fn is_open(&mut self) -> bool {
        self.0.is_open()
    }

    fn is_tls(&self) -> bool {
        self.0.is_tls()
    }
}

/// Whether the error means that the connection broke.
fn is_cut(error: &io::Error) -> bool {
    use io::ErrorKind::{ConnectionAborted, ConnectionReset, UnexpectedEof};
    matches!(error.kind(), UnexpectedEof | ConnectionAborted | ConnectionReset)
}

/// The same error, of a kind that the client does not accept as an end.
fn cut(error: &io::Error) -> io::Error {
    io::Error::new(io::ErrorKind::BrokenPipe, format!("the connection broke off: {error}"))
}

#[cfg(test)]
mod tests {
    use std::io::ErrorKind;

    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::without_closing(ErrorKind::UnexpectedEof, true)]
    #[case::reset(ErrorKind::ConnectionReset, true)]
    #[case::aborted(ErrorKind::ConnectionAborted, true)]
    #[case::timed_out(ErrorKind::TimedOut, false)]
    #[case::refused(ErrorKind::ConnectionRefused, false)]
    fn a_connection_that_breaks_is_no_end(#[case] kind: ErrorKind, #[case] expected: bool) {
        let error = io::Error::from(kind);
        assert_eq!(is_cut(&error), expected);
        assert!(!is_cut(&cut(&error)), "it is not taken for an end");
    }
}
