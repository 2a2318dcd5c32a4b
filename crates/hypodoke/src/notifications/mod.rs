//! Telling people: what happened is written into the ledger with whom it is for, once per event,
//! and sent from there until it has been taken.

mod mail;
mod notice;
mod notification;
mod webhook;

use std::time::Duration;

use hypodoke_core::drift::Drift;
use hypodoke_core::outcome::{Outcome, has_code};
use hypodoke_stores::{Ledger, NoticeEntry, StoreError};

pub use notice::Notice;

use crate::connections;
use crate::failure::Failure;
use crate::render::receipt::{missing_advice, missing_words};
use crate::schedule::Lateness;
use crate::settings::Settings;
use crate::settings::notify::{Channel, NotificationKind, NotifySettings};
use crate::wording::{line_advice, quoted, reasons};
use hypodoke_core::count;
use hypodoke_engine::clock;
use hypodoke_engine::lost_tables::TableLoss;
use hypodoke_engine::receipt::{Receipt, ReceiptLine};
pub use notification::Notification;

/// What a receipt has to tell, the worst first.
pub fn of_receipt(receipt: &Receipt) -> Vec<Notification> {
    let Some(batch) = receipt.batch else { return Vec::new() };
    let mut all: Vec<Notification> = receipt.files.iter().flat_map(|line| of_line(line, batch)).collect();
    all.extend(receipt.missing.iter().map(|missing| of_missing(missing, &receipt.began_at)));
    all.sort_by_key(|one| NotificationKind::ALL.iter().position(|event| *event == one.event));
    let totals = &receipt.totals;
    if all.is_empty() && totals.files_loaded > 0 {
        let files = count::files(totals.files_loaded);
        let feeds: Vec<&Option<String>> = receipt.files.iter().map(|line| &line.feed).collect();
        let one_feed = feeds.windows(2).all(|pair| pair[0] == pair[1]);
        all.push(Notification {
            event: NotificationKind::Success,
            key: format!("success {batch}"),
            feed: feeds.first().filter(|_| one_feed).and_then(|feed| (*feed).clone()),
            others: Vec::new(),
            path: None,
            reasons: Vec::new(),
            what: format!("{files} loaded, {}", count::rows(totals.rows_loaded)),
            advice: None,
        });
    }
    all
}

/// A place or something else in the way of a load: loads that meet it again and again tell of it
/// once a day.
pub fn of_trouble(trouble: &Failure) -> Notification {
    let day = clock::now() / (24 * 3_600_000_000);
    Notification {
        event: NotificationKind::Failure,
        key: format!("trouble {day} {}", trouble.message),
        feed: None,
        others: Vec::new(),
        path: None,
        reasons: Vec::new(),
        what: trouble.message.clone(),
        advice: trouble.advice.clone(),
    }
}

/// A feed whose files are due and have not come: told once for each moment.
pub fn of_lateness(late: &Lateness) -> Notification {
    Notification {
        event: NotificationKind::Silence,
        key: format!("silence {} {}", late.feed(), late.due()),
        feed: Some(late.feed().to_owned()),
        others: Vec::new(),
        path: None,
        reasons: Vec::new(),
        what: late.words(),
        advice: Some("ask whoever sends it, and look with: hypodoke ledger --late".to_owned()),
    }
}

/// A table that is gone or empty: told once a day.
fn of_missing(missing: &TableLoss, at: &str) -> Notification {
    let day = at.get(..10).unwrap_or(at);
    Notification {
        event: NotificationKind::Failure,
        key: format!("missing {day} {}", missing.table),
        feed: missing.feed.clone(),
        others: Vec::new(),
        path: None,
        reasons: Vec::new(),
        what: missing_words(missing),
        advice: Some(missing_advice(missing)),
    }
}

/// What there is to tell of a file.
fn of_line(line: &ReceiptLine, batch: i64) -> Vec<Notification> {
    let (table, path) = (line.table.as_deref().unwrap_or_default(), &line.path);
    let message = || reasons::of_line(line).unwrap_or_default();
    // The same file that fails or is held again for the same reason is no new event.
    let same = || format!("{table} {path} {} {} {}", line.bytes, line.modified, message());
    let mut all = Vec::new();
    let mut tell = |event: NotificationKind, key: String, what: String| {
        let advice = match event {
            NotificationKind::Rejects => Some(format!("hypodoke rejects {batch}")),
            NotificationKind::Drift => {
                line.feed.as_ref().map(|feed| format!("hypodoke drift {}", quoted(feed)))
            }
            _ => line_advice(line),
        };
        all.push(Notification {
            event,
            key,
            feed: line.feed.clone(),
            others: Vec::new(),
            path: Some(path.clone()),
            reasons: if line.outcome.counts() { Vec::new() } else { line.reasons.clone() },
            what,
            advice,
        });
    };
    match line.outcome {
        Outcome::Failed => tell(NotificationKind::Failure, format!("failed {}", same()), message()),
        Outcome::Held => tell(NotificationKind::Hold, format!("held {}", same()), message()),
        Outcome::Loaded | Outcome::Superseded => {
            if line.rows_rejected > 0 {
                let (rows, of) = (count::rows(line.rows_rejected), count::number(line.rows_read));
                let what = format!("{rows} rejected of {of}");
                tell(NotificationKind::Rejects, format!("rejects {batch} {table} {path}"), what);
            }
            let drift: Vec<String> =
                line.changes.iter().filter(|drift| drift.is_news()).map(Drift::words).collect();
            if !drift.is_empty() {
                tell(NotificationKind::Drift, format!("drift {batch} {table} {path}"), drift.join("\n"));
            }
        }
        _ => {}
    }
    all
}

/// Writes down what is to be told, and to whom. What somebody was told of already is left out.
pub fn note(
    store: &mut dyn Ledger,
    people: &[NotifySettings],
    notifications: &[Notification],
    receipt: Option<&Receipt>,
) -> Result<(), StoreError> {
    if people.is_empty() || notifications.is_empty() {
        return Ok(());
    }
    store.open_ledger()?;
    for to in people {
        let wanted: Vec<&Notification> =
            notifications.iter().filter(|notification| wants(to, notification)).collect();
        // Where another process tells of some of it at the same time, the rest is left to tell of.
        while !wanted.is_empty() && !add_news(store, to, &wanted, receipt)? {}
    }
    Ok(())
}

/// Writes down what somebody was not told of yet; `false` if another process has told of some of it
/// meanwhile, and nothing is written.
fn add_news(
    store: &mut dyn Ledger,
    to: &NotifySettings,
    wanted: &[&Notification],
    receipt: Option<&Receipt>,
) -> Result<bool, StoreError> {
    let keys: Vec<String> = wanted.iter().map(|notification| notification.key.clone()).collect();
    let pending = store.new_events(&to.name, &keys)?;
    let news: Vec<&Notification> = wanted.iter().copied().filter(|one| pending.contains(&one.key)).collect();
    if news.is_empty() {
        return Ok(true);
    }
    let keys: Vec<String> = news.iter().map(|notification| notification.key.clone()).collect();
    let at = clock::now();
    let notice = Notice::of(&news, receipt, &store.ledger_shown(), at);
    let entry = NoticeEntry { notice: 0, to: to.name.clone(), content: notice.to_json(), at };
    store.add_notice(&entry, &keys)
}

fn wants(to: &NotifySettings, notification: &Notification) -> bool {
    let is_of_feed = to.feeds.is_empty()
        || notification.feed.iter().chain(&notification.others).any(|feed| to.feeds.contains(feed));
    let is_of_reason = to.reasons.is_empty()
        || notification.reasons.is_empty()
        || to.reasons.iter().any(|code| has_code(&notification.reasons, code));
    to.on.contains(&notification.event) && is_of_feed && is_of_reason
}

/// What was not taken within a day is no news any more.
const STALE: i64 = 24 * 3_600_000_000;

/// Sends what is still to be sent and was not tried within so long; gives what was in the way.
pub fn deliver(
    store: &mut dyn Ledger,
    people: &[NotifySettings],
    untried_for: Duration,
) -> Result<Vec<Failure>, StoreError> {
    if people.is_empty() || !store.has_ledger()? {
        return Ok(Vec::new());
    }
    let now = clock::now();
    let tried_before = now - i64::try_from(untried_for.as_micros()).unwrap_or(i64::MAX);
    let mut troubles = Vec::new();
    for entry in store.take_notices(now, tried_before, now - STALE)? {
        let Some(to) = people.iter().find(|to| to.name == entry.to) else {
            let gone = "the configuration does not name them any more";
            store.finish_notice(entry.notice, clock::now(), Some(gone))?;
            continue;
        };
        let sent = Notice::from_json(&entry.content).map_err(|why| unreadable(to, &why));
        let sent = sent.and_then(|notice| send(to, &notice));
        let trouble = sent.as_ref().err().map(|failure| failure.message.clone());
        store.finish_notice(entry.notice, clock::now(), trouble.as_deref())?;
        troubles.extend(sent.err());
    }
    Ok(troubles)
}

/// A message that the ledger does not give back as it was written.
fn unreadable(to: &NotifySettings, why: &serde_json::Error) -> Failure {
    Failure::load(format!(
        "[notify.{}] was not told: the message in the ledger cannot be read: {why}",
        to.name
    ))
    .advise("another program has changed it; what it was about is in the ledger: hypodoke ledger")
}

/// Sends one message, now.
pub fn send(to: &NotifySettings, notice: &Notice) -> Result<(), Failure> {
    let (sent, whom) = match &to.way {
        Channel::Mail(mail) => (mail::send(mail, notice), format!("{}:{}", mail.host, mail.port)),
        Channel::Webhook(hook) => (webhook::send(hook, notice), hook.shown.clone()),
    };
    sent.map_err(|why| {
        Failure::load(format!("[notify.{}] could not be notified by {whom}: {why}", to.name))
            .advise("the message is kept in the ledger and tried again for a day")
    })
}

/// Tells what ended a load before there was a receipt: by the ledger, or directly where that is
/// away too. Gives what was in the way.
pub fn of_failure(settings: &Settings, failure: &Failure) -> Vec<Failure> {
    if settings.notify.is_empty() {
        return Vec::new();
    }
    let notification = of_trouble(failure);
    let told = connections::ledger(&settings.staging).and_then(|mut ledger| {
        note(ledger.as_mut(), &settings.notify, std::slice::from_ref(&notification), None)?;
        deliver(ledger.as_mut(), &settings.notify, Duration::ZERO)
    });
    told.unwrap_or_else(|_| at_once(&settings.notify, &notification, &settings.staging.to_string()))
}

/// Tells all of them directly of what cannot be written down, as when the database is away.
pub fn at_once(people: &[NotifySettings], notification: &Notification, shown: &str) -> Vec<Failure> {
    let notice = Notice::of(&[notification], None, shown, clock::now());
    people.iter().filter(|to| wants(to, notification)).filter_map(|to| send(to, &notice).err()).collect()
}
