//! How fast the bytes of a file arrive. A server that sends a byte now and then is never silent, and would hold
//! whoever waits for the file for ever.

use std::time::{Duration, Instant};

use crate::error::RemoteTrouble;

/// Over how long the pace is measured, and the fewest bytes that arrive meanwhile.
pub const WINDOW: Duration = Duration::from_secs(60);
pub const LEAST: u64 = 6_000;

/// Measures one answer.
#[derive(Debug)]
pub struct Pace {
    began: Instant,
    bytes: u64,
}

impl Pace {
    /// Begins to measure.
    pub fn new() -> Pace {
        Pace::at(Instant::now())
    }

    fn at(began: Instant) -> Pace {
        Pace { began, bytes: 0 }
    }

    /// Takes in that so many bytes arrived.
    ///
    /// # Errors
    ///
    /// They are fewer than [`LEAST`] in [`WINDOW`].
    pub fn add(&mut self, bytes: usize) -> Result<(), RemoteTrouble> {
        self.add_at(bytes, Instant::now())
    }

    fn add_at(&mut self, bytes: usize, now: Instant) -> Result<(), RemoteTrouble> {
        self.bytes += bytes as u64;
        if now.saturating_duration_since(self.began) < WINDOW {
            return Ok(());
        }
        if self.bytes < LEAST {
            return Err(RemoteTrouble::Slow { bytes: self.bytes, seconds: WINDOW.as_secs(), least: LEAST });
        }
        *self = Pace::at(now);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// Each is a second, and the bytes that arrive then.
    #[rstest]
    #[case::quick(&[(1, 1 << 20)], true)]
    #[case::slow_at_first(&[(1, 1), (59, 1), (60, 6_000)], true)]
    #[case::a_byte_now_and_then(&[(1, 1), (30, 1), (61, 1)], false)]
    #[case::just_enough(&[(30, 3_000), (60, 3_000)], true)]
    #[case::too_little(&[(30, 3_000), (60, 2_999)], false)]
    #[case::slow_later(&[(60, 1 << 20), (119, 1), (121, 1)], false)]
    #[case::measured_anew(&[(60, 6_000), (120, 6_000), (180, 6_000)], true)]
    fn an_answer_is_not_waited_for_without_end(#[case] arrivals: &[(u64, usize)], #[case] is_fine: bool) {
        let began = Instant::now();
        let mut pace = Pace::at(began);
        let arrived = arrivals
            .iter()
            .try_for_each(|(second, bytes)| pace.add_at(*bytes, began + Duration::from_secs(*second)));
        assert_eq!(arrived.is_ok(), is_fine, "{arrived:?}");
    }
}
