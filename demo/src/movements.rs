//! Berth movements: who came to which berth, when, and how deep she lay.

use std::io::{self, Write};

use crate::random::Random;

const FIRST: [&str; 12] = [
    "Amber", "Copper", "Grey", "Northern", "Quiet", "Salt", "Silver", "Spring", "Sturdy", "Summer",
    "Western", "White",
];
const SECOND: [&str; 12] = [
    "Bittern",
    "Curlew",
    "Dunlin",
    "Fulmar",
    "Gannet",
    "Heron",
    "Kittiwake",
    "Lapwing",
    "Plover",
    "Sanderling",
    "Turnstone",
    "Whimbrel",
];
const AGENTS: [&str; 6] = [
    "Tollgate & Daughters",
    "Brack, Hollis and Co.",
    "Lantern Row Agency",
    "\"Blue Bollard\" Shipping",
    "Ostrey Forwarding",
    "Marl, Penny & Marl",
];
const REMARKS: [&str; 7] = [
    "waiting for tide",
    "crew change",
    "bunkers, then shifted",
    "fog until noon",
    "said \"no tugs\", took two",
    "heavy swell; delayed",
    "none to report",
];

/// One movement.
#[derive(Clone, Debug)]
pub struct Movement {
    /// Its number.
    pub id: u64,
    /// The ship.
    pub vessel: String,
    /// The berth: `N-04`.
    pub berth: String,
    /// When she came: day of the year 2026 from 0, and minute of the day.
    pub arrived: (u32, u32),
    /// Days until she left; none if she is still there.
    pub stayed: Option<u32>,
    /// Draught in centimetres.
    pub draught_cm: u32,
    /// Length in decimetres.
    pub length_dm: u32,
    /// Cargo in tonnes.
    pub cargo_t: Option<u32>,
    /// Tugs.
    pub tugs: u32,
    /// Whether a pilot was aboard.
    pub pilot: bool,
    /// The agent.
    pub agent: &'static str,
    /// A remark.
    pub remark: Option<&'static str>,
}

/// An endless row of movements, the same for the same seed.
pub struct Movements {
    random: Random,
    next: u64,
    quay: char,
    day: u32,
    per_day: u64,
}

impl Movements {
    /// Movements at a quay from a day of 2026 on, so many a day.
    pub fn new(seed: u64, first: u64, quay: char, day: u32, per_day: u64) -> Movements {
        Movements { random: Random::new(seed), next: first, quay, day, per_day }
    }
}

impl Iterator for Movements {
    type Item = Movement;

    fn next(&mut self) -> Option<Movement> {
        let random = &mut self.random;
        let id = self.next;
        self.next += 1;
        Some(Movement {
            id,
            vessel: format!("{} {}", random.pick(&FIRST), random.pick(&SECOND)),
            berth: format!("{}-{:02}", self.quay, random.between(1, 19)),
            arrived: (self.day + (id / self.per_day.max(1)) as u32 % 300, random.below(1440) as u32),
            stayed: (!random.once_in(6)).then(|| random.below(4) as u32),
            draught_cm: random.between(210, 1480) as u32,
            length_dm: random.between(280, 3350) as u32,
            cargo_t: (!random.once_in(9)).then(|| random.between(0, 82_000) as u32),
            tugs: random.below(4) as u32,
            pilot: !random.once_in(4),
            agent: random.pick(&AGENTS),
            remark: random.once_in(3).then(|| random.pick(&REMARKS)),
        })
    }
}

/// Year, month and day of a day of 2026 counted from 0, on into 2027.
pub fn date(day: u32) -> (u32, u32, u32) {
    const MONTHS: [u32; 12] = [31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
    let (mut rest, mut year) = (day, 2026);
    loop {
        for (month, days) in MONTHS.iter().enumerate() {
            if rest < *days {
                return (year, month as u32 + 1, rest + 1);
            }
            rest -= days;
        }
        year += 1;
    }
}

/// `2026-03-02`
pub fn iso(day: u32) -> String {
    let (year, month, day) = date(day);
    format!("{year}-{month:02}-{day:02}")
}

/// A field as RFC 4180 has it.
pub fn quoted(text: &str, delimiter: char) -> String {
    if text.contains([delimiter, '"', '\n']) {
        format!("\"{}\"", text.replace('"', "\"\""))
    } else {
        text.to_owned()
    }
}

/// The header of [`write_csv`].
pub const HEADER: &str =
    "movement_id,vessel,berth,arrived_at,departed_on,draught_m,length_m,cargo_t,tugs,pilot,agent,remarks";

/// Writes so many movements of 12 columns as CSV: about 105 bytes each.
pub fn write_csv(rows: u64, seed: u64, first: u64, out: &mut impl Write) -> io::Result<()> {
    writeln!(out, "{HEADER}")?;
    for movement in Movements::new(seed, first, 'N', 0, 7000).take(rows as usize) {
        writeln!(out, "{}", csv_line(&movement))?;
    }
    Ok(())
}

/// A movement as a line of CSV.
pub fn csv_line(m: &Movement) -> String {
    let (day, minute) = m.arrived;
    format!(
        "{},{},{},{} {:02}:{:02}:00,{},{}.{:02},{}.{},{},{},{},{},{}",
        m.id,
        m.vessel,
        m.berth,
        iso(day),
        minute / 60,
        minute % 60,
        m.stayed.map(|days| iso(day + days)).unwrap_or_default(),
        m.draught_cm / 100,
        m.draught_cm % 100,
        m.length_dm / 10,
        m.length_dm % 10,
        m.cargo_t.map(|t| t.to_string()).unwrap_or_default(),
        m.tugs,
        m.pilot,
        quoted(m.agent, ','),
        quoted(m.remark.unwrap_or_default(), ','),
    )
}
