//! The scheduler of one feed: when its next round is, by its schedule, by files that arrive, and by
//! what the last round left to be done.

use std::sync::{Condvar, Mutex, PoisonError};
use std::time::Duration;

use jiff::Timestamp;

use crate::schedule::{Schedule, signed};
use hypodoke_engine::batch::StopSignal;

/// A clock is looked at so often while something is waited for: it may be set, and the machine may
/// have been asleep.
const LONGEST_NAP: Duration = Duration::from_secs(20);

/// Wakes a feed when something arrives, or when it is to stop.
#[derive(Debug, Default)]
pub struct Wakeup {
    rung: Mutex<bool>,
    heard: Condvar,
}

impl Wakeup {
    /// Rings it.
    pub fn wake(&self) {
        *self.rung.lock().unwrap_or_else(PoisonError::into_inner) = true;
        self.heard.notify_all();
    }

    /// Waits for it so long at the most; whether it rang.
    pub fn wait(&self, most: Duration) -> bool {
        let rung = self.rung.lock().unwrap_or_else(PoisonError::into_inner);
        let (mut rung, _) =
            self.heard.wait_timeout_while(rung, most, |rung| !*rung).unwrap_or_else(PoisonError::into_inner);
        std::mem::take(&mut *rung)
    }
}

/// What tells the time, and lets it pass.
pub trait Clock {
    /// Now.
    fn now(&self) -> Timestamp;

    /// Waits until a moment, or the wakeup; whether it rang.
    fn wait(&self, wakeup: &Wakeup, until: Timestamp) -> bool;
}

/// The machine's own clock.
pub struct MachineClock;

impl Clock for MachineClock {
    fn now(&self) -> Timestamp {
        Timestamp::now()
    }

    fn wait(&self, wakeup: &Wakeup, until: Timestamp) -> bool {
        loop {
            let left = Duration::try_from(self.now().duration_until(until)).unwrap_or_default();
            if left.is_zero() {
                return false;
            }
            if wakeup.wait(left.min(LONGEST_NAP)) {
                return true;
            }
        }
    }
}

/// What a round left to be done.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct After {
    /// Come again after so long, whatever the schedule says.
    pub again: Option<Duration>,
}

/// When one feed is looked after.
pub struct Scheduler<'a> {
    /// Its schedule.
    pub schedule: &'a Schedule,
    /// Its place is looked at so often, whether or not anything is heard of it.
    pub poll: Duration,
    /// After something is heard, more is waited for so long.
    pub settle: Duration,
}

/// What a feed is woken for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Task {
    /// To load what is there.
    Load,
    /// To see whether what is due has come.
    Due,
}

impl Scheduler<'_> {
    /// Does the tasks of a feed at their times, until it is stopped.
    pub fn run(
        &self,
        clock: &dyn Clock,
        wakeup: &Wakeup,
        stop: &StopSignal,
        work: &mut dyn FnMut(Task, Timestamp) -> After,
    ) {
        let begin = clock.now();
        let mut load = self.first(begin);
        // What was due while nobody was there is found out at once.
        let mut due = self.schedule.due.as_ref().map(|_| begin);
        while !stop.is_requested() {
            let next = due.map_or(load, |due| due.min(load));
            if clock.wait(wakeup, next) {
                if self.schedule.on_arrival {
                    load = load.min(self.schedule.opening(later(clock.now(), self.settle)));
                }
                continue;
            }
            let now = clock.now();
            if load <= now {
                let after = work(Task::Load, now);
                load = self.next(now, clock.now(), after);
            } else if due.is_some_and(|due| due <= now) {
                work(Task::Due, now);
                due = self.schedule.next_due(now);
            }
        }
    }

    fn first(&self, begin: Timestamp) -> Timestamp {
        match (self.schedule.on_arrival, self.schedule.every) {
            // By the calendar only: not before its first time.
            (false, None) => self.schedule.next(begin).unwrap_or(begin),
            _ => self.schedule.opening(begin),
        }
    }

    /// When the round after one that began and ended is.
    fn next(&self, began: Timestamp, ended: Timestamp, after: After) -> Timestamp {
        let by_clock = self.schedule.next(began);
        let by_look = self.schedule.on_arrival.then(|| self.schedule.opening(later(ended, self.poll)));
        let again = after.again.map(|span| self.schedule.opening(later(ended, span)));
        by_clock.into_iter().chain(by_look).chain(again).min().unwrap_or(later(ended, self.poll))
    }
}

fn later(at: Timestamp, span: Duration) -> Timestamp {
    at.checked_add(signed(span)).unwrap_or(Timestamp::MAX)
}

#[cfg(test)]
mod tests {
    use std::cell::{Cell, RefCell};

    use jiff::tz::TimeZone;
    use rstest::rstest;

    use super::*;
    use crate::schedule::cron::Cron;

    /// A clock that does not let anybody wait: what is waited for is now.
    struct FakeClock {
        now: Cell<Timestamp>,
        end: Timestamp,
        /// When the wakeup rings.
        rings: RefCell<Vec<Timestamp>>,
    }

    impl Clock for FakeClock {
        fn now(&self) -> Timestamp {
            self.now.get()
        }

        fn wait(&self, _: &Wakeup, until: Timestamp) -> bool {
            let mut rings = self.rings.borrow_mut();
            if let Some(ring) = rings.first().copied().filter(|ring| *ring < until) {
                rings.remove(0);
                self.now.set(self.now.get().max(ring));
                return true;
            }
            self.now.set(self.now.get().max(until));
            false
        }
    }

    /// The local times of what is done from one moment to another.
    fn day(schedule: &Schedule, begin: &str, end: &str, rings: &[&str]) -> Vec<String> {
        let moment = |text: &str| text.parse::<Timestamp>().expect("a moment");
        let clock = FakeClock {
            now: Cell::new(moment(begin)),
            end: moment(end),
            rings: RefCell::new(rings.iter().map(|text| moment(text)).collect()),
        };
        let (stop, mut done) = (StopSignal::default(), Vec::new());
        let scheduler =
            Scheduler { schedule, poll: Duration::from_secs(6 * 3600), settle: Duration::from_secs(2) };
        scheduler.run(&clock, &Wakeup::default(), &stop, &mut |task, now| {
            if now >= clock.end {
                stop.request();
                return After::default();
            }
            let what = if task == Task::Load { "" } else { " due" };
            done.push(format!("{}{what}", now.to_zoned(schedule.zone.clone()).strftime("%d %H:%M:%S")));
            After::default()
        });
        done
    }

    fn zone(name: &str) -> Schedule {
        Schedule { zone: TimeZone::get(name).expect("a zone"), ..Schedule::default() }
    }

    fn cron(text: &str) -> Option<Cron> {
        Some(Cron::parse(text).expect("a cron line"))
    }

    #[rstest]
    #[case::spring("Europe/Berlin", "2026-03-28T20:00:00Z", "2026-03-30T10:00:00Z",
        &["29 03:30:00", "29 10:00:00", "30 02:30:00", "30 10:00:00"])]
    #[case::autumn("Europe/Berlin", "2026-10-24T20:00:00Z", "2026-10-26T10:00:00Z",
        &["25 02:30:00", "25 10:00:00", "26 02:30:00", "26 10:00:00"])]
    #[case::no_shifts("Asia/Kolkata", "2026-03-28T20:00:00Z", "2026-03-29T20:00:00Z",
        &["29 02:30:00", "29 10:00:00"])]
    fn a_day_of_schedule_has_each_of_its_times_once(
        #[case] name: &str,
        #[case] begin: &str,
        #[case] end: &str,
        #[case] expected: &[&str],
    ) {
        let schedule = Schedule { cron: cron("0,30 2,10 * * *"), on_arrival: false, ..zone(name) };
        let half_past_two_and_ten =
            |time: &String| time.ends_with("30:00") == (time.contains(" 02") || time.contains(" 03"));
        let found = day(&schedule, begin, end, &[]);
        let found: Vec<String> = found.into_iter().filter(half_past_two_and_ten).collect();
        assert_eq!(found, expected);
    }

    #[test]
    fn every_quarter_of_an_hour_is_so_in_real_time_and_within_its_hours() {
        let hours = Some(("01:00".parse().expect("a time"), "04:00".parse().expect("a time")));
        let every = Some(Duration::from_secs(15 * 60));
        let schedule = Schedule { every, hours, on_arrival: false, ..zone("Europe/Berlin") };
        // From one to four there are two hours in spring, three on other days and four in autumn.
        let count = |begin: &str, end: &str| day(&schedule, begin, end, &[]).len();
        assert_eq!(count("2026-03-28T20:00:00Z", "2026-03-29T20:00:00Z"), 8);
        assert_eq!(count("2026-04-28T20:00:00Z", "2026-04-29T20:00:00Z"), 12);
        assert_eq!(count("2026-10-24T20:00:00Z", "2026-10-25T20:00:00Z"), 16);
    }

    #[test]
    fn what_arrives_is_loaded_once_it_has_settled_and_missed_notices_are_made_up_for() {
        let schedule = zone("UTC");
        let rings = ["2026-03-02T01:00:00Z", "2026-03-02T01:00:01Z", "2026-03-02T09:00:00Z"];
        let found = day(&schedule, "2026-03-02T00:00:00Z", "2026-03-02T16:00:00Z", &rings);
        assert_eq!(found, ["02 00:00:00", "02 01:00:02", "02 07:00:02", "02 09:00:02", "02 15:00:02"]);
    }

    #[test]
    fn what_is_due_is_asked_for_at_the_start_and_at_its_time() {
        let schedule =
            Schedule { due: cron("0 7 * * *"), cron: cron("0 12 * * *"), on_arrival: false, ..zone("UTC") };
        let found = day(&schedule, "2026-03-02T00:00:00Z", "2026-03-03T08:00:00Z", &[]);
        assert_eq!(found, ["02 00:00:00 due", "02 07:00:00 due", "02 12:00:00", "03 07:00:00 due"]);
    }

    #[test]
    fn a_bell_is_heard_once_and_by_who_waits() {
        let wakeup = Wakeup::default();
        wakeup.wake();
        assert!(wakeup.wait(Duration::from_secs(60)));
        assert!(!wakeup.wait(Duration::from_millis(1)));
    }
}
