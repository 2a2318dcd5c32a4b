//! Walks the records of a CSV file with the `csv` crate and nothing else: what a survey is
//! measured against.

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let path = std::env::args().nth(1).ok_or("usage: walk-csv FILE")?;
    let mut reader = csv::ReaderBuilder::new().buffer_capacity(1 << 20).from_path(path)?;
    let mut record = csv::ByteRecord::new();
    let (mut rows, mut fields) = (0u64, 0u64);
    while reader.read_byte_record(&mut record)? {
        rows += 1;
        fields += record.len() as u64;
    }
    println!("{rows} rows, {fields} fields");
    Ok(())
}
