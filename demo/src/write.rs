//! Writing the harbour's files, with the times they would have.

use std::fs::{File, create_dir_all};
use std::io::{self, Write};
use std::path::Path;
use std::time::{Duration, UNIX_EPOCH};

/// How a file is encoded.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encoding {
    /// UTF-8 without a mark.
    Utf8,
    /// UTF-16, little-endian, with a mark.
    Utf16,
    /// Windows-1252.
    Windows1252,
}

/// Seconds from 1970 to the first of January 2026.
const YEAR_2026: u64 = 1_767_225_600;

/// Writes a text that was modified at six in the morning after a day of 2026.
pub fn write(path: &Path, text: &str, encoding: Encoding, day: u32) -> io::Result<()> {
    let bytes = match encoding {
        Encoding::Utf8 => text.as_bytes().to_vec(),
        Encoding::Utf16 => {
            std::iter::once(0xFEFF).chain(text.encode_utf16()).flat_map(u16::to_le_bytes).collect()
        }
        Encoding::Windows1252 => text.chars().map(windows_1252).collect(),
    };
    write_bytes(path, &bytes, day)
}

/// Writes bytes that were modified at six in the morning after a day of 2026.
pub fn write_bytes(path: &Path, bytes: &[u8], day: u32) -> io::Result<()> {
    if let Some(folder) = path.parent() {
        create_dir_all(folder)?;
    }
    File::create(path)?.write_all(bytes)?;
    set_time(path, day)
}

/// Sets the time a file was modified.
pub fn set_time(path: &Path, day: u32) -> io::Result<()> {
    let seconds = YEAR_2026 + (day as u64 + 1) * 86_400 + 6 * 3600;
    File::options().append(true).open(path)?.set_modified(UNIX_EPOCH + Duration::from_secs(seconds))
}

/// The characters that the harbour uses.
fn windows_1252(c: char) -> u8 {
    match c {
        '–' => 0x96,
        '€' => 0x80,
        c => u8::try_from(c as u32).unwrap_or(b'?'),
    }
}
