//! `hypodoke settle` on a terminal: what is held is decided group by group, or file by file.

use hypodoke_core::count;
use hypodoke_core::drift::Remedy;
use hypodoke_core::sanitize::clean;
use hypodoke_engine::decide::Settlement;
use hypodoke_stores::{FileEntry, Tables};

use super::decide::{Wish, settle_one};
use super::open::OpenFiles;
use crate::ask;
use crate::commands::context::Context;
use crate::exit::Exit;
use crate::failure::Failure;
use crate::render;
use crate::render::paths::{shown, some};
use crate::render::settle::HeldGroup;
use crate::settings::Settings;
use crate::wording::reasons;

/// Asks about everything that waits.
///
/// # Errors
///
/// The database does not answer, or the person has interrupted.
pub fn about_all(
    store: &mut dyn Tables,
    open: &OpenFiles,
    settings: Option<&Settings>,
    context: &Context,
) -> Result<Exit, Failure> {
    let groups = open.groups(store, settings);
    // How many files of each are decided; one that is gone back to may be decided anew.
    let mut done = vec![0; groups.len()];
    let mut at = 0;
    while let (Some(group), Some(done)) = (groups.get(at), done.get_mut(at)) {
        let place = format!("{} of {}", at + 1, groups.len());
        match about_group(store, group, &place, settings, context)? {
            Answer::Decided(files) => *done = files,
            Answer::Left => {}
            Answer::Back => {
                at = at.saturating_sub(1);
                continue;
            }
        }
        at += 1;
    }
    let decided: usize = done.iter().sum();
    let left = groups.iter().map(|group| group.files.len()).sum::<usize>().saturating_sub(decided);
    let what = match (decided, left) {
        (0, _) => "nothing is decided".to_owned(),
        (_, 0) => format!("{} decided; the next `hypodoke load` takes them", count::files(decided as u64)),
        _ => {
            format!("{} decided, {} left for later", count::files(decided as u64), count::files(left as u64))
        }
    };
    render::print(&format!("{what}\n"));
    Ok(if left == 0 { Exit::Done } else { Exit::NeedsAttention })
}

enum Answer {
    Decided(usize),
    Left,
    Back,
}

/// An answer that may be given about a group.
enum Way {
    Decide(Remedy),
    OneByOne,
    Later,
}

fn about_group(
    store: &mut dyn Tables,
    group: &HeldGroup<'_>,
    place: &str,
    settings: Option<&Settings>,
    context: &Context,
) -> Result<Answer, Failure> {
    let paths: Vec<&str> = group.files.iter().map(|entry| entry.arrival.path.as_str()).collect();
    render::print(&format!("\n{place}: {}\n", some(paths.into_iter(), 3)));
    for why in &group.why {
        render::print(&format!("  {}\n", clean(why)));
    }
    let mut ways: Vec<Way> = group.remedies.iter().cloned().map(Way::Decide).collect();
    if !group.remedies.contains(&Remedy::Discard) {
        ways.push(Way::Decide(Remedy::Discard));
    }
    if group.files.len() > 1 {
        ways.push(Way::OneByOne);
    }
    ways.push(Way::Later);
    let words: Vec<String> = ways.iter().map(Way::words).collect();
    loop {
        let Some(answer) = ask::choose("What becomes of it?", "", &words, 0)? else {
            return Ok(Answer::Back);
        };
        match ways.get(answer) {
            Some(Way::Decide(remedy)) => {
                if let Some(decided) = decide(store, &group.files, remedy, settings, context)? {
                    return Ok(Answer::Decided(decided));
                }
            }
            Some(Way::OneByOne) => match one_by_one(store, group, settings, context)? {
                // Back from the first file is back to the question about all of them.
                Answer::Back => {}
                answer => return Ok(answer),
            },
            _ => return Ok(Answer::Left),
        }
    }
}

fn one_by_one(
    store: &mut dyn Tables,
    group: &HeldGroup<'_>,
    settings: Option<&Settings>,
    context: &Context,
) -> Result<Answer, Failure> {
    let mut done = vec![0; group.files.len()];
    let mut at = 0;
    while let (Some(file), Some(done)) = (group.files.get(at), done.get_mut(at)) {
        let one = HeldGroup {
            files: vec![*file],
            why: reasons::lines_of_entry(file),
            remedies: group.remedies.clone(),
            is_whole_feed: false,
        };
        let place = format!("file {} of {}", at + 1, group.files.len());
        match about_group(store, &one, &place, settings, context)? {
            Answer::Decided(files) => *done = files,
            Answer::Left => {}
            Answer::Back if at == 0 => return Ok(Answer::Back),
            Answer::Back => {
                at -= 1;
                continue;
            }
        }
        at += 1;
    }
    let decided: usize = done.iter().sum();
    Ok(if decided == 0 { Answer::Left } else { Answer::Decided(decided) })
}

/// Shows what would come of a decision, and makes it if the person says so; `None` if not.
fn decide(
    store: &mut dyn Tables,
    files: &[&FileEntry],
    remedy: &Remedy,
    settings: Option<&Settings>,
    context: &Context,
) -> Result<Option<usize>, Failure> {
    let settlement = settlement_of(remedy);
    let trial = Wish { settlement: settlement.clone(), why: None, write: false, dry_run: true };
    let Some(first) = files.first() else { return Ok(None) };
    let mut lasts = false;
    if !settlement.discard {
        match settle_one(store, settings, context.config.as_deref(), first, &trial) {
            Ok(settled) => {
                lasts = settled.diff.is_some();
                render::print(&render::settle::settled(&settled, context.screen));
            }
            Err(failure) => {
                context.complain(&failure);
                return Ok(None);
            }
        }
    }
    let question = match files.len() {
        1 => format!("Decide so about {}?", shown(&first.arrival.path)),
        many => format!("Decide so about all {}?", count::files(many as u64)),
    };
    if ask::confirm(&question, "", true)? != Some(true) {
        return Ok(None);
    }
    let write = lasts
        && ask::confirm("Write the change into the configuration, for the files to come?", "", true)?
            == Some(true);
    let mut decided = 0;
    for (at, file) in files.iter().enumerate() {
        let wish =
            Wish { settlement: settlement.clone(), why: None, write: write && at == 0, dry_run: false };
        match settle_one(store, settings, context.config.as_deref(), file, &wish) {
            Ok(_) => decided += 1,
            Err(failure) => context.complain(&failure),
        }
    }
    Ok(Some(decided))
}

/// The settlement that one remedy comes to.
fn settlement_of(remedy: &Remedy) -> Settlement {
    let mut settlement = Settlement::default();
    match remedy {
        Remedy::Rename(old, new) => settlement.rename.push((old.clone(), new.clone())),
        Remedy::AddColumn(column) => settlement.add_column.push(column.clone()),
        Remedy::IgnoreColumn(column) => settlement.ignore_column.push(column.clone()),
        Remedy::AsText(column) => settlement.as_text.push(column.clone()),
        Remedy::LoadAnyway => settlement.load_anyway = true,
        Remedy::Discard => settlement.discard = true,
    }
    settlement
}

impl Way {
    fn words(&self) -> String {
        match self {
            Way::Decide(Remedy::Rename(old, new)) => format!("`{new}` is `{old}` under a new name"),
            Way::Decide(Remedy::AddColumn(column)) => format!("add `{column}` to the table"),
            Way::Decide(Remedy::IgnoreColumn(column)) => format!("leave `{column}` out"),
            Way::Decide(Remedy::AsText(column)) => format!("make `{column}` text"),
            Way::Decide(Remedy::LoadAnyway) => "load it as it is".to_owned(),
            Way::Decide(Remedy::Discard) => "discard it: it is never loaded".to_owned(),
            Way::OneByOne => "decide file by file".to_owned(),
            Way::Later => "leave it for later".to_owned(),
        }
    }
}
