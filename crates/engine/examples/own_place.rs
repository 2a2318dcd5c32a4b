//! A place of one's own: files that an application holds in memory are listed, fetched and loaded once.

use std::error::Error;
use std::path::Path;
use std::sync::Arc;

use hypodoke_core::arrival::Arrival;
use hypodoke_engine::prelude::*;
use hypodoke_places::{ListRequest, Listed, PlaceError, RemoteTrouble};

/// Messages that came in, each a file. What tells its versions apart is the length of its text and the sum of its
/// bytes; a real place gives what its server knows a version by.
#[derive(Debug)]
struct Mailbox(Vec<(String, String)>);

/// When the messages came: microseconds since 1970.
const MONDAY: i64 = 1_772_438_400_000_000;

impl Mailbox {
    fn arrival(&self, place: &str, (path, text): &(String, String)) -> Arrival {
        let (place, path) = (place.to_owned(), path.clone());
        let token = Some(format!("{}-{}", text.len(), text.bytes().map(u64::from).sum::<u64>()));
        Arrival { place, path, bytes: text.len() as u64, modified: MONDAY, token }
    }
}

impl Backend for Mailbox {
    fn shown(&self) -> String {
        "mailbox".to_owned()
    }

    fn list(&self, request: &ListRequest<'_>) -> Result<Listed, PlaceError> {
        let wanted = self.0.iter().filter(|(path, _)| (request.wanted)(path, MONDAY));
        let files = wanted.map(|message| (self.arrival(request.place, message), None)).collect();
        Ok(Listed { files, ..Listed::default() })
    }

    fn fetch(&self, arrival: &Arrival, to: &Path, _: bool) -> Result<(), RemoteTrouble> {
        let message = self.0.iter().find(|(path, _)| *path == arrival.path).ok_or(RemoteTrouble::Gone)?;
        // What was listed is what is fetched, or the fetch fails.
        if self.arrival(&arrival.place, message).token != arrival.token {
            return Err(RemoteTrouble::Changed);
        }
        std::fs::write(to, &message.1).map_err(|error| RemoteTrouble::Other(error.to_string()))
    }

    fn relocate(&self, _: &Arrival, _: &Path, _: &str) -> Result<bool, PlaceError> {
        Ok(false)
    }
}

fn main() -> Result<(), Box<dyn Error>> {
    let harbour = tempfile::tempdir()?;
    let messages = [("0302.csv", "berth,draught\nN1,7.5\n"), ("0303.csv", "berth,draught\nN2,6.25\nN3,9\n")];
    let mailbox = Mailbox(messages.map(|(path, text)| (path.to_owned(), text.to_owned())).to_vec());
    let spool = SpoolSettings { folder: harbour.path().join("spool"), limit: 1 << 20 };
    let job = Job::builder("sqlite:quillane.db")
        .relative_to(harbour.path())
        .place(Place::remote("mailbox", Arc::new(mailbox), &spool))
        .feed("mailbox", "*.csv", Feed::new("berths"))
        .build()?;
    let mut store = open(&job.staging)?;
    for expected in [3, 0] {
        let report = load_new(&job, store.as_mut(), RunOptions::new(&Silent))?;
        println!("{} rows loaded", report.receipt.totals.rows_loaded);
        assert_eq!(report.receipt.totals.rows_loaded, expected);
    }
    Ok(())
}

#[test]
fn it_runs() {
    main().expect("the example runs");
}
