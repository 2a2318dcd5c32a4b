//! Messages by a request to a web server.

use std::sync::Arc;
use std::time::Duration;

use rustls::crypto::ring;
use ureq::Agent;
use ureq::tls::{RootCerts, TlsConfig};

use super::Notice;
use crate::settings::notify::Webhook;

/// How long a web server may take, all in all.
const TIMEOUT: Duration = Duration::from_secs(10);

/// Sends a message as JSON.
pub fn send(hook: &Webhook, notice: &Notice) -> Result<(), String> {
    let tls = TlsConfig::builder()
        .root_certs(RootCerts::PlatformVerifier)
        .unversioned_rustls_crypto_provider(Arc::new(ring::default_provider()))
        .build();
    let agent: Agent = Agent::config_builder()
        .timeout_global(Some(TIMEOUT))
        .http_status_as_error(false)
        // Where it leads is another server, and a redirection may drop the document on the way.
        .max_redirects(0)
        .tls_config(tls)
        .build()
        .into();
    let mut request = agent.post(hook.url.reveal()).header("User-Agent", "hypodoke");
    if let Some(authorization) = &hook.authorization {
        request = request.header("Authorization", authorization.reveal());
    }
    // The address may hold what nobody is to read.
    let hidden = |error: ureq::Error| error.to_string().replace(hook.url.reveal(), &hook.shown);
    let answer = request.send_json(&notice.document).map_err(hidden)?;
    let status = answer.status();
    if status.is_success() { Ok(()) } else { Err(format!("it answered {status}")) }
}
