//! Outages: places or the database out of reach. One outage is one message, with all the feeds that it
//! keeps from being loaded, and one when it is over.

use std::collections::BTreeMap;
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use hypodoke_core::count;

use crate::failure::Failure;
use crate::notifications::Notification;
use crate::settings::notify::NotificationKind;

/// So long feeds are gathered for one message.
pub const GATHER: Duration = Duration::from_secs(3);

/// What is out of reach, and since when.
#[derive(Default)]
pub struct Outages(Mutex<State>);

#[derive(Default)]
struct State {
    /// The feeds that cannot be loaded, with why.
    away: BTreeMap<String, Away>,
    /// Those that could not be, and were told of.
    back: BTreeMap<String, Duration>,
    /// When the first of what is to be told happened.
    first: Option<Instant>,
    /// How many messages there were: each is another event.
    told: u64,
}

struct Away {
    message: String,
    advice: Option<String>,
    since: Instant,
    is_told: bool,
}

impl Outages {
    fn state(&self) -> MutexGuard<'_, State> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// A feed cannot be loaded; whether that is news.
    pub fn away(&self, feed: &str, failure: &Failure, now: Instant) -> bool {
        let mut state = self.state();
        state.back.remove(feed);
        if state.away.contains_key(feed) {
            return false;
        }
        let (message, advice) = (failure.message.clone(), failure.advice.clone());
        state.away.insert(feed.to_owned(), Away { message, advice, since: now, is_told: false });
        state.first.get_or_insert(now);
        true
    }

    /// A feed can be loaded again; whether it could not be before.
    pub fn back(&self, feed: &str, now: Instant) -> bool {
        let mut state = self.state();
        let Some(away) = state.away.remove(feed) else { return false };
        // What was over before anybody heard of it is no news.
        if away.is_told {
            state.back.insert(feed.to_owned(), now.saturating_duration_since(away.since));
            state.first.get_or_insert(now);
        }
        true
    }

    /// How long until there is something to tell; `None` if there is nothing.
    pub fn wait(&self, now: Instant) -> Option<Duration> {
        let first = self.state().first?;
        Some((first + GATHER).saturating_duration_since(now))
    }

    /// What is to be told, once it was gathered long enough.
    pub fn take(&self, now: Instant) -> Vec<Notification> {
        let mut state = self.state();
        if state.first.is_none_or(|first| now < first + GATHER) {
            return Vec::new();
        }
        state.first = None;
        state.told += 1;
        let told = state.told;
        let fresh: Vec<(&String, &mut Away)> =
            state.away.iter_mut().filter(|(_, away)| !away.is_told).collect();
        let mut all: Vec<Notification> = Vec::new();
        let mut feeds = Vec::new();
        let mut reasons: Vec<(String, Option<String>)> = Vec::new();
        for (feed, away) in fresh {
            away.is_told = true;
            feeds.push(feed.clone());
            if !reasons.iter().any(|(message, _)| *message == away.message) {
                reasons.push((away.message.clone(), away.advice.clone()));
            }
        }
        if !feeds.is_empty() {
            let messages: Vec<String> = reasons.iter().map(|(message, _)| message.clone()).collect();
            let what = match feeds.len() {
                1 => messages.join("\n"),
                _ => format!("{}\nfeeds that wait for it: {}", messages.join("\n"), feeds.join(", ")),
            };
            let advice = reasons.into_iter().find_map(|(_, advice)| advice);
            all.push(notification(format!("away {told}"), feeds, what, advice));
        }
        let back = std::mem::take(&mut state.back);
        if let Some(longest) = back.values().max() {
            let feeds: Vec<String> = back.keys().cloned().collect();
            let took = count::seconds(longest.as_secs_f64());
            let what = format!("back in reach after {took}: {}", feeds.join(", "));
            all.push(notification(format!("back {told}"), feeds, what, None));
        }
        all
    }
}

fn notification(key: String, feeds: Vec<String>, what: String, advice: Option<String>) -> Notification {
    let mut feeds = feeds.into_iter();
    Notification {
        event: NotificationKind::Failure,
        // It may be back and away again: that is another time.
        key: format!("{key} {}", jiff::Timestamp::now()),
        feed: feeds.next(),
        others: feeds.collect(),
        path: None,
        reasons: Vec::new(),
        what,
        advice,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_outage_is_one_message_and_one_when_it_is_over() {
        let (outages, start) = (Outages::default(), Instant::now());
        let gone = Failure::load("the database does not answer");
        assert!(outages.away("north", &gone, start) && outages.away("south", &gone, start));
        assert!(!outages.away("north", &gone, start), "it is known");
        assert!(outages.take(start).is_empty(), "others may follow");
        let told = outages.take(start + GATHER);
        assert_eq!(told.len(), 1);
        assert!(told[0].what.contains("north, south"), "{}", told[0].what);
        assert!(outages.take(start + 2 * GATHER).is_empty(), "it is told once");
        let later = start + Duration::from_secs(60);
        assert!(outages.back("north", later) && outages.back("south", later));
        let told = outages.take(later + GATHER);
        assert_eq!(told.len(), 1);
        assert!(told[0].what.contains("back in reach after 60.0 s: north, south"), "{}", told[0].what);
    }

    #[test]
    fn what_is_over_at_once_is_no_news() {
        let (outages, start) = (Outages::default(), Instant::now());
        outages.away("north", &Failure::load("gone"), start);
        outages.back("north", start);
        assert!(outages.take(start + GATHER).is_empty());
    }
}
