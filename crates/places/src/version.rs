//! Which version of itself a file of this machine is.

use std::fs::Metadata;
use std::os::unix::fs::MetadataExt;
use std::time::UNIX_EPOCH;

use hypodoke_core::arrival::Arrival;

/// In microseconds.
pub(crate) const SECOND: i64 = 1_000_000;

/// Whether a file is as long and as old as an arrival: by these it is told from other versions after it was moved,
/// too, which is a change of its entry.
pub(crate) fn is_as_listed(about: &Metadata, arrival: &Arrival) -> bool {
    about.len() == arrival.bytes && modified(about) == arrival.modified
}

/// The version of a file of this machine, as an arrival without a name: its size, its time and, where
/// that is a whole second, when its content or anything else of it last changed. Many programs set
/// times to whole seconds, so that two versions may have the same, but none sets the time of the change.
pub(crate) fn version(about: &Metadata) -> Arrival {
    let modified = modified(about);
    let nanos = about.ctime_nsec();
    let token = (modified % SECOND == 0 && nanos != 0).then(|| format!("{}.{nanos:09}", about.ctime()));
    Arrival { bytes: about.len(), modified, token, ..Arrival::default() }
}

/// Microseconds since 1970, as far as the file system keeps them.
pub(crate) fn modified(about: &Metadata) -> i64 {
    let Ok(time) = about.modified() else { return 0 };
    match time.duration_since(UNIX_EPOCH) {
        Ok(after) => i64::try_from(after.as_micros()).unwrap_or(i64::MAX),
        Err(before) => i64::try_from(before.duration().as_micros()).map_or(i64::MIN, |micros| -micros),
    }
}
