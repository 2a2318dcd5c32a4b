//! A week at Quillane: what three quays send, and what goes wrong with it.

use std::io;
use std::path::Path;

use serde::Deserialize;

use crate::movements::{Movement, Movements, date, iso, quoted};
use crate::write::{Encoding, write, write_bytes};

/// Tariffs of the dues office, and of the island's, as `examples/workbooks.rs` writes them.
const TARIFF: &[u8] = include_bytes!("../workbooks/tariff.xlsx");
const TARIFF_OF_ISLAND: &[u8] = include_bytes!("../workbooks/tariff_island.xlsx");

/// The configuration of the demo.
pub const CONFIGURATION: &str = include_str!("../hypodoke.toml");

/// The configuration of the part of the demo that fetches the cranes' telemetry; `PORT` is the store's.
pub const CRANES: &str = include_str!("../cranes.toml");

/// The first line of [`CONFIGURATION`]: a folder that holds it may be made anew.
pub const MARK: &str = "# The harbour of Quillane";

/// The demo's database, beside its configuration.
pub const DATABASE: &str = "quillane.db";

/// The first day of the week, 2 March 2026, counted from the first of January.
pub const MONDAY: u32 = 60;

/// A part of the week: its files land together.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Step {
    /// Monday to Thursday.
    First,
    /// Friday to Sunday, and a correction of Thursday's file.
    Second,
    /// Monday again: the whole of two files that came cut short.
    Third,
}

/// What loading a step must come to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
pub struct Figures {
    /// Files loaded.
    pub files_loaded: u64,
    /// Records read.
    pub rows_read: u64,
    /// Rows loaded.
    pub rows_loaded: u64,
    /// Rows rejected.
    pub rows_rejected: u64,
    /// Files whose content was loaded before, under another name.
    pub files_same: u64,
    /// Files that no feed wants.
    pub unmatched: u64,
    /// Files that are held.
    pub files_held: u64,
}

/// The figures of the whole demo, from `expected.json`.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
pub struct Expected {
    /// The loads in their order: three of the week, one that finds nothing new, the gauges' by SFTP.
    pub loads: Vec<Figures>,
    /// Rows in each table at the end.
    pub tables: std::collections::BTreeMap<String, u64>,
    /// The load of the cranes' telemetry, and the rows of its tables: of a build that can.
    pub cranes: Option<Cranes>,
}

/// The figures of the cranes' telemetry.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
pub struct Cranes {
    /// The load.
    pub load: Figures,
    /// Rows in each table at the end.
    pub tables: std::collections::BTreeMap<String, u64>,
}

/// The figures that the demo must give.
pub fn expected() -> Expected {
    // The text is part of the program, and a test reads it.
    serde_json::from_str(include_str!("../expected.json")).unwrap_or(Expected {
        loads: Vec::new(),
        tables: Default::default(),
        cranes: None,
    })
}

/// Writes the files of a step under `inbox`.
pub fn write_step(inbox: &Path, step: Step) -> io::Result<()> {
    let days = match step {
        Step::First => 0..4,
        Step::Second => 4..7,
        Step::Third => {
            north(inbox, 5, true)?;
            return south(inbox, 6, true);
        }
    };
    for day in days {
        north(inbox, day, day != 5)?;
        south(inbox, day, day != 6)?;
        east(inbox, day, false)?;
        let log = crate::pilotage::log(MONDAY, day);
        let name = format!("pilots/pilotage_{}.json", compact(MONDAY + day));
        write(&inbox.join(name), &log, Encoding::Utf8, MONDAY + day)?;
    }
    match step {
        Step::First => {
            write_bytes(&inbox.join("dues/tariff_2026-03.xlsx"), TARIFF, MONDAY)?;
            let note = "The gauge at the north mole is down until Friday.\n";
            write(&inbox.join("north/read me.txt"), note, Encoding::Utf8, MONDAY)?;
            // Tuesday's file, sent again by somebody who was not sure.
            let again = std::fs::read(inbox.join("north/movements_20260303.csv"))?;
            let copy = inbox.join("north/movements_20260303_again.csv");
            std::fs::write(&copy, again)?;
            crate::write::set_time(&copy, MONDAY + 2)
        }
        Step::Second => {
            // The island's office has another program, which counts its days from 1904.
            write_bytes(&inbox.join("dues/tariff_2026-03_island.xlsx"), TARIFF_OF_ISLAND, MONDAY + 4)?;
            east(inbox, 3, true)
        }
        Step::Third => Ok(()),
    }
}

fn day_of(quay: char, day: u32) -> impl Iterator<Item = Movement> {
    let rows = 60 + (day as usize * 17 + quay as usize * 7) % 50;
    let seed = 1000 * quay as u64 + day as u64;
    Movements::new(seed, 1 + 200 * day as u64, quay, MONDAY + day, u64::MAX).take(rows)
}

fn compact(day: u32) -> String {
    iso(day).replace('-', "")
}

fn clock(minute: u32) -> String {
    format!("{:02}:{:02}", minute / 60, minute % 60)
}

/// Commas and UTF-8. On Wednesday one draught is a remark; from Friday on with crane hours;
/// a file that is not whole breaks off within its last row.
fn north(inbox: &Path, day: u32, whole: bool) -> io::Result<()> {
    let cranes = day >= 4;
    let mut text = crate::movements::HEADER.to_owned();
    text.push_str(if cranes { ",crane_hours\n" } else { "\n" });
    for (at, movement) in day_of('N', day).enumerate() {
        let mut line = crate::movements::csv_line(&movement);
        if day == 2 && at == 17 {
            let draught = format!("{}.{:02}", movement.draught_cm / 100, movement.draught_cm % 100);
            line = line.replacen(&format!(",{draught},"), ",aground?,", 1);
        }
        if cranes {
            line.push_str(&format!(",{}.{}", movement.length_dm % 9, movement.draught_cm % 10));
        }
        text.push_str(&line);
        text.push('\n');
    }
    if !whole {
        text.truncate(text.trim_end().rfind('\n').unwrap_or(0) + 24);
    }
    write(
        &inbox.join(format!("north/movements_{}.csv", compact(MONDAY + day))),
        &text,
        Encoding::Utf8,
        MONDAY + day + u32::from(whole && day == 5),
    )
}

/// Semicolons, decimal commas, days first, Windows-1252, a title above the header and a
/// total beneath. From Saturday on cargo comes in tenths of a tonne. A file that is not whole lacks
/// some movements before its total.
fn south(inbox: &Path, day: u32, whole: bool) -> io::Result<()> {
    let (year, month, of_month) = date(MONDAY + day);
    let mut text = format!("South Quay – Daily Return\nBüro Süd; {of_month:02}.{month:02}.{year}\n\n");
    text.push_str("Movement No.;Vessel;Berth;Arrived;Draught (m);Cargo (t);Tugs;Pilot;Agent\n");
    let mut count = 0;
    for m in day_of('S', day) {
        count += 1;
        if !whole && count > 70 {
            continue;
        }
        let (arrived, minute) = m.arrived;
        let (year, month, of_month) = date(arrived);
        let tenths = if day >= 5 { format!(",{}", m.length_dm % 10) } else { String::new() };
        let cargo = m.cargo_t.map(|cargo| format!("{cargo}{tenths}")).unwrap_or_else(|| "-".to_owned());
        text.push_str(&format!(
            "{};{};{};{of_month:02}.{month:02}.{year} {};{},{:02};{cargo};{};{};{}\n",
            m.id,
            m.vessel.replace("Quiet", "Stille Müwe"),
            m.berth,
            clock(minute),
            m.draught_cm / 100,
            m.draught_cm % 100,
            m.tugs,
            if m.pilot { "yes" } else { "no" },
            quoted(m.agent, ';'),
        ));
    }
    text.push_str(&format!("Total movements: {count}\n"));
    write(
        &inbox.join(format!("south/berths_{}.csv", iso(MONDAY + day))),
        &text,
        Encoding::Windows1252,
        MONDAY + day + u32::from(whole && day == 6),
    )
}

/// Tabs and UTF-16. Thursday's file is corrected on Friday; from Saturday on the draught has another
/// name.
fn east(inbox: &Path, day: u32, corrected: bool) -> io::Result<()> {
    let draught = if day >= 5 { "Draft" } else { "DraughtM" };
    let mut text = format!("MovementID\tVessel\tBerth\tArrivedAt\t{draught}\tTugs\tPilot\r\n");
    for (at, m) in day_of('E', day).enumerate() {
        let (arrived, minute) = m.arrived;
        let tugs = if corrected && at == 3 { m.tugs + 1 } else { m.tugs };
        if corrected && at == 5 {
            // A movement that never was.
            continue;
        }
        text.push_str(&format!(
            "{}\t{}\t{}\t{}T{}:00Z\t{}.{:02}\t{tugs}\t{}\r\n",
            m.id,
            m.vessel,
            m.berth,
            iso(arrived),
            clock(minute),
            m.draught_cm / 100,
            m.draught_cm % 100,
            if m.pilot { "Y" } else { "N" },
        ));
    }
    let name = format!("east/EAST{}.tsv", &compact(MONDAY + day)[2..]);
    write(&inbox.join(name), &text, Encoding::Utf16, MONDAY + day + 2 * corrected as u32)
}
