//! Writes berth movements for benchmarks: `movements ROWS [FIRST] > movements.csv`.

use std::io::{BufWriter, Write};

fn main() -> std::io::Result<()> {
    let mut arguments = std::env::args().skip(1).map(|text| text.parse::<u64>());
    let (Some(Ok(rows)), first) = (arguments.next(), arguments.next()) else {
        eprintln!("usage: movements ROWS [FIRST]");
        std::process::exit(2);
    };
    let first = first.and_then(Result::ok).unwrap_or(1);
    let mut out = BufWriter::with_capacity(1 << 20, std::io::stdout().lock());
    hypodoke_demo::movements::write_csv(rows, first, first, &mut out)?;
    out.flush()
}
