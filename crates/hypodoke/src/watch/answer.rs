//! What is answered to a request: the page, a file's page, health or metrics, and to whom.

use std::collections::hash_map::RandomState;
use std::hash::BuildHasher;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use hyper::header::{
    AUTHORIZATION, CONTENT_TYPE, COOKIE, HOST, HeaderName, HeaderValue, LOCATION, SET_COOKIE,
};
use hyper::{Method, Request, Response, StatusCode};
use jiff::Timestamp;

use super::status::Status;
use crate::connections;
use crate::failure::Failure;
use crate::report::file_page::FileReport;
use crate::report::{Report, live};
use crate::settings::Settings;

/// The type of the text format of metrics.
const METRICS: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// How far back the page looks, in days.
const DAYS: u32 = 14;

/// The ledger is asked so often at the most, however many look at the page.
const FRESH: Duration = Duration::from_secs(2);

/// The cookie that holds the token.
const TOKEN_COOKIE: &str = "hypodoke_token";

/// Answers requests.
pub struct Answers {
    status: Arc<Status>,
    settings: Settings,
    listen: SocketAddr,
    /// What the ledger said last, and when.
    last: Mutex<Option<(Instant, Arc<Report>)>>,
}

/// What is asked, as far as it matters.
#[derive(Clone, Debug)]
pub struct Asked {
    is_get: bool,
    path: String,
    /// The token in the address.
    query_token: Option<String>,
    /// The token in the headers.
    token: Option<String>,
    host: Option<String>,
}

impl Asked {
    /// What a request asks.
    pub fn of<B>(request: &Request<B>) -> Asked {
        let header = |name: HeaderName| request.headers().get(name).and_then(|value| value.to_str().ok());
        let bearer = header(AUTHORIZATION).and_then(|value| value.strip_prefix("Bearer ")).map(str::to_owned);
        let cookie = header(COOKIE).and_then(|cookies| {
            let mut pairs = cookies.split(';').filter_map(|pair| pair.trim().split_once('='));
            pairs.find(|(name, _)| *name == TOKEN_COOKIE).map(|(_, value)| value.to_owned())
        });
        let query = request.uri().query().unwrap_or_default();
        let in_query = query.split('&').find_map(|pair| pair.strip_prefix("token=")).map(str::to_owned);
        Asked {
            is_get: matches!(*request.method(), Method::GET | Method::HEAD),
            path: request.uri().path().to_owned(),
            query_token: in_query,
            token: bearer.or(cookie),
            host: header(HOST).map(str::to_owned),
        }
    }
}

impl Answers {
    /// Answers by a configuration. Others than this machine are answered only with a token.
    ///
    /// # Errors
    ///
    /// Others could ask, and there is no token.
    pub fn new(settings: Settings, status: Arc<Status>, listen: SocketAddr) -> Result<Answers, Failure> {
        if !listen.ip().is_loopback() && settings.watch.token.is_none() {
            let what = format!("{listen} can be asked by other machines, and there is no token");
            return Err(Failure::usage(what).advise(
                "listen on 127.0.0.1, or say what has to be shown: token = \"${NAME}\" or \"@FILE\" in [watch]",
            ));
        }
        Ok(Answers { status, settings, listen, last: Mutex::new(None) })
    }

    /// Whether the answer to a request is made from the ledger.
    pub fn asks_ledger(&self, asked: &Asked) -> bool {
        let is_page = asked.path == "/" || asked.path.starts_with("/file/");
        is_page && asked.is_get && self.refusal(asked).is_none()
    }

    /// The answer to a request.
    pub fn respond(&self, asked: &Asked) -> Response<String> {
        if !asked.is_get {
            return plain(StatusCode::METHOD_NOT_ALLOWED, "only GET\n");
        }
        if let Some(refusal) = self.refusal(asked) {
            return refusal;
        }
        match asked.path.as_str() {
            "/healthz" => {
                let (healthy, body) = self.status.health();
                let code = if healthy { StatusCode::OK } else { StatusCode::SERVICE_UNAVAILABLE };
                response(code, "application/json", body)
            }
            "/metrics" => response(StatusCode::OK, METRICS, self.status.metrics()),
            "/" => page(|nonce| Ok(Some(self.overview(nonce)?))),
            path => match path.strip_prefix("/file/").and_then(|number| number.parse().ok()) {
                Some(number) => page(|nonce| self.file(number, nonce)),
                None => plain(StatusCode::NOT_FOUND, "there are /, /file/NUMBER, /healthz and /metrics\n"),
            },
        }
    }

    /// Why a request is not answered.
    fn refusal(&self, asked: &Asked) -> Option<Response<String>> {
        let Some(token) = &self.settings.watch.token else {
            // A page of somebody else's must not ask by the name of its own server.
            let is_local = asked.host.as_deref().is_none_or(is_loopback_name);
            return (self.listen.ip().is_loopback() && !is_local)
                .then(|| plain(StatusCode::FORBIDDEN, "this page is for this machine alone\n"));
        };
        let is_right = |shown: &Option<String>| {
            shown.as_ref().is_some_and(|shown| same(shown.as_bytes(), token.reveal().as_bytes()))
        };
        if is_right(&asked.token) {
            return None;
        }
        if is_right(&asked.query_token) {
            // From now on the browser shows it by itself, and it does not stay in the address.
            let mut response = plain(StatusCode::SEE_OTHER, "");
            let cookie = format!("{TOKEN_COOKIE}={}; HttpOnly; SameSite=Strict; Path=/", token.reveal());
            let headers = response.headers_mut();
            headers.insert(LOCATION, HeaderValue::from_str(&asked.path).ok()?);
            headers.insert(SET_COOKIE, HeaderValue::from_str(&cookie).ok()?);
            return Some(response);
        }
        Some(plain(
            StatusCode::UNAUTHORIZED,
            "show the token: ?token=… in the address, or the header Authorization: Bearer …\n",
        ))
    }

    fn overview(&self, nonce: &str) -> Result<String, Failure> {
        let report = self.report()?;
        let main = live::main(&report, &self.status.running());
        Ok(live::frame(&format!("Hypodoke · {}", report.database), nonce, main))
    }

    fn file(&self, number: i64, nonce: &str) -> Result<Option<String>, Failure> {
        let mut ledger = connections::ledger(&self.settings.staging)?;
        let Some(report) = FileReport::of(ledger.as_mut(), number)? else { return Ok(None) };
        Ok(Some(live::frame(&report.title(), nonce, report.main())))
    }

    /// What the ledger says, asked anew every few seconds at the most.
    fn report(&self) -> Result<Arc<Report>, Failure> {
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, report)) = last.as_ref().filter(|(at, _)| at.elapsed() < FRESH) {
            return Ok(report.clone());
        }
        let mut ledger = connections::ledger(&self.settings.staging)?;
        ledger.open_ledger()?;
        let report = Report::of(ledger.as_mut(), Some(&self.settings), DAYS, Timestamp::now())?;
        let report = Arc::new(Report { is_live: true, ..report });
        *last = Some((Instant::now(), report.clone()));
        Ok(report)
    }
}

/// A page, which may use nothing but what stands in it.
fn page(make: impl FnOnce(&str) -> Result<Option<String>, Failure>) -> Response<String> {
    let nonce = nonce();
    let body = match make(&nonce) {
        Ok(Some(body)) => body,
        Ok(None) => return plain(StatusCode::NOT_FOUND, "the ledger has no such file\n"),
        Err(failure) => {
            let message = hypodoke_core::sanitize::clean(&failure.message);
            return plain(StatusCode::SERVICE_UNAVAILABLE, &format!("{message}\n"));
        }
    };
    let mut response = response(StatusCode::OK, "text/html; charset=utf-8", body);
    let policy = format!(
        "default-src 'none'; style-src 'nonce-{nonce}'; script-src 'nonce-{nonce}'; connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
    );
    if let Ok(policy) = HeaderValue::from_str(&policy) {
        response.headers_mut().insert("content-security-policy", policy);
    }
    response
}

fn plain(code: StatusCode, body: &str) -> Response<String> {
    response(code, "text/plain; charset=utf-8", body.to_owned())
}

/// The answer where as many pages are being made as may be.
pub fn busy() -> Response<String> {
    plain(StatusCode::SERVICE_UNAVAILABLE, "too many pages are being made: try again\n")
}

/// What is answered where something went wrong that must not.
pub fn failed() -> Response<String> {
    plain(StatusCode::INTERNAL_SERVER_ERROR, "the page could not be made\n")
}

fn response(code: StatusCode, kind: &'static str, body: String) -> Response<String> {
    let mut response = Response::new(body);
    *response.status_mut() = code;
    let headers = response.headers_mut();
    headers.insert(CONTENT_TYPE, HeaderValue::from_static(kind));
    headers.insert("cache-control", HeaderValue::from_static("no-store"));
    headers.insert("x-content-type-options", HeaderValue::from_static("nosniff"));
    headers.insert("referrer-policy", HeaderValue::from_static("no-referrer"));
    response
}

/// Whether a host is a name of this machine.
fn is_loopback_name(host: &str) -> bool {
    let name = match host.strip_prefix('[') {
        Some(rest) => rest.split(']').next().unwrap_or_default(),
        None => host.split(':').next().unwrap_or_default(),
    };
    name.eq_ignore_ascii_case("localhost")
        || name.parse::<std::net::IpAddr>().is_ok_and(|address| address.is_loopback())
}

/// Whether two texts are the same, in a time that does not tell how far they are.
fn same(a: &[u8], b: &[u8]) -> bool {
    a.len() == b.len() && a.iter().zip(b).fold(0, |all, (a, b)| all | (a ^ b)) == 0
}

/// A word that nobody can guess: the system's randomness, by way of the keys of a hash map.
fn nonce() -> String {
    let one = || RandomState::new().hash_one(Instant::now());
    format!("{:016x}{:016x}", one(), one())
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("localhost:9150", true)]
    #[case("127.0.0.1", true)]
    #[case("[::1]:9150", true)]
    #[case("evil.example:9150", false)]
    #[case("127.0.0.1.evil.example", false)]
    fn names_of_this_machine_are_told(#[case] host: &str, #[case] expected: bool) {
        assert_eq!(is_loopback_name(host), expected);
    }

    #[test]
    fn tokens_are_the_same_or_not() {
        assert!(same(b"abc", b"abc") && !same(b"abc", b"abd") && !same(b"abc", b"ab"));
        assert_ne!(nonce(), nonce());
    }
}
