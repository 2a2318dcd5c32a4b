//! A file that is on its way: written from its beginning on, and gone on with where an earlier attempt broke off.

use std::fs::{File, OpenOptions};
use std::io::{Seek, SeekFrom, Write};
use std::path::Path;

use crate::error::RemoteTrouble;
use crate::spool::DURABLE;

/// A file on its way.
pub struct PartFile<'p> {
    file: File,
    path: &'p Path,
    /// How many bytes are there.
    written: u64,
}

impl<'p> PartFile<'p> {
    /// Opens what is there of a file of so many bytes. Of what another run left, only whole lots of
    /// [`DURABLE`] bytes are sure to be on the disk, and are kept.
    pub fn open(path: &'p Path, expected: u64, is_left_over: bool) -> Result<PartFile<'p>, RemoteTrouble> {
        let failed = |error: std::io::Error| trouble(path, &error);
        let file = OpenOptions::new().create(true).write(true).truncate(false).open(path).map_err(failed)?;
        let there = file.metadata().map_err(failed)?.len();
        // What is there of an earlier attempt is of this very file: its name says so.
        let begin = if there <= expected { there } else { 0 };
        let begin = if is_left_over { begin - begin % DURABLE } else { begin };
        let mut part = PartFile { file, path, written: 0 };
        part.go_on_at(begin)?;
        Ok(part)
    }

    /// How many bytes are there.
    pub fn written(&self) -> u64 {
        self.written
    }

    /// Goes on behind so many bytes; what stands behind them is dropped.
    pub fn go_on_at(&mut self, begin: u64) -> Result<(), RemoteTrouble> {
        let path = self.path;
        let failed = |error: std::io::Error| trouble(path, &error);
        self.file.set_len(begin).map_err(failed)?;
        self.file.seek(SeekFrom::Start(begin)).map_err(failed)?;
        self.written = begin;
        Ok(())
    }

    /// Writes what comes next, and makes sure of each lot that it is on the disk.
    pub fn write(&mut self, bytes: &[u8]) -> Result<(), RemoteTrouble> {
        let path = self.path;
        let failed = |error: std::io::Error| trouble(path, &error);
        self.file.write_all(bytes).map_err(failed)?;
        let lots = self.written / DURABLE;
        self.written += bytes.len() as u64;
        if self.written / DURABLE > lots {
            self.file.sync_data().map_err(failed)?;
        }
        Ok(())
    }
}

fn trouble(path: &Path, error: &std::io::Error) -> RemoteTrouble {
    RemoteTrouble::Spool { path: path.to_path_buf(), why: error.to_string() }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::of_this_run(5, 9, false, 5)]
    #[case::of_another_run(5, 9, true, 0)]
    #[case::longer_than_it_should_be(10, 9, false, 0)]
    #[case::whole(9, 9, false, 9)]
    fn it_is_gone_on_with(
        #[case] there: usize,
        #[case] expected: u64,
        #[case] left: bool,
        #[case] begin: u64,
    ) {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join("a.part");
        std::fs::write(&path, vec![7; there]).expect("a file");
        let mut part = PartFile::open(&path, expected, left).expect("opened");
        assert_eq!(part.written(), begin);
        part.write(b"x").expect("written");
        assert_eq!(std::fs::metadata(&path).expect("a file").len(), begin + 1);
    }
}
