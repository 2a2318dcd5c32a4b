//! Transactions of a load: one where rows and ledger are in one database, else one in each, with an intent in
//! the ledger that tells what to do if they do not both come to their end (see [`crate::ledger::intents`]).

use super::{claims, pairing};
use crate::error::StoreError;
use crate::failpoint::failpoint;
use crate::ledger::files_in_force::forget;
use crate::ledger::intents::{self, OpenLoad, Undo};
use crate::ledger::joined_layouts::JoinedLayout;
use crate::ledger::loaded_files::keep_layouts;
use crate::sql::{Scope, SqlConnection};
use crate::tables::link::OpenGroup;
use crate::tables::load_target::LoadTarget;

/// Begins a transaction in both databases, or in the one that there is. The ledger's comes first: where that
/// is a file, whoever has it has no need to wait for anything else.
pub fn begin<T: LoadTarget>(store: &mut T, scope: Scope) -> Result<(), StoreError> {
    if let Some(ledger) = store.link_mut().elsewhere() {
        ledger.begin(scope)?;
    }
    let begun = store.begin(scope);
    if begun.is_err()
        && let Some(ledger) = store.link_mut().elsewhere()
    {
        // If the connection is gone, the database undoes it by itself.
        let _ = ledger.rollback(scope);
    }
    begun
}

/// Undoes what was done in both databases.
pub fn rollback<T: LoadTarget>(store: &mut T, scope: Scope) -> Result<(), StoreError> {
    let ledger = match store.link_mut().elsewhere() {
        Some(ledger) => ledger.rollback(scope),
        None => Ok(()),
    };
    store.rollback(scope).and(ledger)
}

/// Keeps a load, or makes it a part of the group that is open.
pub fn commit_load<T: LoadTarget>(
    store: &mut T,
    scope: Scope,
    file: i64,
    undo: Undo,
) -> Result<(), StoreError> {
    if !store.link().is_elsewhere() {
        undo.forgets.iter().try_for_each(|file| forget(store.ledger(), *file))?;
        failpoint!("commit.before");
        store.commit(scope)?;
        failpoint!("commit.after");
        return Ok(());
    }
    let load = OpenLoad { file, token: pairing::new_token(), undo };
    if scope == Scope::Whole {
        return commit_apart(store, &[load]);
    }
    store.ledger().commit(scope)?;
    store.commit(scope)?;
    if let Some(group) = &mut store.link_mut().group {
        group.loads.push(load);
    }
    Ok(())
}

/// Commits both transactions where no rows were loaded: neither needs the other.
pub fn commit_ledger_only<T: LoadTarget>(store: &mut T, scope: Scope) -> Result<(), StoreError> {
    if let Some(ledger) = store.link_mut().elsewhere() {
        ledger.commit(scope)?;
    }
    store.commit(scope)
}

/// Begins a group.
pub fn begin_group<T: LoadTarget>(store: &mut T) -> Result<(), StoreError> {
    store.before_group()?;
    begin(store, Scope::Whole)?;
    share(store, true);
    store.link_mut().group = Some(OpenGroup::default());
    store.group_began();
    Ok(())
}

/// Ends the group that is open: keeps its files, or takes them back.
pub fn end_group<T: LoadTarget>(store: &mut T, keep: bool) -> Result<(), StoreError> {
    let Some(group) = &mut store.link_mut().group else {
        let why = "the transaction of several files is not open any more".to_owned();
        return Err(StoreError::Lost { shown: store.shown(), why });
    };
    let (layouts, loads) = (std::mem::take(&mut group.layouts), std::mem::take(&mut group.loads));
    let ended = match keep {
        true => keep_group(store, layouts, &loads),
        false => Ok(()),
    };
    store.link_mut().group = None;
    share(store, false);
    let ended = match (keep, ended) {
        (true, Ok(())) => Ok(()),
        (true, Err(error)) => {
            let _ = rollback(store, Scope::Whole);
            Err(error)
        }
        (false, _) => rollback(store, Scope::Whole),
    };
    let after = store.after_group(keep && ended.is_ok());
    ended.and(after)
}

fn keep_group<T: LoadTarget>(
    store: &mut T,
    layouts: Vec<JoinedLayout>,
    loads: &[OpenLoad],
) -> Result<(), StoreError> {
    store.finish_group()?;
    keep_layouts(store.ledger(), layouts)?;
    if store.link().is_elsewhere() {
        return commit_apart(store, loads);
    }
    failpoint!("group.commit.before");
    store.commit(Scope::Whole)?;
    failpoint!("group.commit.after");
    Ok(())
}

fn share<T: LoadTarget>(store: &mut T, is_shared: bool) {
    store.share(is_shared);
    if let Some(ledger) = store.link_mut().elsewhere() {
        ledger.share(is_shared);
    }
}

/// Commits loads in both databases: entries and intents, then rows and marks, then the intents go.
fn commit_apart<T: LoadTarget>(store: &mut T, loads: &[OpenLoad]) -> Result<(), StoreError> {
    if !loads.is_empty() {
        let finished = std::mem::take(&mut store.link_mut().finished);
        pairing::remove_marks(store, &finished)?;
        pairing::add_marks(store, loads)?;
        intents::add(store.ledger(), loads)?;
    }
    failpoint!("apart.ledger.before");
    store.ledger().commit(Scope::Whole)?;
    failpoint!("apart.tables.before");
    if let Err(error) = store.commit(Scope::Whole) {
        take_back_refused(store, loads, &error);
        return Err(error);
    }
    failpoint!("apart.tables.after");
    if loads.is_empty() {
        return Ok(());
    }
    in_ledger(store, |ledger| loads.iter().try_for_each(|load| intents::finish(ledger, load)))?;
    failpoint!("apart.done");
    let tokens = loads.iter().map(|load| load.token.clone());
    store.link_mut().finished.extend(tokens);
    Ok(())
}

/// Takes entries back whose rows the tables' database has refused to commit. Where it did not answer, whoever
/// finds the intents will ask it.
fn take_back_refused<T: LoadTarget>(store: &mut T, loads: &[OpenLoad], error: &StoreError) {
    let _ = store.rollback(Scope::Whole);
    if !matches!(error, StoreError::Lost { .. }) {
        let _ = in_ledger(store, |ledger| loads.iter().try_for_each(|load| intents::take_back(ledger, load)));
    }
}

fn in_ledger<T: LoadTarget>(
    store: &mut T,
    work: impl FnOnce(&mut dyn SqlConnection) -> Result<(), StoreError>,
) -> Result<(), StoreError> {
    let ledger = store.ledger();
    ledger.begin(Scope::Whole)?;
    let done = work(ledger).and_then(|()| ledger.commit(Scope::Whole));
    if done.is_err() {
        let _ = ledger.rollback(Scope::Whole);
    }
    done
}

/// Settles what loads have left that did not come to their end, of one table or of all: by what the tables
/// say. What somebody is still at is left to them. Transactions are open in both databases.
pub fn settle_intents<T: LoadTarget>(store: &mut T, table: Option<&str>) -> Result<(), StoreError> {
    if !store.link().is_elsewhere() {
        return Ok(());
    }
    for intent in intents::all(store.ledger(), table)? {
        let key = claims::file_key(&intent.place, &intent.path, &intent.table);
        // Whoever is between the two commits has the claim, in the transaction of the rows.
        if !store.lock_file(&key, false)? {
            continue;
        }
        if pairing::has_mark(store, &intent.load.token)? {
            intents::finish(store.ledger(), &intent.load)?;
            pairing::remove_marks(store, std::slice::from_ref(&intent.load.token))?;
        } else {
            intents::take_back(store.ledger(), &intent.load)?;
        }
    }
    Ok(())
}

/// Settles all that loads have left, in transactions of its own, and takes out marks that nobody needs any more.
pub fn recover<T: LoadTarget>(store: &mut T) -> Result<(), StoreError> {
    if !store.link().is_elsewhere() || !store.records().has_ledger()? {
        return Ok(());
    }
    // The marks before the intents: a mark whose intent is gone by then is of a load that is done.
    let marks = pairing::marks(store)?;
    let open = intents::all(store.ledger(), None)?;
    if !open.is_empty() {
        in_both(store, |store| settle_intents(store, None))?;
    }
    let is_done = |mark: &String| !open.iter().any(|intent| intent.load.token == *mark);
    let done: Vec<String> = marks.into_iter().filter(is_done).collect();
    match done.is_empty() {
        true => Ok(()),
        false => in_both(store, |store| pairing::remove_marks(store, &done)),
    }
}

/// Does work in a transaction of each database.
fn in_both<T: LoadTarget>(
    store: &mut T,
    work: impl FnOnce(&mut T) -> Result<(), StoreError>,
) -> Result<(), StoreError> {
    begin(store, Scope::Whole)?;
    let done = work(store).and_then(|()| commit_ledger_only(store, Scope::Whole));
    if done.is_err() {
        let _ = rollback(store, Scope::Whole);
    }
    done
}
