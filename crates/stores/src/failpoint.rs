//! Named points in the course of a load at which tests end the process, as a power cut would. The program that
//! users get has none: they are there with the feature `failpoints` only.

/// A named point of a load: a test may have the process end here.
///
/// The environment says where: `HYPODOKE_END_AT=apart.tables.after` at the first time, `…:3` at the third.
/// `HYPODOKE_POINTS_TO=FILE` has the names of the points that were passed written to a file instead.
#[cfg(feature = "failpoints")]
#[macro_export]
macro_rules! failpoint {
    ($name:literal) => {
        $crate::failpoint::pass($name)
    };
}

/// See above: there is nothing here.
#[cfg(not(feature = "failpoints"))]
#[macro_export]
macro_rules! failpoint {
    ($name:literal) => {};
}

pub(crate) use crate::failpoint;

#[cfg(feature = "failpoints")]
pub use passed::pass;

#[cfg(feature = "failpoints")]
mod passed {
    use std::io::Write;
    use std::sync::OnceLock;
    use std::sync::atomic::{AtomicU64, Ordering};

    /// Where the process ends: the point, and the how manieth time.
    static END_AT: OnceLock<Option<(String, u64)>> = OnceLock::new();

    static TIMES: AtomicU64 = AtomicU64::new(0);

    fn end_at() -> Option<(String, u64)> {
        let text = std::env::var("HYPODOKE_END_AT").ok()?;
        match text.rsplit_once(':') {
            Some((name, times)) => Some((name.to_owned(), times.parse().ok()?)),
            None => Some((text, 1)),
        }
    }

    /// Passes a point, or ends the process there without a word to anybody.
    pub fn pass(name: &'static str) {
        if let Some((wanted, times)) = END_AT.get_or_init(end_at)
            && wanted == name
            && TIMES.fetch_add(1, Ordering::SeqCst) + 1 == *times
        {
            std::process::abort();
        }
        if let Ok(file) = std::env::var("HYPODOKE_POINTS_TO")
            && let Ok(mut file) = std::fs::OpenOptions::new().create(true).append(true).open(file)
        {
            let _ = writeln!(file, "{name}");
        }
    }
}
