//! Reading the tables of a workbook: its cells are walked on threads of their own and come out
//! as batches of records.

use std::collections::HashMap;
use std::sync::Mutex;
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};

use hypodoke_core::isolate::helping;
use hypodoke_core::names::match_key;
use hypodoke_core::record::Records;

use super::WorkbookOptions;
use super::account::Account;
use super::book::Book;
use super::facts::{SheetFacts, WorkbookFacts};
use super::sheets::{ChosenSheet, choose};
use super::walk::SheetWalk;
use crate::bytes::Encoding;
use crate::error::ReadError;
use crate::facts::FormatFacts;
use crate::reader::{RecordReader, TableHead, clear};

/// The name of the column that says which sheet a row came from.
pub const SHEET: &str = "sheet";

/// So many sheets are walked at a time at the most: each walker has the workbook's texts in memory.
const MOST_WALKERS: usize = 4;

/// What the walking threads send.
enum Message {
    Opened(Box<FoundTables>),
    Batch(Vec<Records>),
    Failed(ReadError),
    Done(Box<Account>),
}

struct FoundTables {
    heads: Vec<TableHead>,
    facts: WorkbookFacts,
}

/// Reads the records of a workbook.
pub struct WorkbookReader {
    heads: Vec<TableHead>,
    facts: WorkbookFacts,
    messages: Receiver<Message>,
    empties: SyncSender<Vec<Records>>,
    account: Account,
    done: bool,
}

impl WorkbookReader {
    /// Opens what `open` opens, on the thread that will walk it, and finds its tables.
    pub fn open(
        open: impl Fn() -> Result<Book, ReadError> + Send + Sync + 'static,
        options: &WorkbookOptions,
    ) -> Result<WorkbookReader, ReadError> {
        let (sender, messages) = sync_channel(3);
        let (empties, returned) = sync_channel(4);
        let options = options.clone();
        let work = move || {
            // A panic of the container library's is told by the silence that it leaves.
            let end = match helping(|| walk(open, &options, &sender, returned)) {
                Ok(account) => Message::Done(Box::new(account)),
                Err(error) => Message::Failed(error),
            };
            // Nobody listens any more where the reader was dropped.
            let _ = sender.send(end);
        };
        std::thread::Builder::new().spawn(work).map_err(ReadError::Io)?;
        match messages.recv() {
            Ok(Message::Opened(opened)) => Ok(WorkbookReader {
                heads: opened.heads,
                facts: opened.facts,
                messages,
                empties,
                account: Account::default(),
                done: false,
            }),
            Ok(Message::Failed(error)) => Err(error),
            _ => Err(ReadError::Workbook("its container is damaged".to_owned())),
        }
    }
}

impl RecordReader for WorkbookReader {
    fn tables(&self) -> &[TableHead] {
        &self.heads
    }

    fn next(&mut self, batch: &mut Vec<Records>) -> Result<bool, ReadError> {
        if self.done {
            clear(batch, self.heads.len());
            return Ok(false);
        }
        match self.messages.recv() {
            Ok(Message::Batch(found)) => {
                let used = std::mem::replace(batch, found);
                // Full means that the walker has buffers enough.
                let _ = self.empties.try_send(used);
                Ok(true)
            }
            Ok(Message::Done(account)) => {
                self.account = *account;
                self.done = true;
                clear(batch, self.heads.len());
                Ok(false)
            }
            Ok(Message::Failed(error)) => Err(error),
            _ => Err(ReadError::Workbook("its container is damaged".to_owned())),
        }
    }

    fn facts(&self) -> FormatFacts {
        self.facts.in_general()
    }

    fn encoding(&self) -> Option<Encoding> {
        None
    }

    fn kind(&self) -> String {
        let kind = &self.facts.kind;
        match &self.facts.read[..] {
            [only] => format!("{kind}, sheet {}", only.name),
            several => format!("{kind}, {} sheets", several.len()),
        }
    }

    fn rows_at(&self, table: usize) -> Option<String> {
        match &self.facts.read[..] {
            [only] => Some(only.name.clone()),
            _ => Some(self.heads.get(table)?.path.clone()).filter(|path| !path.is_empty()),
        }
    }

    fn footer(&self) -> Vec<String> {
        self.account.footer.clone()
    }

    fn notes(&self) -> Vec<String> {
        let mut notes = self.facts.remarks.clone();
        notes.extend(self.account.in_words());
        notes
    }
}

fn walk(
    open: impl Fn() -> Result<Book, ReadError> + Sync,
    options: &WorkbookOptions,
    sender: &SyncSender<Message>,
    returned: Receiver<Vec<Records>>,
) -> Result<Account, ReadError> {
    let mut book = open()?;
    let (chosen, remarks) = choose(&mut book, options)?;
    let plan = Plan::of(&chosen, options);
    let tables = plan.heads.len();
    let facts =
        WorkbookFacts { kind: book.kind.to_owned(), read: chosen.iter().map(facts_of).collect(), remarks };
    if sender.send(Message::Opened(Box::new(FoundTables { heads: plan.heads, facts }))).is_err() {
        return Ok(Account::default());
    }
    // Sheets of one table follow one another.
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    let at_a_time = if options.one_table || !book.is_worth_sharing() { 1 } else { cores.min(MOST_WALKERS) };
    let walk = SheetWalk {
        chosen: &chosen,
        places: &plan.places,
        tables,
        options,
        is_1904: book.is_1904,
        returned: Mutex::new(returned),
        send: &|batch| sender.send(Message::Batch(batch)).is_ok(),
    };
    walk.all(book, &open, at_a_time)
}

fn facts_of(chosen: &ChosenSheet) -> SheetFacts {
    let letters =
        |column: Option<&u32>| column.map(|column| super::range::letters(*column)).unwrap_or_default();
    SheetFacts {
        name: chosen.name.clone(),
        first_row: chosen.region.first_row + 1,
        columns: (letters(chosen.region.columns.first()), letters(chosen.region.columns.last())),
        header_rows: chosen.region.header_rows,
        titles: chosen.region.titles,
    }
}

/// The tables that the sheets make, and for each sheet its table and where its columns go there.
struct Plan {
    heads: Vec<TableHead>,
    places: Vec<(usize, Vec<usize>)>,
}

impl Plan {
    fn of(chosen: &[ChosenSheet], options: &WorkbookOptions) -> Plan {
        if options.one_table {
            return Plan::of_one_table(chosen);
        }
        let straight = |one: &ChosenSheet| (0..one.region.columns.len()).collect::<Vec<_>>();
        let head = |path: &str, names: &[String]| TableHead {
            path: path.to_owned(),
            names: names.to_vec(),
            ..TableHead::default()
        };
        if let ([only], false) = (chosen, options.apart) {
            return Plan { heads: vec![head("", &only.region.names)], places: vec![(0, straight(only))] };
        }
        let mut plan = Plan { heads: vec![head("", &[])], places: Vec::new() };
        for one in chosen {
            plan.places.push((plan.heads.len(), straight(one)));
            plan.heads.push(head(&one.name, &one.region.names));
        }
        plan
    }

    /// All sheets in one table: columns are matched by name, blank names by their place.
    fn of_one_table(chosen: &[ChosenSheet]) -> Plan {
        let mut names = vec![SHEET.to_owned()];
        let mut known: HashMap<String, usize> = HashMap::new();
        let mut places = Vec::new();
        for one in chosen {
            let mut slots = Vec::new();
            for (at, name) in one.region.names.iter().enumerate() {
                let key = if name.is_empty() { format!("\u{0}{at}") } else { match_key(name) };
                let mut slot = *known.entry(key).or_insert_with(|| {
                    names.push(name.clone());
                    names.len() - 1
                });
                if slots.contains(&slot) {
                    // A name that one sheet has twice.
                    names.push(name.clone());
                    slot = names.len() - 1;
                }
                slots.push(slot);
            }
            places.push((0, slots));
        }
        Plan { heads: vec![TableHead { names, ..TableHead::default() }], places }
    }
}
