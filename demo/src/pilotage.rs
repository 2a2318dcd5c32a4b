//! The pilot station: a log a day, pilotages with their manoeuvres, and those with their tugs.

use serde_json::{Value, json};

use crate::movements::iso;
use crate::random::Random;

const PILOTS: [(&str, &str); 5] = [
    ("A. Sorrel", "0042"),
    ("B. Étain", "0107"),
    ("C. Rushlight", "0110"),
    ("D. Wherry", "0233"),
    ("E. Pennant", "0301"),
];
const TUGS: [&str; 4] = ["Bryony", "Campion", "Teasel", "Yarrow"];
const KINDS: [&str; 4] = ["boarding", "turning", "mooring", "casting off"];

/// How many pilotages a day has.
pub fn count(day: u32) -> u32 {
    9 + day * 5 % 7
}

/// The log of a day. From Friday on it tells the wind too.
pub fn log(first: u32, day: u32) -> String {
    let mut random = Random::new(7_000 + u64::from(day));
    let pilotages: Vec<Value> =
        (0..count(day)).map(|at| pilotage(&mut random, first + day, day, at)).collect();
    let log = json!({
        "station": { "name": "Quillane Pilots", "version": 3 },
        "result": { "day": iso(first + day), "logs": pilotages },
    });
    serde_json::to_string_pretty(&log).unwrap_or_default() + "\n"
}

fn pilotage(random: &mut Random, date: u32, day: u32, at: u32) -> Value {
    let (name, licence) = PILOTS[random.below(5) as usize];
    let manoeuvres: Vec<Value> = (0..1 + random.below(4)).map(|_| manoeuvre(random)).collect();
    let mut pilotage = json!({
        "id": 100 * day + at + 1,
        "pilot": { "name": name, "licence": licence },
        "boarded": format!("{}T{:02}:{:02}:00Z", iso(date), 4 + random.below(18), random.below(60)),
        "draught": random.below(900) as f64 / 100.0 + 3.0,
        "flags": if random.below(4) == 0 { json!(["night", "fog"]) } else { json!([]) },
        "manoeuvres": manoeuvres,
    });
    if day >= 4 {
        pilotage["wind"] = json!({ "from": random.below(36) * 10, "knots": random.below(40) });
    }
    pilotage
}

fn manoeuvre(random: &mut Random) -> Value {
    let tugs: Vec<Value> = (0..random.below(3))
        .map(|_| json!({ "name": TUGS[random.below(4) as usize], "pull": random.below(30) + 20 }))
        .collect();
    json!({ "kind": KINDS[random.below(4) as usize], "minutes": random.below(400) as f64 / 10.0, "tugs": tugs })
}
