//! When feeds are loaded, and by when their files are due.

use jiff::Timestamp;
use jiff::civil::Time;
use jiff::tz::{TimeZone, db};

use super::reader::{Placed, Section, suggest};
use crate::failure::Failure;
use crate::schedule::Schedule;
use crate::schedule::cron::Cron;
use crate::values::duration;

/// Reads `[feed.NAME.schedule]`.
pub fn read(section: &mut Section<'_>) -> Result<Schedule, Failure> {
    let Some(mut section) = section.only("schedule")? else { return Ok(Schedule::default()) };
    let zone = match section.text("time_zone")? {
        Some(name) => time_zone(&section, &name)?,
        None => TimeZone::system(),
    };
    let every = match section.text("every")? {
        Some(text) => match duration(&text.value).filter(|span| span.as_millis() >= 1000) {
            Some(span) => Some(span),
            None => {
                let what = format!(
                    "`{}` is not a duration of a second or more; write \"15m\" or \"6h\"",
                    text.value
                );
                return Err(section.wrong(&text, what));
            }
        },
        None => None,
    };
    let cron = match section.text("cron")? {
        Some(text) => Some(times(&section, &text, &text.value, &zone)?),
        None => None,
    };
    let due = match section.text("due")? {
        Some(text) => Some(match text.value.parse::<Time>() {
            Ok(time) => times(&section, &text, &format!("{} {} * * *", time.minute(), time.hour()), &zone)?,
            Err(_) if text.value.contains(' ') => times(&section, &text, &text.value, &zone)?,
            Err(_) => {
                let what = format!(
                    "`{}` is not a time; write due = \"07:00\", or for some days as cron does, \"0 7 * * 1-5\"",
                    text.value
                );
                return Err(section.wrong(&text, what));
            }
        }),
        None => None,
    };
    let (from, until) = (time(&mut section, "from")?, time(&mut section, "until")?);
    let hours = match (from, until) {
        (None, None) => None,
        (Some((from, _)), Some((until, _))) if from != until => Some((from, until)),
        (Some(_), Some((_, at))) => {
            return Err(section.wrong(&at, "`until` is the same as `from`, so that it would never be time"));
        }
        (Some((_, at)), None) => return Err(section.wrong(&at, "`from` goes with `until`")),
        (None, Some((_, at))) => return Err(section.wrong(&at, "`until` goes with `from`")),
    };
    let on_arrival = section.truth("on_arrival")?;
    if on_arrival == Some(false) && every.is_none() && cron.is_none() {
        let at = section.text("time_zone")?.unwrap_or(Placed { value: String::new(), span: None });
        return Err(section
            .wrong(&at, "with on_arrival = false the feed would never be loaded")
            .advise("say when, with `every` or `cron`"));
    }
    section.finish()?;
    let on_arrival = on_arrival.unwrap_or(every.is_none() && cron.is_none());
    Ok(Schedule { every, cron, on_arrival, zone, hours, due })
}

fn time(section: &mut Section<'_>, key: &'static str) -> Result<Option<(Time, Placed<String>)>, Failure> {
    let Some(text) = section.text(key)? else { return Ok(None) };
    match text.value.parse::<Time>() {
        Ok(time) => Ok(Some((time, text))),
        Err(_) => {
            let what = format!("`{}` is not a time of day; write {key} = \"06:00\"", text.value);
            Err(section.wrong(&text, what))
        }
    }
}

fn times(section: &Section<'_>, at: &Placed<String>, text: &str, zone: &TimeZone) -> Result<Cron, Failure> {
    let cron = Cron::parse(text).map_err(|why| section.wrong(at, why))?;
    match cron.next(Timestamp::now(), zone) {
        Some(_) => Ok(cron),
        None => {
            let what = format!("`{text}` never comes: no month has such a day");
            Err(section.wrong(at, what))
        }
    }
}

fn time_zone(section: &Section<'_>, name: &Placed<String>) -> Result<TimeZone, Failure> {
    TimeZone::get(&name.value).map_err(|_| {
        let known: Vec<String> = db().available().map(|zone| zone.as_str().to_owned()).collect();
        let known: Vec<&str> = known.iter().map(String::as_str).collect();
        let what = format!(
            "there is no time zone `{}`; they have names like \"Europe/Lisbon\" or \"UTC\"",
            name.value
        );
        suggest(section.wrong(name, what), &name.value, &known)
    })
}
