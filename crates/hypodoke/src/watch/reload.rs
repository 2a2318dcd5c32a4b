//! When a configuration that changes is read again.

use std::time::{Duration, Instant};

/// A text counts as written to its end once it has stayed the same for so long.
const SETTLED: Duration = Duration::from_secs(1);

/// Compares the text of the configuration with the one that is in use.
pub struct Reload {
    in_use: String,
    /// The text that was read last and found to be wrong.
    refused: Option<String>,
    /// A new text, and since when it has been the same.
    fresh: Option<(String, Instant)>,
}

impl Reload {
    /// `in_use` is the text that the configuration in use was read from.
    pub fn of(in_use: String) -> Reload {
        Reload { in_use, refused: None, fresh: None }
    }

    /// Takes the text as it is now, `None` if it cannot be read; gives a new text once it has settled.
    /// A text that is given is not given again before another one has come.
    pub fn see(&mut self, now: Option<String>, at: Instant) -> Option<String> {
        let is_known = |text: &String| *text == self.in_use || self.refused.as_ref() == Some(text);
        let Some(text) = now.filter(|text| !is_known(text)) else {
            self.fresh = None;
            return None;
        };
        match &self.fresh {
            Some((fresh, since)) if *fresh == text => {
                if at.duration_since(*since) < SETTLED {
                    return None;
                }
                self.fresh = None;
                self.refused = Some(text.clone());
                Some(text)
            }
            _ => {
                self.fresh = Some((text, at));
                None
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// What is given for a text seen at each of these milliseconds.
    fn given(seen: &[(u64, Option<&str>)]) -> Vec<(u64, String)> {
        let begin = Instant::now();
        let mut reload = Reload::of("old".to_owned());
        let see = |(at, text): &(u64, Option<&str>)| {
            let text = text.map(str::to_owned);
            reload.see(text, begin + Duration::from_millis(*at)).map(|text| (*at, text))
        };
        seen.iter().filter_map(see).collect()
    }

    #[rstest]
    #[case::unchanged(&[(0, Some("old")), (2000, Some("old"))], &[])]
    #[case::changed(&[(0, Some("new")), (500, Some("new")), (1000, Some("new"))], &[(1000, "new")])]
    #[case::written_in_two_steps(
        &[(0, Some("ne")), (900, Some("new")), (1500, Some("new")), (1900, Some("new"))], &[(1900, "new")])]
    #[case::second_half_comes_late(
        &[(0, Some("ne")), (1000, Some("ne")), (1500, Some("new")), (2500, Some("new"))], &[(1000, "ne"), (2500, "new")])]
    #[case::wrong_once(&[(0, Some("bad")), (1000, Some("bad")), (1500, Some("bad")), (3000, Some("bad"))], &[(1000, "bad")])]
    #[case::gone_for_a_moment(&[(0, Some("new")), (500, None), (1000, Some("new")), (2000, Some("new"))], &[(2000, "new")])]
    #[case::put_back(&[(0, Some("new")), (500, Some("old")), (5000, Some("old"))], &[])]
    #[case::empty_while_it_is_written(&[(0, Some("")), (500, Some("new")), (1500, Some("new"))], &[(1500, "new")])]
    fn a_text_is_read_once_it_has_settled(
        #[case] seen: &[(u64, Option<&str>)],
        #[case] expected: &[(u64, &str)],
    ) {
        let expected: Vec<(u64, String)> =
            expected.iter().map(|(at, text)| (*at, (*text).to_owned())).collect();
        assert_eq!(given(seen), expected);
    }
}
