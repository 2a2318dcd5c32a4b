//! The crane yard: a store of the demo's own, whose telemetry is fetched from a bucket. Only a build
//! with the feature `demo-yard` has it.

#[cfg(feature = "demo-yard")]
use std::time::{Duration, UNIX_EPOCH};

#[cfg(feature = "demo-yard")]
use hypodoke_demo::bucket::{ACCESS_KEY, Bucket, SECRET_KEY};
#[cfg(feature = "demo-yard")]
use hypodoke_demo::{CRANES, MONDAY, cranes};

#[cfg(feature = "demo-yard")]
use super::unwritable::unwritable;
use crate::failure::Failure;

/// The configuration of the yard, beside the others.
pub const CONFIGURATION: &str = "cranes.toml";

/// What a build without it says.
pub const LEFT_OUT: &str = "This build leaves out the cranes' telemetry (Parquet files in an object store); `--features demo-yard` includes it.";

/// Whether this build has it.
pub const IS_BUILT_IN: bool = cfg!(feature = "demo-yard");

/// The bucket.
#[cfg(feature = "demo-yard")]
const BUCKET: &str = "quillane";

/// Seconds from 1970 to the first of January 2026.
#[cfg(feature = "demo-yard")]
const YEAR_2026: u64 = 1_767_225_600;

/// Opens the store with a week of telemetry, and writes down where it is and how to be let in.
#[cfg(feature = "demo-yard")]
pub fn open(folder: &std::path::Path) -> Result<Option<Bucket>, Failure> {
    let failed = |error: std::io::Error| unwritable(folder, &error);
    let bucket = Bucket::open(BUCKET).map_err(failed)?;
    for day in 0..7 {
        for quay in 0..cranes::QUAYS.len() {
            let file = cranes::file(quay, MONDAY, day).map_err(failed)?;
            let morning = YEAR_2026 + u64::from(MONDAY + day + 1) * 86_400 + 6 * 3600;
            let modified = UNIX_EPOCH + Duration::from_secs(morning);
            bucket.put(&cranes::key(quay, MONDAY + day), file, modified);
        }
    }
    let port = bucket.endpoint().rsplit(':').next().unwrap_or_default().to_owned();
    std::fs::write(folder.join(CONFIGURATION), CRANES.replace("PORT", &port)).map_err(failed)?;
    std::fs::write(folder.join("yard.key"), format!("{ACCESS_KEY}\n")).map_err(failed)?;
    std::fs::write(folder.join("yard.secret"), format!("{SECRET_KEY}\n")).map_err(failed)?;
    Ok(Some(bucket))
}

/// What stands for the store where there is none.
#[cfg(not(feature = "demo-yard"))]
pub struct NoBucket;

#[cfg(not(feature = "demo-yard"))]
impl NoBucket {
    /// It is nowhere.
    pub fn endpoint(&self) -> String {
        String::new()
    }
}

/// This build has no yard.
#[cfg(not(feature = "demo-yard"))]
pub fn open(_: &std::path::Path) -> Result<Option<NoBucket>, Failure> {
    Ok(None)
}
