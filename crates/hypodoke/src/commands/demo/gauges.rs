//! The tide-gauge office: a server of the demo's own, whose readings are fetched by SFTP.

use std::path::Path;

use hypodoke_demo::office::{Office, PASSWORD};
use hypodoke_demo::{MONDAY, gauges};
use hypodoke_places::PlaceError;

use super::unwritable::unwritable;
use crate::failure::Failure;
use crate::settings::Settings;

/// The configuration of the gauges, beside the other.
pub const GAUGES: &str = "gauges.toml";

/// Opens the office with its readings, and writes down where it is and who it is.
pub fn open(folder: &Path) -> Result<Office, Failure> {
    let failed = |error: std::io::Error| unwritable(folder, &error);
    let outgoing = folder.join("office");
    gauges::write_week(&outgoing, MONDAY).map_err(failed)?;
    let office = Office::open(&outgoing).map_err(failed)?;
    let text = gauges::CONFIGURATION.replace("PORT", &office.port().to_string());
    std::fs::write(folder.join(GAUGES), text).map_err(failed)?;
    std::fs::write(folder.join("office.secret"), format!("{PASSWORD}\n")).map_err(failed)?;
    // Whoever runs the demo need not ask anybody for the key: both sides are here.
    let known = folder.join("known_hosts");
    if known.exists() {
        std::fs::remove_file(&known).map_err(failed)?;
    }
    let settings = Settings::read(&folder.join(GAUGES))?;
    for place in &settings.places {
        let Some(identity) = place.place.identity() else { continue };
        let failed = |trouble| Failure::from(PlaceError::Remote { shown: place.place.shown(), trouble });
        let key = identity.shown_key().map_err(failed)?;
        identity.trust(&key).map_err(failed)?;
    }
    Ok(office)
}
