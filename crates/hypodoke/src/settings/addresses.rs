//! Where places are that are not folders of this machine: on servers, behind links, in object stores.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use hypodoke_places::http::{Authorization, HttpAddress, HttpBackend};
#[cfg(feature = "objects")]
use hypodoke_places::objects::{Credentials, ObjectsAddress, ObjectsBackend};
use hypodoke_places::sftp::{SftpAddress, SftpBackend};
use hypodoke_places::{Backend, Secret};

use super::expand::{expand, secret};
use super::measures::{size, span};
use super::reader::{Placed, Section};
use crate::failure::Failure;

/// The least time that a server is given.
const LEAST_WAIT: Duration = Duration::from_secs(1);

/// For how many days back links may be asked for.
const MOST_DAYS: u64 = 3660;

/// What is behind an address; nothing where it is a folder of this machine. `moves` says that files are to
/// be moved once they are done with, `most_bytes` how much the spool may hold.
pub fn backend(
    section: &mut Section<'_>,
    path: &Placed<String>,
    expanded: &str,
    base: &Path,
    moves: bool,
    most_bytes: u64,
) -> Result<Option<Arc<dyn Backend>>, Failure> {
    if !expanded.contains("://") {
        return Ok(None);
    }
    if HttpAddress::is_one(expanded) {
        if moves {
            let what = "files behind links cannot be moved; leave out `after`";
            return Err(section.wrong(path, what));
        }
        let mut address = http(section, path, expanded, base)?;
        address.most_bytes = address.most_bytes.min(most_bytes);
        return Ok(Some(Arc::new(HttpBackend::new(address)?)));
    }
    if let Some(backend) = objects(section, path, expanded, base)? {
        return Ok(Some(backend));
    }
    Ok(Some(Arc::new(SftpBackend::new(sftp(section, path, expanded, base)?)?)))
}

fn sftp(
    section: &mut Section<'_>,
    path: &Placed<String>,
    expanded: &str,
    base: &Path,
) -> Result<SftpAddress, Failure> {
    let mut address = SftpAddress::parse(expanded).map_err(|why| section.wrong(path, why))?;
    address.password = secret(section, "password", base)?;
    address.passphrase = secret(section, "passphrase", base)?;
    address.key_file = file(section, "key_file", base)?;
    address.known_hosts = file(section, "known_hosts", base)?;
    if let Some(wait) = span(section, "wait")? {
        address.wait = wait.max(LEAST_WAIT);
    }
    Ok(address)
}

/// A file that the configuration names, `~/` being the user's own folder.
fn file(section: &mut Section<'_>, key: &'static str, base: &Path) -> Result<Option<PathBuf>, Failure> {
    let Some(text) = section.text(key)? else { return Ok(None) };
    let path = expand(section, &text)?;
    let home = std::env::var("HOME").unwrap_or_default();
    Ok(Some(match path.strip_prefix("~/") {
        Some(own) => Path::new(&home).join(own),
        None => base.join(path),
    }))
}

fn http(
    section: &mut Section<'_>,
    path: &Placed<String>,
    expanded: &str,
    base: &Path,
) -> Result<HttpAddress, Failure> {
    let mut address = HttpAddress::parse(expanded).map_err(|why| section.wrong(path, why))?;
    if let Some(links) = section.texts("links")? {
        if !address.links.is_empty() {
            let what = "`path` is a file already; end it with `/` where `links` are named";
            return Err(section.wrong(&links, what));
        }
        address.links.clone_from(&links.value);
        address.check().map_err(|why| section.wrong(&links, why))?;
    }
    address.links_from = match section.text("links_from")? {
        Some(text) => Some(expand(section, &text)?),
        None => None,
    };
    if address.links.is_empty() && address.links_from.is_none() {
        let what = "a web server does not say which files there are: name the file in `path`, or files in `links`, or a list of links in `links_from`";
        return Err(section.wrong(path, what));
    }
    if let Some(days) = section.count("days")? {
        if days.value == 0 || days.value > MOST_DAYS {
            return Err(section.wrong(&days, format!("`days` is 1 to {MOST_DAYS}")));
        }
        address.days = u32::try_from(days.value).unwrap_or(u32::MAX);
    }
    address.authorization = authorization(section, base)?;
    address.ca_file = file(section, "ca_file", base)?;
    if let Some(wait) = span(section, "wait")? {
        address.wait = wait.max(LEAST_WAIT);
    }
    if let Some(text) = section.text("max_size")? {
        address.most_bytes = size(&text.value).ok_or_else(|| {
            section.wrong(&text, format!("`{}` is not a size; write \"500MB\" or \"2GB\"", text.value))
        })?;
    }
    Ok(address)
}

fn authorization(section: &mut Section<'_>, base: &Path) -> Result<Option<Authorization>, Failure> {
    let user = section.text("user")?;
    let password: Option<Secret> = secret(section, "password", base)?;
    let token = secret(section, "token", base)?;
    match (user, password, token) {
        (None, None, None) => Ok(None),
        (None, None, Some(token)) => Ok(Some(Authorization::Bearer(token))),
        (Some(user), Some(password), None) => {
            Ok(Some(Authorization::Basic { user: expand(section, &user)?, password }))
        }
        (Some(user), None, None) => Err(section.wrong(&user, "`user` goes with `password`")),
        (user, _, _) => {
            let what = "`user` and `password` go together, or `token` by itself";
            Err(user.map_or_else(|| Failure::usage(what.to_owned()), |user| section.wrong(&user, what)))
        }
    }
}

#[cfg(feature = "objects")]
/// Where keys come from, in the words of the configuration.
const CREDENTIALS: [(&str, Credentials); 3] =
    [("usual", Credentials::Usual), ("machine", Credentials::Machine), ("anonymous", Credentials::Anonymous)];

#[cfg(feature = "objects")]
/// What is behind an address of an object store; nothing where it is none.
fn objects(
    section: &mut Section<'_>,
    path: &Placed<String>,
    expanded: &str,
    base: &Path,
) -> Result<Option<Arc<dyn Backend>>, Failure> {
    if !ObjectsAddress::is_one(expanded) {
        return Ok(None);
    }
    let mut address = ObjectsAddress::parse(expanded).map_err(|why| section.wrong(path, why))?;
    if let Some(endpoint) = section.text("endpoint")? {
        let text = expand(section, &endpoint)?;
        address = address.with_endpoint(&text).map_err(|why| section.wrong(&endpoint, why))?;
    }
    address.region = match section.text("region")? {
        Some(region) => Some(expand(section, &region)?),
        None => None,
    };
    address.path_style = section.truth("path_style")?.unwrap_or(true);
    address.profile = section.text("profile")?.map(|profile| profile.value);
    address.credentials = credentials(section, path, base)?;
    address.ca_file = file(section, "ca_file", base)?;
    if let Some(wait) = span(section, "wait")? {
        address.wait = wait.max(LEAST_WAIT);
    }
    Ok(Some(Arc::new(ObjectsBackend::new(address)?)))
}

#[cfg(feature = "objects")]
fn credentials(
    section: &mut Section<'_>,
    path: &Placed<String>,
    base: &Path,
) -> Result<Credentials, Failure> {
    let words: Vec<(&str, usize)> =
        CREDENTIALS.iter().enumerate().map(|(at, (word, _))| (*word, at)).collect();
    let asked = section.word("credentials", &words)?;
    let asked = asked.and_then(|at| CREDENTIALS.get(at)).map(|(_, credentials)| credentials.clone());
    let access_key = secret(section, "access_key", base)?;
    let secret_key = secret(section, "secret_key", base)?;
    let session_token = secret(section, "session_token", base)?;
    match (asked, access_key, secret_key) {
        (Some(asked), None, None) if session_token.is_none() => Ok(asked),
        (None, None, None) if session_token.is_none() => Ok(Credentials::Usual),
        (None, Some(access_key), Some(secret_key)) => {
            Ok(Credentials::Keys { access_key, secret_key, session_token })
        }
        (Some(_), _, _) => {
            Err(section.wrong(path, "`credentials` says where keys come from: leave out the keys, or it"))
        }
        _ => Err(section.wrong(path, "`access_key` and `secret_key` go together")),
    }
}

#[cfg(not(feature = "objects"))]
/// This build reaches no object stores, and says so.
fn objects(
    section: &mut Section<'_>,
    path: &Placed<String>,
    expanded: &str,
    _: &Path,
) -> Result<Option<Arc<dyn Backend>>, Failure> {
    if !["s3://", "az://", "gs://"].iter().any(|scheme| expanded.starts_with(scheme)) {
        return Ok(None);
    }
    let failure = section.wrong(path, "this build does not reach object stores");
    Err(failure.advise("build it in: cargo build --release --features full"))
}
