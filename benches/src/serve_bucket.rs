//! A bucket to measure with: so many small objects, of which so many are new; or the files of a folder.

use std::time::{Duration, SystemTime};

use hypodoke_testkit::bucket::Bucket;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let bucket = Bucket::open("quillane")?;
    let long_ago = SystemTime::now() - Duration::from_secs(400 * 86_400);
    match &arguments[..] {
        [kind, many, new] if kind == "keys" => {
            let (many, new): (u64, u64) = (many.parse()?, new.parse()?);
            for at in 0..many {
                let is_new = at + new >= many;
                let modified = if is_new { SystemTime::now() } else { long_ago };
                bucket.put(
                    &format!("cranes/day={:05}/lift_{at:08}.csv", at / 200),
                    "at,tonnes\n1,2.5\n",
                    modified,
                );
            }
        }
        [kind, folder] if kind == "folder" => {
            for entry in std::fs::read_dir(folder)? {
                let entry = entry?;
                let name = entry.file_name().to_string_lossy().into_owned();
                bucket.put_file(&format!("cranes/{name}"), entry.path(), long_ago)?;
            }
        }
        _ => return Err("usage: serve-bucket keys MANY NEW | folder FOLDER".into()),
    }
    println!("{}", bucket.endpoint());
    loop {
        std::thread::park();
    }
}
