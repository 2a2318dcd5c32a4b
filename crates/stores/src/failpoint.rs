//! Named points in the course of a load at which tests end the process, as a power cut would. The program that
//! users get has none: they are there with the feature `failpoints` only.

/// A named point of a load: a test may have the process end here.
///
/// The environment says where: `HYPODOKE_END_AT=apart.tables.after` at the first time, `…:3` at the third.
/// `HYPODOKE_STOP_AT` has it stand still there instead, until it is told to go on.
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

    /// Where the process ends or stands still.
    static END_AT: OnceLock<Option<Place>> = OnceLock::new();
    static STOP_AT: OnceLock<Option<Place>> = OnceLock::new();

    /// A point, how manieth time it is passed, and how often it was.
    struct Place {
        name: String,
        time: u64,
        passed: AtomicU64,
    }

    impl Place {
        fn told_by(variable: &str) -> Option<Place> {
            let text = std::env::var(variable).ok()?;
            let (name, time) = match text.rsplit_once(':') {
                Some((name, time)) => (name.to_owned(), time.parse().ok()?),
                None => (text, 1),
            };
            Some(Place { name, time, passed: AtomicU64::new(0) })
        }

        fn is_here(&self, name: &str) -> bool {
            self.name == name && self.passed.fetch_add(1, Ordering::SeqCst) + 1 == self.time
        }
    }

    /// Passes a point, or ends the process there without a word to anybody, or stands still.
    pub fn pass(name: &'static str) {
        let is_at = |place: &Option<Place>| place.as_ref().is_some_and(|place| place.is_here(name));
        if is_at(END_AT.get_or_init(|| Place::told_by("HYPODOKE_END_AT"))) {
            std::process::abort();
        }
        if is_at(STOP_AT.get_or_init(|| Place::told_by("HYPODOKE_STOP_AT"))) {
            let own = std::process::id().to_string();
            let _ = std::process::Command::new("kill").args(["-STOP", &own]).status();
        }
        if let Ok(file) = std::env::var("HYPODOKE_POINTS_TO")
            && let Ok(mut file) = std::fs::OpenOptions::new().create(true).append(true).open(file)
        {
            let _ = writeln!(file, "{name}");
        }
    }
}
