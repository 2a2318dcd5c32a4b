//! How much room there is on a disk.

use std::path::Path;

/// The bytes that are free for this user where a file or folder is, or would be; `None` where the system
/// does not say.
///
/// ```
/// assert!(hypodoke_places::free_space(std::path::Path::new(".")).is_some_and(|bytes| bytes > 0));
/// ```
pub fn free_space(path: &Path) -> Option<u64> {
    let there = path.ancestors().find(|path| path.exists() || path.as_os_str().is_empty())?;
    let there = if there.as_os_str().is_empty() { Path::new(".") } else { there };
    let found = rustix::fs::statvfs(there).ok()?;
    Some(found.f_bavail.saturating_mul(found.f_frsize))
}
