//! Readings of two tide gauges, an hour apart.

use std::io;
use std::path::Path;

use crate::movements::iso;
use crate::write::{Encoding, write};

/// The configuration of the part of the demo that fetches them; `PORT` is the office's.
pub const CONFIGURATION: &str = include_str!("../gauges.toml");

/// The stations.
const STATIONS: [&str; 2] = ["North Mole", "Salt Quay"];

/// Writes what the office has of a week that begins on this day.
pub fn write_week(folder: &Path, monday: u32) -> io::Result<()> {
    for day in 0..7 {
        let mut text = String::from("station,read_at,level_m,quality\n");
        for (at, station) in STATIONS.iter().enumerate() {
            for hour in 0..24u32 {
                // Two tides a day, a little later each time: levels in millimetres.
                let minutes = day * 1440 + hour * 60 + at as u32 * 25;
                let phase = f64::from(minutes) / 745.0 * std::f64::consts::TAU;
                let level = 2450.0 + 1310.0 * phase.cos() + 90.0 * (phase / 2.0).sin();
                let quality = if (day * 7 + hour) % 41 == 0 { "doubtful" } else { "good" };
                text.push_str(&format!(
                    "{station},{}T{hour:02}:00:00Z,{:.3},{quality}\n",
                    iso(monday + day),
                    level / 1000.0
                ));
            }
        }
        let name = format!("gauge_{}.csv", iso(monday + day));
        write(&folder.join(name), &text, Encoding::Utf8, monday + day)?;
    }
    Ok(())
}
