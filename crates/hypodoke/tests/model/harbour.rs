//! A feed with its place and its database, beside the model of it.

use std::path::{Path, PathBuf};
use std::process::Command;

use hypodoke_core::layout::ColumnRule;
use hypodoke_core::outcome::Outcome;
use hypodoke_core::pattern::Pattern;
use hypodoke_core::types::Type;
use hypodoke_engine::batch::{LoadContext, NotTaken, RunOptions, run_batch, run_job};
use hypodoke_engine::discover::{Window, discover};
use hypodoke_engine::event::Silent;
use hypodoke_engine::job::{Feed, FeedSource, Job, PlaceSource};
use hypodoke_engine::maintain::{exported, resubmit, retract};
use hypodoke_engine::sources::{Finder, FoundFile, candidate_of, plan_replay};
use hypodoke_places::{Place, PutAway};
use hypodoke_stores::{FileEntry, FileQuery, Mode, Staging, StoreUrl, Tables, Vanished, open};
use hypodoke_testkit::{end_at, set_modified};
use rust_xlsxwriter::{DocProperties, ExcelDateTime, Workbook};
use tempfile::TempDir;

use crate::expected::{Kind, MENDED, ModelFile, SECOND_SHEET, Shape, table};
use crate::life::{Loss, Row, Step};

/// When the first file may have been modified: seconds since 1970.
const BEGIN: u64 = 1_772_000_000;

/// Points of a load at which it may end.
const POINTS: [&str; 14] = [
    "sql.statement",
    "load.begun",
    "load.entry",
    "load.tables",
    "load.emptied",
    "load.sent",
    "load.kept",
    "load.merged",
    "load.ended",
    "commit.before",
    "commit.after",
    "group.commit.before",
    "group.commit.after",
    "put_away.before",
];

/// A row's values by the names of their columns.
type Fields = Vec<(String, Option<String>)>;

/// A feed with its place and database, and the model.
pub struct Harbour {
    kind: Kind,
    folder: TempDir,
    store: Box<dyn Tables>,
    staging: Staging,
    /// `[staging]` as the configuration of the program has it.
    section: String,
    files: Vec<ModelFile>,
    /// What stands in the place: the rows of each name, and when they were modified.
    there: Vec<(String, Vec<Row>, u64)>,
    arrived: usize,
    puts_away: bool,
    run: Box<Run>,
}

/// Runs a statement on the tables' database, of which an SQLite file is in a folder.
pub type Run = dyn Fn(&Path, &str);

impl Harbour {
    /// A feed whose tables are at an address, and whose ledger is there too or at another.
    pub fn new(kind: Kind, address: &str, ledger: Option<&str>, puts_away: bool, run: Box<Run>) -> Harbour {
        let folder = tempfile::tempdir().expect("a folder");
        let at = |text: &str| StoreUrl::parse(text, folder.path()).expect("an address");
        let ledger_line = ledger.map(|ledger| format!("ledger = \"{ledger}\"\n")).unwrap_or_default();
        let section = format!("[staging]\nurl = \"{address}\"\n{ledger_line}");
        let mut staging = Staging::new(at(address));
        if let Some(ledger) = ledger {
            staging = staging.with_ledger(at(ledger));
        }
        std::fs::create_dir(folder.path().join("quay")).expect("a folder");
        let store = open(&staging).expect("a database");
        Harbour {
            kind,
            folder,
            store,
            staging,
            section,
            files: Vec::new(),
            there: Vec::new(),
            arrived: 0,
            puts_away,
            run,
        }
    }

    fn job(&self) -> Job {
        let away = PutAway { done: "done".into(), failed: "failed".into() };
        let place = Place::folder("quay", self.folder.path().join("quay"));
        let place = PlaceSource::from(place).putting_away(self.puts_away.then_some(away));
        let mut job = Job::new(self.staging.clone());
        let files = Pattern::parse(self.pattern()).expect("a pattern");
        job.places.push(place);
        job.feeds.push(FeedSource::new("quay", files, self.feed()));
        job
    }

    fn feed(&self) -> Feed {
        let sheets = if self.kind.shape == Shape::Sheets { vec!["a.", "b."] } else { vec![""] };
        let whole = |source: String| ColumnRule { source, ty: Some(Type::Integer), ..ColumnRule::default() };
        let key = self.kind.mode.has_key().then_some("k");
        let mut feed = Feed::new("moves").keyed_by(self.kind.mode, key);
        feed.vanished = self.kind.vanished;
        feed.rules = sheets.iter().flat_map(|s| [format!("{s}k"), format!("{s}v")]).map(whole).collect();
        feed
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join("quay").join(name)
    }

    fn name(&self, day: u8, part: u8) -> String {
        let ending = match self.kind.shape {
            Shape::Flat => "csv",
            Shape::Nested => "jsonl",
            Shape::Sheets => "xlsx",
        };
        match self.kind.dated {
            true => format!("f_2026-03-{:02}_{part}.{ending}", day + 1),
            false => format!("f_{day}{part}.{ending}"),
        }
    }

    fn content(&self, rows: &[Row]) -> String {
        let mut text = if self.kind.shape == Shape::Nested { String::new() } else { "k,v\n".to_owned() };
        for Row { key, value, legs } in rows {
            let value = value.map_or("\"x\"".to_owned(), |value| value.to_string());
            if self.kind.shape == Shape::Nested {
                let legs: Vec<String> = legs.iter().map(|q| format!("{{\"q\":{q}}}")).collect();
                text.push_str(&format!("{{\"k\":{key},\"v\":{value},\"legs\":[{}]}}\n", legs.join(",")));
            } else {
                text.push_str(&format!("{key},{value}\n"));
            }
        }
        text
    }

    /// A workbook of two sheets. Rows that are in all of them let each be known for a table.
    fn write_sheets(&self, path: &Path, rows: &[Row]) {
        let mut book = Workbook::new();
        let made = ExcelDateTime::from_ymd(2026, 3, 2).expect("a day");
        book.set_properties(&DocProperties::new().set_creation_datetime(&made));
        for (at, name) in ["a", "b"].into_iter().enumerate() {
            let sheet = book.add_worksheet().set_name(name).expect("a name");
            sheet.write_row(0, 0, ["k", "v"]).expect("a header");
            let own = rows.iter().filter(|row| row.legs.len() % 2 == at);
            let own = own.map(|row| (row.key, row.value));
            for (line, (key, value)) in (1..).zip((100..105).map(|key| (key, Some(1))).chain(own)) {
                sheet.write_number(line, 0, key).expect("a cell");
                match value {
                    Some(value) => sheet.write_number(line, 1, value).expect("a cell"),
                    None => sheet.write_string(line, 1, "x").expect("a cell"),
                };
            }
        }
        book.save(path).expect("a workbook");
    }

    /// Puts a file into the place, newer than what stood there.
    fn put(&mut self, day: u8, part: u8, at: u16, rows: Vec<Row>) {
        let name = self.name(day, part);
        let known = self.there.iter().position(|(known, ..)| *known == name);
        let before = known.map(|known| self.there.remove(known).2);
        let before = before.or_else(|| {
            // What was put away or removed was there once.
            self.files.iter().find(|file| file.name == name).map(|file| file.modified + 40_000)
        });
        let modified = before.map_or(BEGIN + u64::from(at), |before| before + 1000 + u64::from(at));
        match self.kind.shape {
            Shape::Sheets => self.write_sheets(&self.path(&name), &rows),
            _ => std::fs::write(self.path(&name), self.content(&rows)).expect("a file"),
        }
        set_modified(&self.path(&name), modified);
        self.there.push((name, rows, modified));
    }

    /// Lets a step happen, in the model too.
    pub fn step(&mut self, step: &Step) {
        match step {
            Step::Send { day, part, at, rows } => self.put(*day, *part, *at, rows.clone()),
            Step::SendAgain(which) => {
                if let Some((name, _, modified)) = pick(&mut self.there, *which) {
                    *modified += 1000;
                    set_modified(&self.folder.path().join("quay").join(name), *modified);
                }
            }
            Step::Copy { from, day, part, at } => {
                if let Some((_, rows, _)) = pick(&mut self.there, *from) {
                    let rows = rows.clone();
                    self.put(*day, *part, *at, rows);
                }
            }
            Step::Remove(which) => {
                if !self.there.is_empty() {
                    let (name, ..) = self.there.remove(which % self.there.len());
                    std::fs::remove_file(self.path(&name)).expect("it was there");
                }
            }
            Step::Load => self.load(),
            Step::Killed(number) => {
                self.load_and_end(*number);
                self.load();
            }
            Step::Retract(which) => self.retract(*which),
            Step::Replay(which) => self.replay(*which),
            Step::Mend(which) => self.mend(*which),
            Step::Lose(loss) => self.lose(*loss),
        }
    }

    fn load(&mut self) {
        let job = self.job();
        let found = discover(&job, &[]).expect("files");
        let report = run_job(&job, &found, self.store.as_mut(), RunOptions::new(&Silent));
        let report = report.expect("a report");
        let unwell: Vec<_> = report.receipt.files.iter().filter(|line| !line.reasons.is_empty()).collect();
        assert!(report.receipt.totals.files_failed + report.receipt.totals.files_held == 0, "{unwell:?}");
        let mut there = self.there.clone();
        there.sort_by_key(|(name, _, modified)| (self.day_of(name), *modified, name.clone()));
        for (name, rows, modified) in &there {
            self.take(name, rows, *modified);
        }
        if self.puts_away {
            self.there.clear();
        }
    }

    /// Loads by the built program, which ends at a point; or at none, if it does not pass that.
    fn load_and_end(&self, number: u16) {
        let Kind { mode, vanished, .. } = self.kind;
        let vanished = match vanished {
            Vanished::Keep => "keep",
            Vanished::Close => "close",
            Vanished::Delete => "delete",
            Vanished::Mark => "mark",
        };
        let key = if mode.has_key() { "key = [\"k\"]\n" } else { "" };
        let after_load = if self.puts_away { "after = \"move\"\n" } else { "" };
        let config = format!(
            "{}[place.quay]\npath = \"quay\"\nquiet_for = \"0s\"\n{after_load}
             [feed.moves]\nplace = \"quay\"\nfiles = \"{}\"\nmode = \"{}\"\n{key}vanished = \"{vanished}\"
             [feed.moves.columns]\n{}",
            self.section,
            self.pattern(),
            mode.word(),
            self.feed()
                .rules
                .iter()
                .map(|rule| format!("\"{}\" = {{ type = \"integer\" }}\n", rule.source))
                .collect::<String>(),
        );
        std::fs::write(self.folder.path().join("hypodoke.toml"), config).expect("a configuration");
        let mut loader = Command::new(env!("CARGO_BIN_EXE_hypodoke"));
        loader.args(["load", "-q"]).current_dir(self.folder.path());
        let (point, time) = (usize::from(number) % POINTS.len(), usize::from(number) / POINTS.len() % 4 + 1);
        end_at(loader, &format!("{}:{time}", POINTS[point]));
    }

    fn pattern(&self) -> &'static str {
        match (self.kind.dated, self.kind.shape) {
            (true, Shape::Flat) => "f_{day:%Y-%m-%d}_{part}.csv",
            (true, Shape::Nested) => "f_{day:%Y-%m-%d}_{part}.jsonl",
            (true, Shape::Sheets) => "f_{day:%Y-%m-%d}_{part}.xlsx",
            (false, Shape::Flat) => "f_*.csv",
            (false, Shape::Nested) => "f_*.jsonl",
            (false, Shape::Sheets) => "f_*.xlsx",
        }
    }

    fn day_of(&self, name: &str) -> u8 {
        if !self.kind.dated {
            return 0;
        }
        name.get(10..12).and_then(|day| day.parse::<u8>().ok()).map_or(0, |day| day - 1)
    }

    /// The model takes in what is new.
    fn take(&mut self, name: &str, rows: &[Row], modified: u64) {
        let day = self.day_of(name);
        let Some(file) = self.files.iter_mut().find(|file| file.name == name) else {
            self.arrived += 1;
            self.files.push(ModelFile {
                name: name.to_owned(),
                day,
                modified,
                arrived: self.arrived,
                rows: rows.to_vec(),
                mended: false,
                corrected: Vec::new(),
                in_force: true,
                seen: modified,
            });
            return;
        };
        if file.seen != modified && (!file.in_force || file.rows != rows) {
            file.load(rows);
        }
        file.seen = modified;
    }

    /// The ledger's entry of a file of the model whose rows count, or were taken out last.
    fn entry(&mut self, at: usize) -> FileEntry {
        let (name, in_force) = (self.files[at].name.clone(), self.files[at].in_force);
        let entries = self.store.ledger().files(&FileQuery::default()).expect("entries");
        let is_it = |entry: &FileEntry| {
            let counts = if in_force { entry.outcome.counts() } else { entry.outcome == Outcome::Retracted };
            entry.arrival.path == name && counts && entry.replaced_by.is_none()
        };
        entries.into_iter().find(is_it).unwrap_or_else(|| panic!("no entry of {name}"))
    }

    fn retract(&mut self, which: usize) {
        let there: Vec<usize> = (0..self.files.len()).filter(|at| self.files[*at].in_force).collect();
        if there.is_empty() {
            return;
        }
        let at = there[which % there.len()];
        let entry = self.entry(at);
        let batch = self.store.ledger().begin_batch(0).expect("a batch");
        // Without a configuration: how the table follows from its files is in the ledger.
        let feed = Feed::default().into_table("moves");
        let counts = retract(self.store.as_mut(), &feed, &entry, batch, None).expect("taken out");
        assert_eq!(counts.counts.touched, 0, "nobody else has changed a row");
        (self.files[at].in_force, self.files[at].mended) = (false, false);
    }

    fn replay(&mut self, which: usize) {
        if self.files.is_empty() {
            return;
        }
        let at = which % self.files.len();
        let entry = self.entry(at);
        let mut finder = Finder::new(Some(self.job()));
        let replay = plan_replay(&mut finder, &[entry], Window::default()).expect("a plan");
        let name = self.files[at].name.clone();
        let there = self.there.iter().find(|(known, ..)| *known == name).cloned();
        assert_eq!(replay.files() == 1, self.puts_away || there.is_some(), "{name} is found where it is");
        if replay.files() == 0 {
            return;
        }
        let context = LoadContext::single(&Silent);
        let ended = run_batch(self.store.as_mut(), context, &replay.feeds, NotTaken::default());
        let ended = ended.expect("a batch");
        assert_eq!(ended.receipt.totals.files_loaded, 1, "{:?}", ended.receipt.files);
        let file = &mut self.files[at];
        let mut rows = file.rows.clone();
        if let (Some((_, now, modified)), false) = (there, self.puts_away) {
            (rows, file.seen) = (now, modified);
        }
        file.load(&rows);
    }

    /// Does something to the tables, and loads all files again whose rows count. Where one of them is not there any
    /// more, nothing is done: its rows could not come back.
    fn lose(&mut self, loss: Loss) {
        let is_there = |file: &ModelFile| self.there.iter().any(|(name, ..)| *name == file.name);
        let in_force: Vec<usize> = (0..self.files.len()).filter(|at| self.files[*at].in_force).collect();
        if !in_force.iter().all(|at| self.puts_away || is_there(&self.files[*at])) {
            return;
        }
        let newest = in_force.iter().map(|at| self.entry(*at).file).max();
        for table in ["moves", "moves_legs", "moves_a", "moves_b"] {
            if self.store.table(table).expect("an answer").is_none() {
                continue;
            }
            let is_main = table != "moves_legs";
            let sql = match loss {
                Loss::Dropped => format!("DROP TABLE {table}"),
                Loss::Emptied => format!("DELETE FROM {table}"),
                Loss::SomeKeys if is_main => format!("DELETE FROM {table} WHERE k IN (0, 2, 4)"),
                Loss::SomeKeys => continue,
                Loss::NewestFile => {
                    format!("DELETE FROM {table} WHERE hd_file = {}", newest.unwrap_or_default())
                }
            };
            (self.run)(self.folder.path(), &sql);
        }
        in_force.into_iter().for_each(|at| self.replay(at));
    }

    fn mend(&mut self, which: usize) {
        let with_rejects = |file: &ModelFile| {
            file.in_force && !file.mended && file.rows.iter().any(|row| row.value.is_none())
        };
        let there: Vec<usize> = (0..self.files.len()).filter(|at| with_rejects(&self.files[*at])).collect();
        if there.is_empty() || self.kind.shape != Shape::Flat {
            return;
        }
        let at = there[which % there.len()];
        let entry = self.entry(at);
        let rejects = self.store.ledger().rejects(entry.file, 100).expect("rejects");
        let rejected: Vec<&Row> = self.files[at].rows.iter().filter(|row| row.value.is_none()).collect();
        assert_eq!(rejects.len(), rejected.len());
        let mut text = "hd_reject,hd_mark,k,v\n".to_owned();
        let rejects = exported(&entry, rejects).expect("an export");
        for (out, row) in rejects.iter().zip(rejected) {
            text.push_str(&format!("{},m-{},{},{MENDED}\n", out.reject.reject, out.mark, row.key));
        }
        let path = self.folder.path().join("corrected.csv");
        std::fs::write(&path, text).expect("a file");
        let (feed, job) = (self.feed(), self.job());
        let found = |entry: &FileEntry| {
            let parts =
                job.feeds_for(&entry.arrival).into_iter().next().map(|(_, parts)| parts).unwrap_or_default();
            let mut file = candidate_of(entry);
            file.parts = parts;
            Ok(FoundFile { feed: feed.clone(), file })
        };
        let done = resubmit(self.store.as_mut(), &path, &found).expect("corrected");
        assert_eq!((done.refused, done.loaded), (Vec::new(), rejects.len() as u64));
        let file = &mut self.files[at];
        file.mended = true;
        file.corrected.push(file.rows.clone());
    }

    /// Holds the table against the model.
    pub fn check(&mut self) {
        let expected = table(self.kind, &self.files);
        let found = self.table();
        assert_eq!(found, expected, "{:#?}", self.files);
    }

    /// The rows of the table, or of those of the sheets, sorted.
    fn table(&mut self) -> Vec<String> {
        if self.kind.shape != Shape::Sheets {
            return self.rows_shown("moves", 0);
        }
        let mut rows = self.rows_shown("moves_a", 0);
        rows.extend(self.rows_shown("moves_b", SECOND_SHEET));
        rows.sort();
        rows
    }

    fn rows_shown(&mut self, table: &str, from: u8) -> Vec<String> {
        let Some(mut main) = self.rows_of(table) else { return Vec::new() };
        main.retain(|row| key_of(row) < 100);
        let is_nested = self.kind.shape == Shape::Nested;
        let legs = if is_nested { self.rows_of("moves_legs").unwrap_or_default() } else { Vec::new() };
        let tied = |leg: &&Fields| main.iter().any(|row| is_leg_of(leg, row));
        assert_eq!(legs.iter().filter(tied).count(), legs.len(), "a leg hangs on no row");
        let mut shown: Vec<String> = main.iter().map(|row| self.row_shown(row, from, &legs)).collect();
        shown.sort();
        shown
    }

    fn row_shown(&self, row: &Fields, from: u8, legs: &[Fields]) -> String {
        let value = |name: &str| field(row, name).unwrap_or_default();
        let mut line = format!("{} {}", key_of(row) + from, value("v"));
        if self.kind.shape == Shape::Nested {
            let own = legs.iter().filter(|leg| is_leg_of(leg, row));
            let place = |leg: &Fields| field(leg, "hd_position").and_then(|place| place.parse().ok());
            let mut own: Vec<(u64, String)> =
                own.map(|leg| (place(leg).expect("a place"), field(leg, "q").unwrap_or_default())).collect();
            own.sort();
            let own: Vec<String> = own.into_iter().map(|(_, q)| q).collect();
            line.push_str(&format!(" [{}]", own.join(", ")));
        }
        if self.kind.mode == Mode::History {
            let day = |name: &str| field(row, name).map(|moment| moment[..10].to_owned());
            let dated = |moment: Option<String>| {
                if self.kind.dated { moment } else { moment.map(|_| String::new()) }
            };
            let (from, to) = (dated(day("hd_valid_from")), dated(day("hd_valid_to")));
            line.push_str(&format!(" [{}, {})", from.unwrap_or_default(), to.unwrap_or("now".into())));
        }
        if self.kind.vanished == Vanished::Mark && !value("hd_gone_since").is_empty() {
            line.push_str(" gone");
        }
        line
    }

    fn rows_of(&mut self, table: &str) -> Option<Vec<Fields>> {
        self.store.table(table).expect("an answer")?;
        let sample = self.store.first_rows(table, 10_000).expect("rows");
        let named = |row: Vec<Option<String>>| sample.columns.iter().cloned().zip(row).collect();
        Some(sample.rows.into_iter().map(named).collect())
    }
}

fn pick<T>(all: &mut [T], which: usize) -> Option<&mut T> {
    let many = all.len();
    if many == 0 { None } else { all.get_mut(which % many) }
}

fn field(row: &Fields, name: &str) -> Option<String> {
    row.iter().find(|(known, _)| known == name).and_then(|(_, text)| text.clone())
}

fn key_of(row: &Fields) -> u8 {
    field(row, "k").and_then(|text| text.parse().ok()).expect("a key")
}

fn is_leg_of(leg: &Fields, row: &Fields) -> bool {
    field(leg, "hd_file") == field(row, "hd_file") && field(leg, "hd_parent") == field(row, "hd_line")
}
