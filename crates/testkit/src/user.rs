//! The user that servers run as.

use std::process::Command;

/// A user without rights, as which the server runs where the tests run as root.
pub const NOBODY: u32 = 65_534;

/// Whether the tests run as root.
pub fn is_root() -> bool {
    Command::new("id").arg("-u").output().is_ok_and(|output| output.stdout.starts_with(b"0\n"))
}
