//! Requests, and what becomes of their troubles.

use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use rustls::crypto::ring;
use ureq::config::RedirectAuthHeaders;
use ureq::http::Response;
use ureq::http::header::LOCATION;
use ureq::tls::{Certificate, PemItem, RootCerts, TlsConfig, parse_pem};
use ureq::unversioned::transport::{Connector, DefaultConnector};
use ureq::{Agent, Body};
use url::Url;

use super::guard::{GuardedResolver, Refusal};
use super::transport::StrictEofConnector;
use crate::error::RemoteTrouble;

/// How many redirections are followed.
pub const MOST_REDIRECTS: u32 = 5;

/// Makes the agent for requests to hosts that the configuration names.
///
/// # Errors
///
/// The certificates cannot be read.
pub fn agent(named: &[Url], ca_file: Option<&Path>, wait: Duration) -> Result<Agent, RemoteTrouble> {
    let roots = match ca_file {
        Some(file) => RootCerts::from(certificates(file)?),
        None => RootCerts::PlatformVerifier,
    };
    let tls = TlsConfig::builder()
        .root_certs(roots)
        .unversioned_rustls_crypto_provider(Arc::new(ring::default_provider()))
        .build();
    let config = Agent::config_builder()
        .tls_config(tls)
        .http_status_as_error(false)
        .max_redirects(MOST_REDIRECTS)
        .redirect_auth_headers(RedirectAuthHeaders::Never)
        .user_agent("hypodoke")
        .max_idle_connections_per_host(32)
        .max_idle_connections(64)
        .timeout_connect(Some(wait))
        .timeout_recv_response(Some(wait))
        .timeout_per_read(Some(wait))
        .build();
    let hosts =
        named.iter().filter_map(|url| Some((url.host_str()?.to_owned(), url.port_or_known_default()?)));
    let is_secure = named.iter().all(|url| url.scheme() == "https");
    let hosts = hosts.map(|(host, port)| (host.trim_matches(['[', ']']).to_owned(), port)).collect();
    let connector = DefaultConnector::default().chain(StrictEofConnector);
    Ok(Agent::with_parts(config, connector, GuardedResolver::new(hosts, is_secure)))
}

fn certificates(file: &Path) -> Result<Vec<Certificate<'static>>, RemoteTrouble> {
    let bad = |why: String| RemoteTrouble::BadCertificates { file: file.to_path_buf(), why };
    let text = std::fs::read(file).map_err(|error| bad(error.to_string()))?;
    let mut found = Vec::new();
    for item in parse_pem(&text) {
        match item.map_err(|error| bad(error.to_string()))? {
            PemItem::Certificate(certificate) => found.push(certificate),
            _ => return Err(bad("it holds something else than certificates".to_owned())),
        }
    }
    if found.is_empty() { Err(bad("there is no certificate in it".to_owned())) } else { Ok(found) }
}

/// Where an answer leads that is a redirection; `None` for any other.
///
/// # Errors
///
/// It leads to no web server.
pub fn redirected_to(answer: &Response<Body>, url: &Url) -> Result<Option<Url>, RemoteTrouble> {
    if !matches!(answer.status().as_u16(), 301 | 302 | 303 | 307 | 308) {
        return Ok(None);
    }
    let Some(location) = answer.headers().get(LOCATION).and_then(|text| text.to_str().ok()) else {
        return Ok(None);
    };
    let next = url.join(location).map_err(|error| RemoteTrouble::BadLink(error.to_string()))?;
    match next.scheme() {
        "http" | "https" => Ok(Some(next)),
        other => {
            Err(RemoteTrouble::RefusedAddress(format!("it leads to `{other}:`, which is no web server")))
        }
    }
}

/// What a request's failure means.
pub fn trouble_of(error: ureq::Error, url: &Url) -> RemoteTrouble {
    let host = || url.host_str().unwrap_or_default().to_owned();
    match error {
        ureq::Error::Timeout(_) => RemoteTrouble::Silent,
        ureq::Error::HostNotFound => RemoteTrouble::NoSuchHost { host: host() },
        ureq::Error::ConnectionFailed => {
            RemoteTrouble::Refused { port: url.port_or_known_default().unwrap_or_default() }
        }
        ureq::Error::Io(error) => of_io(&error, url),
        ureq::Error::TooManyRedirects | ureq::Error::RedirectFailed => {
            RemoteTrouble::Redirected { most: MOST_REDIRECTS }
        }
        ureq::Error::Rustls(error) => RemoteTrouble::Untrusted(error.to_string()),
        ureq::Error::Protocol(error) => RemoteTrouble::Lost(error.to_string()),
        ureq::Error::BodyExceedsLimit(limit) => RemoteTrouble::TooLarge { bytes: limit, limit },
        ureq::Error::Other(error) => match error.downcast::<Refusal>() {
            Ok(refusal) => RemoteTrouble::RefusedAddress(refusal.to_string()),
            Err(error) => RemoteTrouble::Other(error.to_string()),
        },
        other => RemoteTrouble::Other(other.to_string()),
    }
}

/// What the failure of a connection means.
pub fn of_io(error: &std::io::Error, url: &Url) -> RemoteTrouble {
    use std::io::ErrorKind;
    let tls = error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>());
    match error.kind() {
        _ if tls.is_some() => RemoteTrouble::Untrusted(error.to_string()),
        ErrorKind::ConnectionRefused => {
            RemoteTrouble::Refused { port: url.port_or_known_default().unwrap_or_default() }
        }
        ErrorKind::TimedOut | ErrorKind::WouldBlock => RemoteTrouble::Silent,
        _ => RemoteTrouble::Lost(error.to_string()),
    }
}

/// What an answer that is no success means; `None` for one that is.
pub fn trouble_of_status(status: u16, user: &str) -> Option<RemoteTrouble> {
    match status {
        200..300 | 304 => None,
        401 => Some(RemoteTrouble::NotAuthorized { user: user.to_owned() }),
        403 => Some(RemoteTrouble::NoRight { path: std::path::PathBuf::new() }),
        404 | 410 => Some(RemoteTrouble::Gone),
        412 => Some(RemoteTrouble::Changed),
        408 | 429 | 500 | 502 | 503 | 504 => Some(RemoteTrouble::Busy { status }),
        300 | 301 | 302 | 303 | 307 | 308 => Some(RemoteTrouble::Redirected { most: MOST_REDIRECTS }),
        status => Some(RemoteTrouble::Other(format!("the server answered {status}"))),
    }
}
