//! How a watch goes about it.

use std::net::{SocketAddr, ToSocketAddrs};
use std::path::{Path, PathBuf};

use hypodoke_places::Secret;

use super::expand::secret;
use super::reader::Section;
use crate::failure::Failure;

/// What `[watch]` and `[log]` say.
#[derive(Clone, Debug, Default)]
pub struct WatchSettings {
    /// Where the page, health and metrics are served.
    pub listen: Option<SocketAddr>,
    /// What has to be shown to see them; required where others than this machine can ask.
    pub token: Option<Secret>,
    /// The file that is logged to; standard error if unsaid.
    pub log_file: Option<PathBuf>,
    /// A line of the log is a JSON object.
    pub log_json: bool,
}

/// Reads `[watch]` and `[log]`.
pub fn read(
    watch: Option<Section<'_>>,
    log: Option<Section<'_>>,
    base: &Path,
) -> Result<WatchSettings, Failure> {
    let mut settings = WatchSettings::default();
    if let Some(mut section) = watch {
        if let Some(text) = section.text("listen")? {
            settings.listen = Some(address(&text.value).map_err(|why| section.wrong(&text, why))?);
        }
        settings.token = secret(&mut section, "token", base)?;
        section.finish()?;
    }
    if let Some(mut section) = log {
        settings.log_file = section.text("file")?.map(|file| base.join(file.value));
        settings.log_json = section.word("lines", &[("text", false), ("json", true)])?.unwrap_or_default();
        section.finish()?;
    }
    Ok(settings)
}

/// Reads `127.0.0.1:9150`.
pub fn address(text: &str) -> Result<SocketAddr, String> {
    let found = text.to_socket_addrs().ok().and_then(|mut all| all.next());
    found.ok_or_else(|| format!("`{text}` is not an address to listen on; write \"127.0.0.1:9150\""))
}
