//! Connections on which an answer that is cut off is told from one that ends.
//!
//! An answer that does not say how long it is ends with its connection. The client takes a connection that breaks for
//! that end, also where TLS has the server say that it closes: here such an end is an error.

use std::io;

use ureq::Error;
use ureq::unversioned::transport::{Buffers, ConnectionDetails, Connector, NextTimeout, Transport};

/// Wraps what is connected.
#[derive(Debug)]
pub struct EndingConnector;

/// A connection whose breaking is an error.
#[derive(Debug)]
pub struct EndingTransport(Box<dyn Transport>);

impl Connector<Box<dyn Transport>> for EndingConnector {
    type Out = EndingTransport;

    fn connect(
        &self,
        _: &ConnectionDetails,
        chained: Option<Box<dyn Transport>>,
    ) -> Result<Option<EndingTransport>, Error> {
        Ok(chained.map(EndingTransport))
    }
}

impl Transport for EndingTransport {
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

/// Whether an error is that the connection broke.
fn is_cut(error: &io::Error) -> bool {
    use io::ErrorKind::{ConnectionAborted, ConnectionReset, UnexpectedEof};
    matches!(error.kind(), UnexpectedEof | ConnectionAborted | ConnectionReset)
}

/// The same as an error that the client takes for no end of an answer.
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
