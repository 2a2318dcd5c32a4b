//! A file that is in memory alone, and is opened like any other.

use std::fs::File;
use std::io::Write;
use std::os::fd::AsRawFd;
use std::path::PathBuf;

/// A file in memory. It is gone when this is dropped.
#[derive(Debug)]
pub struct MemoryFile(File);

impl MemoryFile {
    /// A file that holds these bytes; `None` where the system has no such files, or no room for one.
    pub fn of(bytes: &[u8]) -> Option<MemoryFile> {
        let made = rustix::fs::memfd_create("hypodoke", rustix::fs::MemfdFlags::CLOEXEC).ok()?;
        let mut file = File::from(made);
        file.write_all(bytes).ok()?;
        let file = MemoryFile(file);
        // Where the system does not show open files as paths, it cannot be opened once more.
        file.path().exists().then_some(file)
    }

    /// Where it can be opened as often as one likes.
    pub fn path(&self) -> PathBuf {
        PathBuf::from(format!("/proc/self/fd/{}", self.0.as_raw_fd()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_read_by_several_and_gone_when_it_is_dropped() {
        let Some(file) = MemoryFile::of(b"quay,berth\n") else { return };
        let path = file.path();
        for _ in 0..2 {
            assert_eq!(std::fs::read(&path).expect("a file"), b"quay,berth\n");
        }
        drop(file);
        assert!(!std::fs::read(&path).is_ok_and(|bytes| bytes == b"quay,berth\n"));
    }
}
