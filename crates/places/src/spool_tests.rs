//! What a spool promises, with places made for it.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use hypodoke_core::arrival::Arrival;
use rstest::rstest;

use crate::backend::{Backend, ListRequest, Listed};
use crate::error::{PlaceError, RemoteTrouble};
use crate::spool::{ATTEMPTS, Spool, SpoolSettings};

/// A place whose files hold their own paths, and that fails as it is told.
#[derive(Debug, Default)]
struct Quay {
    /// So many attempts are lost before one comes through.
    lost: AtomicUsize,
    attempts: AtomicUsize,
    /// A file that changed since it was listed.
    changed: Option<&'static str>,
    /// A file whose fetch panics.
    panics: Option<&'static str>,
}

impl Backend for Quay {
    fn shown(&self) -> String {
        "quay".to_owned()
    }

    fn list(&self, _: &ListRequest<'_>) -> Result<Listed, PlaceError> {
        Ok(Listed::default())
    }

    fn relocate(&self, _: &Arrival, _: &Path, _: &str) -> Result<bool, PlaceError> {
        Ok(false)
    }

    fn fetch(&self, arrival: &Arrival, to: &Path, _: bool) -> Result<(), RemoteTrouble> {
        self.attempts.fetch_add(1, Ordering::SeqCst);
        assert!(self.panics != Some(&arrival.path), "the quay is gone");
        if self.lost.try_update(Ordering::SeqCst, Ordering::SeqCst, |left| left.checked_sub(1)).is_ok() {
            return Err(RemoteTrouble::Lost("the line".to_owned()));
        }
        if self.changed == Some(&arrival.path) {
            return Err(RemoteTrouble::Changed);
        }
        std::fs::write(to, &arrival.path).map_err(|error| RemoteTrouble::Other(error.to_string()))
    }
}

fn arrival(path: &str) -> Arrival {
    let (place, bytes) = ("quay".to_owned(), path.len() as u64);
    Arrival { place, path: path.to_owned(), bytes, modified: 7, token: None }
}

fn spool(quay: Quay, folder: &Path, limit: u64) -> (Arc<Quay>, Arc<Spool>) {
    let quay = Arc::new(quay);
    let settings = SpoolSettings { folder: folder.to_path_buf(), limit };
    (quay.clone(), Spool::new(quay, "quay", &settings))
}

#[test]
fn files_are_fetched_ahead_kept_while_they_are_read_and_dropped_when_they_are_done() {
    let folder = tempfile::tempdir().expect("a folder");
    let (_, spool) = spool(Quay::default(), folder.path(), 1000);
    let files: Vec<Arrival> = ["a.csv", "b.csv", "c.csv"].map(arrival).to_vec();
    spool.expect(files.clone());
    for file in &files {
        let pin = spool.want(file).expect("fetched");
        assert_eq!(std::fs::read_to_string(spool.local(file)).expect("a file"), file.path);
        drop(pin);
        spool.release(file);
        assert!(!spool.local(file).exists());
    }
}

#[rstest]
#[case::passing(2, true)]
#[case::for_good(99, false)]
fn a_lost_connection_is_tried_again_and_not_for_ever(#[case] lost: usize, #[case] comes: bool) {
    let folder = tempfile::tempdir().expect("a folder");
    let quay = Quay { lost: AtomicUsize::new(lost), ..Quay::default() };
    let (quay, spool) = spool(quay, folder.path(), 1000);
    assert_eq!(spool.want(&arrival("a.csv")).is_ok(), comes);
    assert!(quay.attempts.load(Ordering::SeqCst) <= ATTEMPTS as usize);
}

#[rstest]
#[case::changed(Quay { changed: Some("a.csv"), ..Quay::default() }, "it changed while it was fetched")]
#[case::panics(Quay { panics: Some("a.csv"), ..Quay::default() }, "fetching it failed unexpectedly")]
fn a_file_that_cannot_be_fetched_fails_and_the_others_do_not(#[case] quay: Quay, #[case] words: &str) {
    let folder = tempfile::tempdir().expect("a folder");
    let (_, spool) = spool(quay, folder.path(), 1000);
    spool.expect(["a.csv", "b.csv"].map(arrival).to_vec());
    let error = spool.want(&arrival("a.csv")).expect_err("no file").to_string();
    assert!(error.starts_with("quay/a.csv: ") && error.contains(words), "{error}");
    assert!(spool.want(&arrival("b.csv")).is_ok());
}

#[test]
fn there_is_never_more_in_the_spool_than_its_limit() {
    let folder = tempfile::tempdir().expect("a folder");
    let (_, spool) = spool(Quay::default(), folder.path(), 12);
    let files: Vec<Arrival> = (0..6).map(|at| arrival(&format!("{at}.csv"))).collect();
    spool.expect(files.clone());
    for file in &files {
        let _pin = spool.want(file).expect("fetched");
        let held: u64 = std::fs::read_dir(spool.folder())
            .expect("a folder")
            .flatten()
            .filter_map(|entry| entry.metadata().ok())
            .map(|about| about.len())
            .sum();
        assert!(held <= 12, "{held}");
    }
    let large = Arrival { bytes: 13, ..arrival("large.csv") };
    assert!(spool.want(&large).expect_err("no room").to_string().contains("13 bytes"));
}

/// A place that reads its files into memory.
#[derive(Debug)]
struct Reading;

impl Backend for Reading {
    fn shown(&self) -> String {
        "quay".to_owned()
    }

    fn list(&self, _: &ListRequest<'_>) -> Result<Listed, PlaceError> {
        Ok(Listed::default())
    }

    fn relocate(&self, _: &Arrival, _: &Path, _: &str) -> Result<bool, PlaceError> {
        Ok(false)
    }

    fn fetch(&self, arrival: &Arrival, to: &Path, _: bool) -> Result<(), RemoteTrouble> {
        std::fs::write(to, &arrival.path).map_err(|error| RemoteTrouble::Other(error.to_string()))
    }

    fn read(&self, arrival: &Arrival) -> Option<Result<Vec<u8>, RemoteTrouble>> {
        Some(Ok(arrival.path.clone().into_bytes()))
    }
}

#[test]
fn a_small_file_is_one_file_in_memory_to_all_who_read_it() {
    let folder = tempfile::tempdir().expect("a folder");
    let settings = SpoolSettings { folder: folder.path().to_path_buf(), limit: 1000 };
    let spool = Spool::new(Arc::new(Reading), "quay", &settings);
    let (first, second) = (arrival("a.csv"), arrival("b.zip"));
    let (one, other) = (spool.want(&first).expect("fetched"), spool.want(&first).expect("fetched"));
    let path = one.in_memory().expect("in memory");
    assert_eq!(other.in_memory(), Some(path.clone()));
    drop(one);
    assert_eq!(std::fs::read_to_string(&path).expect("a file"), "a.csv");
    assert!(!spool.local(&first).exists(), "nothing was written to the disk");
    let archive = spool.want(&second).expect("fetched");
    assert!(archive.in_memory().is_none() && spool.local(&second).exists());
    drop(other);
    spool.release(&first);
    assert_eq!(spool.lock().in_memory, 0);
}

#[test]
fn a_version_is_told_from_another_by_its_token() {
    let folder = tempfile::tempdir().expect("a folder");
    let (_, spool) = spool(Quay::default(), folder.path(), 12);
    let (plain, tagged) = (arrival("a.csv"), Arrival { token: Some("v2".into()), ..arrival("a.csv") });
    assert_ne!(spool.local(&plain), spool.local(&tagged));
}
