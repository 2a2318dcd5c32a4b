//! `hypodoke draft --ask`: a few questions for each feed, each with the answer that its files suggest.
//! Nothing is written before the end.

use hypodoke_core::count;
use hypodoke_core::drift::name_likeness;
use hypodoke_core::evidence::ColumnReport;
use hypodoke_core::names::match_key;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::event::Silent;
use hypodoke_engine::inspect::preview;
use hypodoke_engine::job::{Candidate, Feed};
use hypodoke_engine::profile::FormatHints;
use hypodoke_stores::{Mode, Tables};

use crate::ask;
use crate::commands::context::Context;
use crate::failure::Failure;
use crate::render;
use crate::render::draft::FeedDraft;
use crate::render::feed_plan::{FeedPlan, LoadTimes, OnChange};
use crate::values::{column_names, duration, free_table};

/// How many rows are shown of a feed.
const SHOWN_ROWS: usize = 5;

/// What is known while somebody is asked.
pub struct Interview<'a> {
    /// The files.
    pub files: &'a [Candidate],
    /// How they are read.
    pub feed: &'a Feed,
    /// The database, where it is there.
    pub store: Option<Box<dyn Tables>>,
    /// How to print.
    pub context: &'a Context,
}

/// A question and the step back from it.
type Step = fn(&mut Interview<'_>, &FeedDraft<'_>, &mut FeedPlan) -> Result<Went, Failure>;

/// Where an answer leads.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Went {
    /// To the next question.
    On,
    /// There was nothing to ask.
    Passed,
    /// To the one before.
    Back,
}

/// The questions about a feed, in their order.
const STEPS: [Step; 9] = [wanted, header, table, mapping, mode, key, on_change, rejects, when];

impl Interview<'_> {
    /// Asks about every feed; the plans begin with what the files suggest.
    ///
    /// # Errors
    ///
    /// The person has interrupted, or the database does not answer.
    pub fn about(&mut self, feeds: &[FeedDraft<'_>], plans: &mut [FeedPlan]) -> Result<(), Failure> {
        let mut at = 0;
        while let (Some(feed), Some(plan)) = (feeds.get(at), plans.get_mut(at)) {
            self.show(feed, &format!("{} of {}", at + 1, feeds.len()))?;
            match self.about_one(feed, plan)? {
                Went::Back => at = at.saturating_sub(1),
                Went::On | Went::Passed => at += 1,
            }
        }
        Ok(())
    }

    fn about_one(&mut self, feed: &FeedDraft<'_>, plan: &mut FeedPlan) -> Result<Went, Failure> {
        // The questions that were asked: back is to the last of them.
        let mut asked: Vec<usize> = Vec::new();
        let mut at = 0;
        while let Some(step) = STEPS.get(at) {
            match step(self, feed, plan)? {
                Went::On if !plan.is_wanted => return Ok(Went::On),
                Went::On => {
                    asked.push(at);
                    at += 1;
                }
                Went::Passed => at += 1,
                Went::Back => match asked.pop() {
                    Some(before) => at = before,
                    None => return Ok(Went::Back),
                },
            }
        }
        Ok(Went::On)
    }

    /// What was found of a feed, and its first rows.
    fn show(&mut self, feed: &FeedDraft<'_>, place: &str) -> Result<(), Failure> {
        let main = feed.main();
        let text = format!(
            "\n{place}: {}, {} in {}, {}\n",
            clean(&feed.name),
            clean(&main.pattern),
            count::files(main.files.len() as u64),
            count::rows(main.rows)
        );
        render::print(&text);
        let first = main.files.first().and_then(|at| self.files.get(*at));
        if let Some(file) = first {
            let previews = preview(file, self.feed, SHOWN_ROWS, FormatHints::default, &Silent)?;
            for table in previews.iter().take(3) {
                render::print(&render::preview::text(&file.shown, table, self.context.screen));
            }
        }
        for warning in main.warnings.iter().take(4) {
            render::print(&format!("! {}\n", clean(warning)));
        }
        Ok(())
    }
}

fn wanted(_: &mut Interview<'_>, feed: &FeedDraft<'_>, plan: &mut FeedPlan) -> Result<Went, Failure> {
    let question = format!("Load these files as the feed `{}`?", feed.name);
    match ask::confirm(&question, "no leaves them out of the configuration", plan.is_wanted)? {
        None => Ok(Went::Back),
        Some(answer) => {
            plan.is_wanted = answer;
            Ok(Went::On)
        }
    }
}

fn header(_: &mut Interview<'_>, feed: &FeedDraft<'_>, plan: &mut FeedPlan) -> Result<Went, Failure> {
    if !feed.is_nameless {
        return Ok(Went::Passed);
    }
    let columns = &feed.main().columns;
    let usual: Vec<String> = match plan.header.is_empty() {
        true => columns.iter().map(|column| column.name.clone()).collect(),
        false => plan.header.clone(),
    };
    loop {
        let help = format!("the files have no header; {} names with commas between them", columns.len());
        let Some(answer) = ask::text("What are its columns called?", &help, &usual.join(","))? else {
            return Ok(Went::Back);
        };
        let names: Vec<String> = answer.split(',').map(|name| name.trim().to_owned()).collect();
        let why = match column_names(&names) {
            Err(why) => why,
            Ok(()) if names.len() != columns.len() => {
                format!("it has {} columns, and these are {} names", columns.len(), names.len())
            }
            Ok(()) => {
                let numbered = names.iter().zip(columns).all(|(name, column)| *name == column.name);
                plan.header = if numbered { Vec::new() } else { names };
                return Ok(Went::On);
            }
        };
        render::print(&format!("  {why}\n"));
    }
}

fn table(interview: &mut Interview<'_>, feed: &FeedDraft<'_>, plan: &mut FeedPlan) -> Result<Went, Failure> {
    let layouts = match &mut interview.store {
        Some(store) => match store.ledger().has_ledger()? {
            true => store.ledger().newest_layouts()?,
            false => Vec::new(),
        },
        None => Vec::new(),
    };
    let mut names = vec![feed.name.clone()];
    names.extend(layouts.into_iter().map(|(name, _)| name).filter(|name| *name != feed.name));
    let mut answers = vec![format!("a table of its own, `{}`", feed.name)];
    answers.extend(names.iter().skip(1).map(|name| format!("`{name}`, which is there")));
    answers.push("another one".to_owned());
    let suggested = plan.table.as_ref().and_then(|table| names.iter().position(|name| name == table));
    let Some(answer) = ask::choose("Which table?", "", &answers, suggested.unwrap_or_default())? else {
        return Ok(Went::Back);
    };
    match names.get(answer) {
        Some(name) => plan.table = (answer > 0).then(|| name.clone()),
        None => {
            let Some(name) =
                ask::text("What is it called?", "a table that is there, or a new one", &feed.name)?
            else {
                return table(interview, feed, plan);
            };
            if let Err(why) = free_table(&name) {
                render::print(&format!("  {why}\n"));
                return table(interview, feed, plan);
            }
            plan.table = (name != feed.name).then_some(name);
        }
    }
    Ok(Went::On)
}

/// Columns that the table has not under their names, where it is there.
fn mapping(
    interview: &mut Interview<'_>,
    feed: &FeedDraft<'_>,
    plan: &mut FeedPlan,
) -> Result<Went, Failure> {
    plan.names.clear();
    let (Some(store), Some(table)) = (&mut interview.store, &plan.table) else { return Ok(Went::Passed) };
    let Some(shape) = store.table(table)? else { return Ok(Went::Passed) };
    let is_there = |name: &str| shape.columns.iter().any(|column| match_key(&column.name) == match_key(name));
    let strange: Vec<&ColumnReport> =
        feed.main().columns.iter().filter(|column| !is_there(&column.name)).collect();
    if strange.is_empty() {
        return Ok(Went::Passed);
    }
    let given =
        |name: &str| feed.main().columns.iter().any(|column| match_key(&column.name) == match_key(name));
    let free: Vec<String> = shape
        .columns
        .iter()
        .filter(|column| !given(&column.name))
        .map(|column| column.name.clone())
        .collect();
    for column in strange {
        let mut order: Vec<&String> = free.iter().collect();
        order.sort_by(|a, b| {
            name_likeness(&column.name, b).total_cmp(&name_likeness(&column.name, a)).then(a.cmp(b))
        });
        let mut answers: Vec<String> = order.iter().map(|name| format!("it is `{name}`")).collect();
        let own = answers.len();
        answers.extend(["a column of its own".to_owned(), "leave it out".to_owned()]);
        let likely = order.first().is_some_and(|name| name_likeness(&column.name, name) > 0.6);
        let question = format!("`{table}` has no `{}`:", clean(&column.source));
        let suggested = if likely { 0 } else { own };
        let Some(answer) = ask::choose(&question, "", &answers, suggested)? else { return Ok(Went::Back) };
        match order.get(answer) {
            Some(name) => plan.names.push((column.source.clone(), Some((*name).clone()))),
            None if answer > own => plan.names.push((column.source.clone(), None)),
            None => {}
        }
    }
    Ok(Went::On)
}

fn mode(_: &mut Interview<'_>, feed: &FeedDraft<'_>, plan: &mut FeedPlan) -> Result<Went, Failure> {
    let what = |mode: Mode| match mode {
        Mode::Append => "append: each file's rows are added",
        Mode::Replace => "replace: the newest file is all that the table holds",
        Mode::Upsert => "upsert: by key, later rows take the place of earlier ones",
        Mode::InsertNew => "insert-new: by key, only rows that are new are added",
        Mode::History => "history: by key, every version of a row is kept, with when it held",
    };
    let answers: Vec<String> = Mode::WORDS.iter().map(|(_, mode)| what(*mode).to_owned()).collect();
    let suggested = Mode::WORDS.iter().position(|(_, mode)| *mode == plan.mode).unwrap_or_default();
    let about = if feed.key.is_empty() {
        "no columns tell the rows of these files apart".to_owned()
    } else {
        let verb = if feed.key.len() == 1 { "tells" } else { "tell" };
        format!("{} {verb} the rows of these files apart", feed.key.join(", "))
    };
    let Some(answer) = ask::choose("What becomes of the rows of each file?", &about, &answers, suggested)?
    else {
        return Ok(Went::Back);
    };
    plan.mode = Mode::WORDS.get(answer).map(|(_, mode)| *mode).unwrap_or_default();
    Ok(Went::On)
}

fn key(_: &mut Interview<'_>, feed: &FeedDraft<'_>, plan: &mut FeedPlan) -> Result<Went, Failure> {
    if !plan.mode.has_key() {
        return Ok(Went::Passed);
    }
    let usual = if plan.key.is_empty() { feed.key.join(",") } else { plan.key.join(",") };
    loop {
        let Some(answer) =
            ask::text("Which columns tell rows apart?", "names with commas between them", &usual)?
        else {
            return Ok(Went::Back);
        };
        let names: Vec<String> =
            answer.split(',').map(|name| name.trim().to_owned()).filter(|name| !name.is_empty()).collect();
        let known = |name: &String| {
            let of_file = feed.main().columns.iter().any(|column| match_key(&column.name) == match_key(name));
            of_file || plan.header.iter().any(|given| match_key(given) == match_key(name))
        };
        match names.iter().find(|name| !known(name)) {
            None if !names.is_empty() => {
                plan.key = names;
                return Ok(Went::On);
            }
            None => render::print("  this mode needs a key\n"),
            Some(unknown) => render::print(&format!("  there is no column `{}`\n", clean(unknown))),
        }
    }
}

fn on_change(_: &mut Interview<'_>, _: &FeedDraft<'_>, plan: &mut FeedPlan) -> Result<Went, Failure> {
    let answers = [
        "follow: add new columns, widen types, and hold what is in doubt".to_owned(),
        "hold: a person looks at whatever differs".to_owned(),
    ];
    let suggested = usize::from(plan.on_change == OnChange::Hold);
    let Some(answer) =
        ask::choose("When files change?", "columns that come, go or need wider types", &answers, suggested)?
    else {
        return Ok(Went::Back);
    };
    plan.on_change = if answer == 0 { OnChange::Follow } else { OnChange::Hold };
    Ok(Went::On)
}

fn rejects(_: &mut Interview<'_>, _: &FeedDraft<'_>, plan: &mut FeedPlan) -> Result<Went, Failure> {
    const LIMITS: [Option<&str>; 4] = [None, Some("0"), Some("1%"), Some("100")];
    let answers = [
        "load the others, and make it known (exit code 3)".to_owned(),
        "hold the file: not one is fine".to_owned(),
        "up to 1% of the rows is fine; hold a file with more".to_owned(),
        "up to 100 rows are fine; hold a file with more".to_owned(),
    ];
    let suggested = LIMITS.iter().position(|limit| *limit == plan.rejects.as_deref()).unwrap_or_default();
    let help = "they are kept whole, with why: hypodoke rejects";
    let Some(answer) = ask::choose("When rows cannot be loaded?", help, &answers, suggested)? else {
        return Ok(Went::Back);
    };
    plan.rejects = LIMITS.get(answer).copied().flatten().map(str::to_owned);
    Ok(Went::On)
}

fn when(_: &mut Interview<'_>, _: &FeedDraft<'_>, plan: &mut FeedPlan) -> Result<Went, Failure> {
    let answers = [
        "as files arrive, while `hypodoke watch` runs; and by `hypodoke load`".to_owned(),
        "every day at a time".to_owned(),
        "again and again, so long after the last time".to_owned(),
    ];
    let suggested = match plan.when {
        LoadTimes::OnArrival => 0,
        LoadTimes::Daily(_) => 1,
        LoadTimes::Every(_) => 2,
    };
    let Some(answer) = ask::choose("When are they loaded?", "", &answers, suggested)? else {
        return Ok(Went::Back);
    };
    plan.when = match answer {
        0 => LoadTimes::OnArrival,
        1 => match time_of_day(plan)? {
            Some(time) => LoadTimes::Daily(time),
            None => return Ok(Went::Back),
        },
        _ => match span()? {
            Some(span) => LoadTimes::Every(span),
            None => return Ok(Went::Back),
        },
    };
    Ok(Went::On)
}

/// A time of day and whose clock it is by.
fn time_of_day(plan: &mut FeedPlan) -> Result<Option<String>, Failure> {
    loop {
        let Some(time) = ask::text("At what time?", "hours and minutes", "07:00")? else { return Ok(None) };
        if time.parse::<jiff::civil::Time>().is_err() || !time.contains(':') {
            render::print(&format!("  `{}` is not a time; write 07:00\n", clean(&time)));
            continue;
        }
        let own = jiff::tz::TimeZone::system().iana_name().unwrap_or("UTC").to_owned();
        let usual = plan.zone.clone().unwrap_or_else(|| own.clone());
        let Some(zone) = ask::text("By whose clock?", "a time zone, as Europe/Lisbon", &usual)? else {
            continue;
        };
        if jiff::tz::TimeZone::get(&zone).is_err() {
            render::print(&format!("  there is no time zone `{}`\n", clean(&zone)));
            continue;
        }
        plan.zone = (zone != own).then_some(zone);
        return Ok(Some(time));
    }
}

fn span() -> Result<Option<String>, Failure> {
    loop {
        let Some(span) = ask::text("How long after?", "15m, 6h", "15m")? else { return Ok(None) };
        if duration(&span).is_some_and(|span| span.as_secs() > 0) {
            return Ok(Some(span));
        }
        render::print(&format!("  `{}` is not a duration; write 15m or 6h\n", clean(&span)));
    }
}
