//! Messages by mail.

use std::time::Duration;

use lettre::message::{Mailbox, MultiPart};
use lettre::transport::smtp::authentication::Credentials;
use lettre::transport::smtp::client::{Certificate, Tls as Wrapping, TlsParameters};
use lettre::{Message, SmtpTransport, Transport};

use super::Notice;
use crate::settings::notify::{Mail, Tls};

/// How long a mail server may take for an answer.
const TIMEOUT: Duration = Duration::from_secs(10);

/// Sends a message. Where the way there is to be private and is not, nothing is sent.
pub fn send(mail: &Mail, notice: &Notice) -> Result<(), String> {
    let address = |text: &str| text.parse::<Mailbox>().map_err(|error| format!("`{text}`: {error}"));
    let mut message = Message::builder().message_id(None).from(address(&mail.from)?).subject(&notice.subject);
    for to in &mail.to {
        message = message.to(address(to)?);
    }
    let parts = MultiPart::alternative_plain_html(notice.text.clone(), notice.html.clone());
    let message = message.multipart(parts).map_err(|error| error.to_string())?;
    let mut transport = SmtpTransport::builder_dangerous(&mail.host)
        .port(mail.port)
        .tls(wrapping(mail)?)
        .timeout(Some(TIMEOUT));
    if let Some((user, password)) = &mail.login {
        transport = transport.credentials(Credentials::new(user.clone(), password.reveal().to_owned()));
    }
    transport.build().send(&message).map(|_| ()).map_err(|error| words(&error))
}

fn wrapping(mail: &Mail) -> Result<Wrapping, String> {
    if mail.tls == Tls::None {
        return Ok(Wrapping::None);
    }
    let mut parameters = TlsParameters::builder(mail.host.clone());
    if let Some(file) = &mail.certificates {
        let wrong = |why: String| format!("the certificates in `{}`: {why}", file.display());
        let pem = std::fs::read(file).map_err(|error| wrong(error.to_string()))?;
        let certificate = Certificate::from_pem(&pem).map_err(|error| wrong(error.to_string()))?;
        parameters = parameters.add_root_certificate(certificate);
    }
    let parameters = parameters.build().map_err(|error| words(&error))?;
    Ok(match mail.tls {
        Tls::Whole => Wrapping::Wrapper(parameters),
        _ => Wrapping::Required(parameters),
    })
}

fn words(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(inner) = cause {
        let more = inner.to_string();
        if !text.contains(&more) {
            text.push_str(&format!(": {more}"));
        }
        cause = inner.source();
    }
    text
}
