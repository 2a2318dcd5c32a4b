//! What the answers of a store mean.

use std::error::Error;
use std::path::PathBuf;

use object_store::client::{HttpError, HttpErrorKind};

use super::address::ObjectsAddress;
use crate::error::RemoteTrouble;
use crate::http::client::trouble_of_status;
use crate::one_line::one_line;

/// What an error of the library means.
pub fn trouble_of(error: &object_store::Error, address: &ObjectsAddress) -> RemoteTrouble {
    // The store's own document is in the words of the cause.
    let words = causes(error).map(ToString::to_string).find(|words| words.contains("<Code>"));
    if let Some(trouble) = words.as_deref().and_then(|words| of_document(words, address)) {
        return trouble;
    }
    let of_http = causes(error).find_map(|cause| cause.downcast_ref::<HttpError>());
    match (error, of_http.map(HttpError::kind)) {
        (object_store::Error::NotFound { .. }, _) => RemoteTrouble::Gone,
        (object_store::Error::Precondition { .. } | object_store::Error::NotModified { .. }, _) => {
            RemoteTrouble::Changed
        }
        (object_store::Error::PermissionDenied { .. }, _) => RemoteTrouble::NoRight { path: PathBuf::new() },
        (object_store::Error::Unauthenticated { .. }, _) => {
            RemoteTrouble::BadKeys { why: "Unauthenticated".to_owned() }
        }
        (_, Some(HttpErrorKind::Timeout)) => RemoteTrouble::Silent,
        (_, Some(HttpErrorKind::Connect)) => of_connection(error, address),
        (_, Some(HttpErrorKind::Request | HttpErrorKind::Interrupted | HttpErrorKind::Decode)) => {
            RemoteTrouble::Lost(one_line(&last(error)))
        }
        _ => RemoteTrouble::Other(one_line(&last(error))),
    }
}

fn causes<'e>(error: &'e (dyn Error + 'static)) -> impl Iterator<Item = &'e (dyn Error + 'static)> {
    std::iter::successors(Some(error), |error: &&'e (dyn Error + 'static)| (*error).source())
}

/// The words of the innermost cause: those around it say where in the library it was met.
fn last(error: &object_store::Error) -> String {
    causes(error).last().map(ToString::to_string).unwrap_or_default()
}

fn of_connection(error: &object_store::Error, address: &ObjectsAddress) -> RemoteTrouble {
    let url = address.endpoint.as_ref().and_then(|endpoint| url::Url::parse(endpoint).ok());
    let io = causes(error).find_map(|cause| cause.downcast_ref::<std::io::Error>());
    let words = one_line(&last(error));
    match io.map(std::io::Error::kind) {
        Some(std::io::ErrorKind::ConnectionRefused) => {
            let port = url.and_then(|url| url.port_or_known_default()).unwrap_or(443);
            RemoteTrouble::Refused { port }
        }
        Some(std::io::ErrorKind::TimedOut) => RemoteTrouble::Silent,
        _ if causes(error).any(|cause| cause.is::<rustls::Error>()) => RemoteTrouble::Untrusted(words),
        _ if words.contains("lookup") => {
            let host = url.and_then(|url| url.host_str().map(str::to_owned));
            RemoteTrouble::NoSuchHost { host: host.unwrap_or_else(|| address.bucket.clone()) }
        }
        _ => RemoteTrouble::Lost(words),
    }
}

/// What an answer that is no success means, by its number and its document.
pub fn of_answer(status: u16, document: &str, address: &ObjectsAddress) -> Option<RemoteTrouble> {
    let by_status = trouble_of_status(status, "the keys")?;
    Some(of_document(document, address).unwrap_or(match by_status {
        RemoteTrouble::NotAuthorized { .. } => RemoteTrouble::BadKeys { why: "Unauthorized".to_owned() },
        RemoteTrouble::Redirected { .. } => {
            RemoteTrouble::OtherRegion { region: region(address), expected: None }
        }
        other => other,
    }))
}

/// What the code in a document of the store's means; `None` for codes that say no more than the number of
/// the answer.
fn of_document(document: &str, address: &ObjectsAddress) -> Option<RemoteTrouble> {
    let code = element(document, "Code")?;
    Some(match code {
        "NoSuchBucket" => RemoteTrouble::NoBucket { bucket: address.bucket.clone() },
        "NoSuchKey" => RemoteTrouble::Gone,
        "AccessDenied" | "AllAccessDisabled" => RemoteTrouble::NoRight { path: PathBuf::new() },
        "InvalidAccessKeyId"
        | "SignatureDoesNotMatch"
        | "InvalidToken"
        | "ExpiredToken"
        | "InvalidSecurity" => RemoteTrouble::BadKeys { why: code.to_owned() },
        "RequestTimeTooSkewed" | "RequestExpired" => RemoteTrouble::ClockOff,
        "PermanentRedirect"
        | "AuthorizationHeaderMalformed"
        | "IllegalLocationConstraintException"
        | "AuthorizationQueryParametersError"
        | "TemporaryRedirect" => {
            let expected = element(document, "Region").or_else(|| element(document, "Endpoint"));
            RemoteTrouble::OtherRegion { region: region(address), expected: expected.map(str::to_owned) }
        }
        "PreconditionFailed" => RemoteTrouble::Changed,
        "SlowDown" | "ServiceUnavailable" | "InternalError" | "RequestTimeout" => {
            RemoteTrouble::Busy { status: 503 }
        }
        _ => return None,
    })
}

fn region(address: &ObjectsAddress) -> String {
    address.region.clone().unwrap_or_else(|| "us-east-1".to_owned())
}

/// What stands in the first element of a name.
fn element<'d>(document: &'d str, name: &str) -> Option<&'d str> {
    let begin = document.find(&format!("<{name}>"))? + name.len() + 2;
    let rest = document.get(begin..)?;
    rest.get(..rest.find("</")?)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::bucket(404, "NoSuchBucket", "there is no bucket `quillane`")]
    #[case::key(403, "InvalidAccessKeyId", "does not take the keys: InvalidAccessKeyId")]
    #[case::secret(403, "SignatureDoesNotMatch", "does not take the keys: SignatureDoesNotMatch")]
    #[case::right(403, "AccessDenied", "no right to read it")]
    #[case::region(400, "AuthorizationHeaderMalformed", "another region than `us-east-1`: in `north-1`")]
    #[case::clock(403, "RequestTimeTooSkewed", "the clock of this machine")]
    #[case::slow(503, "SlowDown", "answered 503")]
    #[case::unknown(418, "Teapot", "the server answered 418")]
    fn answers_are_understood(#[case] status: u16, #[case] code: &str, #[case] words: &str) {
        let address = ObjectsAddress::parse("s3://quillane/cranes").expect("an address");
        let document = format!("<Error><Code>{code}</Code><Region>north-1</Region></Error>");
        let found = of_answer(status, &document, &address).expect("a trouble").to_string();
        assert!(found.contains(words), "{found}");
    }
}
