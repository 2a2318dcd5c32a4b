//! Parses each line of a file into a `serde_json::Value` on one thread, and nothing else: what
//! the load of JSON lines is measured against.

use std::io::{BufRead, BufReader};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let path = std::env::args().nth(1).ok_or("usage: parse-json FILE")?;
    let mut reader = BufReader::with_capacity(1 << 20, std::fs::File::open(path)?);
    let mut line = Vec::new();
    let mut lines = 0u64;
    while reader.read_until(b'\n', &mut line)? > 0 {
        let value: serde_json::Value = serde_json::from_slice(&line)?;
        lines += u64::from(value.is_object());
        line.clear();
    }
    println!("{lines} lines");
    Ok(())
}
