//! Health and metrics for whoever asks, on a port of this machine.

use std::net::SocketAddr;
use std::sync::Arc;

use tiny_http::{Header, Method, Response, Server};

use super::status::Status;
use crate::exit::Exit;
use crate::failure::Failure;

/// The type of the text format of metrics.
const METRICS: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// Answers on a port as long as the process lives; gives the address, with the port the system chose
/// where it was asked to.
pub fn open(listen: SocketAddr, status: Arc<Status>) -> Result<SocketAddr, Failure> {
    let server = Server::http(listen).map_err(|error| {
        let what = format!("{listen} cannot be listened on: {error}");
        let failure = Failure { exit: Exit::Usage, ..Failure::usage(what) };
        failure.advise("another program has the port, or another watch; name a free one with --listen")
    })?;
    let address = server.server_addr().to_ip().unwrap_or(listen);
    std::thread::spawn(move || {
        for request in server.incoming_requests() {
            let path = request.url().split('?').next().unwrap_or_default();
            let is_read = matches!(request.method(), Method::Get | Method::Head);
            let (status, kind, body) = match path {
                _ if !is_read => (405, "text/plain", "only GET\n".to_owned()),
                "/healthz" => {
                    let (healthy, body) = status.health();
                    (if healthy { 200 } else { 503 }, "application/json", body)
                }
                "/metrics" => (200, METRICS, status.metrics()),
                _ => (404, "text/plain", "there are /healthz and /metrics\n".to_owned()),
            };
            let mut response = Response::from_string(body).with_status_code(status);
            if let Ok(header) = Header::from_bytes("Content-Type", kind) {
                response = response.with_header(header);
            }
            // Who went away before the answer came does not need it.
            let _ = request.respond(response);
        }
    });
    Ok(address)
}
