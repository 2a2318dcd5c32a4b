//! Who is told of what: mail and webhooks.

use std::path::{Path, PathBuf};

use hypodoke_places::Secret;

use super::expand::{expand, secret};
use super::reader::{Placed, Section, suggest};
use super::reason_code::check_reason_code;
use crate::failure::Failure;

/// What people may be told of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum NotificationKind {
    /// A file failed, or a place or the database is out of reach.
    Failure,
    /// A file is held.
    Hold,
    /// Rows were rejected.
    Rejects,
    /// A file is not what files before it were, and is loaded all the same.
    Drift,
    /// All of a batch was loaded.
    Success,
    /// Files that are due have not come.
    Silence,
}

impl NotificationKind {
    /// All of them, the worst first.
    pub const ALL: [NotificationKind; 6] = [
        NotificationKind::Failure,
        NotificationKind::Hold,
        NotificationKind::Silence,
        NotificationKind::Rejects,
        NotificationKind::Drift,
        NotificationKind::Success,
    ];

    /// The event in one word, as the configuration has it.
    pub fn word(self) -> &'static str {
        match self {
            NotificationKind::Failure => "failure",
            NotificationKind::Hold => "hold",
            NotificationKind::Rejects => "rejects",
            NotificationKind::Drift => "drift",
            NotificationKind::Success => "success",
            NotificationKind::Silence => "silence",
        }
    }
}

/// Somebody who is told.
#[derive(Clone, Debug)]
pub struct NotifySettings {
    /// The name.
    pub name: String,
    /// The way to them.
    pub way: Channel,
    /// Of what they are told.
    pub on: Vec<NotificationKind>,
    /// Of which feeds; of all if empty.
    pub feeds: Vec<String>,
    /// For which reasons, by their codes or groups of codes; for all if empty. What has no reason is told all
    /// the same.
    pub reasons: Vec<String>,
}

/// A way to people.
#[derive(Clone, Debug)]
pub enum Channel {
    /// By mail.
    Mail(Box<Mail>),
    /// By a request to a web server.
    Webhook(Webhook),
}

/// A mail server, and from whom to whom.
#[derive(Clone, Debug)]
pub struct Mail {
    /// Its name.
    pub host: String,
    /// Its port.
    pub port: u16,
    /// How the way there is kept private.
    pub tls: Tls,
    /// Who we are to it, and how it knows.
    pub login: Option<(String, Secret)>,
    /// The sender.
    pub from: String,
    /// The receivers.
    pub to: Vec<String>,
    /// Certificates to trust besides the system's.
    pub certificates: Option<PathBuf>,
}

/// How the way to a mail server is kept private.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Tls {
    /// From the first byte on.
    Whole,
    /// After asking for it; without it nothing is sent.
    Starttls,
    /// Not at all.
    None,
}

/// A web server to be told.
#[derive(Clone, Debug)]
pub struct Webhook {
    /// Its address, which may hold secrets.
    pub url: Secret,
    /// The part of it that may be shown.
    pub shown: String,
    /// What is sent as `Authorization`.
    pub authorization: Option<Secret>,
}

/// Reads `[notify.NAME]`.
pub fn read(
    name: String,
    mut section: Section<'_>,
    base: &Path,
    feeds: &[&str],
) -> Result<NotifySettings, Failure> {
    let words: Vec<&str> = NotificationKind::ALL.iter().map(|event| event.word()).collect();
    let on = match section.texts("on")? {
        None => vec![
            NotificationKind::Failure,
            NotificationKind::Hold,
            NotificationKind::Rejects,
            NotificationKind::Silence,
            NotificationKind::Drift,
        ],
        Some(found) => {
            let mut on = Vec::new();
            for word in &found.value {
                let event = NotificationKind::ALL.into_iter().find(|event| event.word() == word);
                on.push(event.ok_or_else(|| {
                    let what = format!("`{word}` is none of {}", words.join(", "));
                    suggest(section.wrong(&found, what), word, &words)
                })?);
            }
            on
        }
    };
    let wanted = section.texts("feeds")?;
    if let Some(found) = &wanted
        && let Some(stranger) = found.value.iter().find(|feed| !feeds.contains(&feed.as_str()))
    {
        let what = format!("there is no feed `{stranger}`; there are {}", feeds.join(", "));
        return Err(suggest(section.wrong(found, what), stranger, feeds));
    }
    let reasons = section.texts("reasons")?;
    if let Some(found) = &reasons {
        found.value.iter().try_for_each(|code| check_reason_code(code, |what| section.wrong(found, what)))?;
    }
    let reasons = reasons.map(|codes| codes.value).unwrap_or_default();
    let (server, webhook) = (section.text("mail")?, section.text("webhook")?);
    let way = match (server, webhook) {
        (Some(_), Some(webhook)) => {
            return Err(
                section.wrong(&webhook, "`mail` and `webhook` are two ways: give each a [notify] section")
            );
        }
        (Some(found), None) => Channel::Mail(Box::new(mail(&mut section, &found, base)?)),
        (None, Some(found)) => Channel::Webhook(web_server(&mut section, &found, base)?),
        (None, None) => {
            let what = format!("[notify.{name}] needs `mail` or `webhook`");
            return Err(Failure::usage(what)
                .advise("mail = \"smtp://user@mail.example:587\" or webhook = \"https://…\""));
        }
    };
    section.finish()?;
    let feeds = wanted.map(|feeds| feeds.value).unwrap_or_default();
    Ok(NotifySettings { name, way, on, feeds, reasons })
}

/// What is read from `smtp://user@mail.example:587`.
struct Server {
    host: String,
    port: u16,
    user: Option<String>,
    tls: Tls,
}

fn server(section: &Section<'_>, found: &Placed<String>) -> Result<Server, Failure> {
    let wrong =
        |what: &str| section.wrong(found, what).advise("write mail = \"smtp://user@mail.example:587\"");
    let address = expand(section, found)?;
    let (tls, usual_port, rest) = match address.split_once("://") {
        Some(("smtp", rest)) => (Tls::Starttls, 587, rest),
        Some(("smtps", rest)) => (Tls::Whole, 465, rest),
        _ => return Err(wrong("`mail` is the address of a mail server")),
    };
    let (user, host) = match rest.rsplit_once('@') {
        Some((user, host)) => (Some(user.replace("%40", "@")), host),
        None => (None, rest),
    };
    if user.as_deref().is_some_and(|user| user.contains(':')) {
        let what = "a password does not belong into the address";
        return Err(section.wrong(found, what).advise("give it as password = \"${NAME}\" or \"@FILE\""));
    }
    let host = host.trim_end_matches('/');
    let (host, port) = match host.rsplit_once(':') {
        Some((host, port)) => (host, port.parse().map_err(|_| wrong("its port is not a number"))?),
        None => (host, usual_port),
    };
    if host.is_empty() {
        return Err(wrong("it names no server"));
    }
    Ok(Server { host: host.to_owned(), port, user, tls })
}

fn mail(section: &mut Section<'_>, found: &Placed<String>, base: &Path) -> Result<Mail, Failure> {
    let Server { host, port, user, tls: usual_tls } = server(section, found)?;
    let tls = [("whole", Tls::Whole), ("starttls", Tls::Starttls), ("none", Tls::None)];
    let tls = section.word("tls", &tls)?.unwrap_or(usual_tls);
    let login = match (user, secret(section, "password", base)?) {
        (Some(user), Some(password)) => Some((user, password)),
        (None, None) => None,
        (Some(_), None) => return Err(section.wrong(found, "a user needs a `password`")),
        (None, Some(_)) => return Err(section.wrong(found, "a `password` needs a user in the address")),
    };
    let from = section.required("from", "\"hypodoke@quillane.example\"")?;
    mail_address(&from.value).map_err(|why| section.wrong(&from, why))?;
    let Some(to) = section.texts("to")?.filter(|to| !to.value.is_empty()) else {
        return Err(section.wrong(found, "mail needs `to`: to = [\"night@quillane.example\"]"));
    };
    for address in &to.value {
        mail_address(address).map_err(|why| section.wrong(&to, why))?;
    }
    let certificates = section.text("certificates")?.map(|file| base.join(file.value));
    Ok(Mail { host, port, tls, login, from: from.value, to: to.value, certificates })
}

fn web_server(section: &mut Section<'_>, found: &Placed<String>, base: &Path) -> Result<Webhook, Failure> {
    let url = expand(section, found)?;
    let rest = url.strip_prefix("https://").or_else(|| url.strip_prefix("http://"));
    let host = rest.and_then(|rest| rest.split(['/', '?']).next()).filter(|host| !host.is_empty());
    let Some(host) = host else {
        return Err(section.wrong(found, "`webhook` is an address, https://…"));
    };
    let shown = host.rsplit('@').next().unwrap_or(host).to_owned();
    let authorization = secret(section, "authorization", base)?;
    Ok(Webhook { url: Secret::new(url), shown, authorization })
}

fn mail_address(text: &str) -> Result<(), String> {
    let parsed = text.parse::<lettre::message::Mailbox>();
    parsed.map(|_| ()).map_err(|error| format!("`{text}` is not a mail address: {error}"))
}
