//! A table is what its files say, in every mode, whatever came when: lives of a feed held against a model
//! after every step.

mod expected;
mod harbour;
mod life;

use std::path::Path;

use expected::{Kind, Shape};
use harbour::Harbour;
use hypodoke_stores::{Mode, Vanished};
use hypodoke_testkit::{Mariadb, Server};
use life::life;
use proptest::prelude::*;

fn kind() -> impl Strategy<Value = Kind> {
    let modes = prop_oneof![
        1 => Just((Mode::Append, Vanished::Keep)),
        2 => Just((Mode::Replace, Vanished::Keep)),
        3 => Just((Mode::Upsert, Vanished::Keep)),
        1 => Just((Mode::Upsert, Vanished::Delete)),
        1 => Just((Mode::Upsert, Vanished::Mark)),
        2 => Just((Mode::InsertNew, Vanished::Keep)),
        3 => Just((Mode::History, Vanished::Keep)),
        1 => Just((Mode::History, Vanished::Close)),
    ];
    let shapes = prop_oneof![3 => Just(Shape::Flat), 3 => Just(Shape::Nested), 2 => Just(Shape::Sheets)];
    (modes, any::<bool>(), shapes).prop_map(|((mode, vanished), dated, shape)| Kind {
        mode,
        vanished,
        // Without parts in their names, copies of a file are no other deliveries where rows are added.
        dated: dated || mode == Mode::Append,
        shape,
    })
}

/// Runs a statement on the SQLite file of a folder.
fn on_a_file(folder: &Path, sql: &str) {
    let database = rusqlite::Connection::open(folder.join("staging.db")).expect("the database");
    database.execute_batch(sql).expect("a statement");
}

/// How many lives are lived: so many, or as many as the environment says.
fn lives(usual: u32) -> ProptestConfig {
    let cases = std::env::var("HYPODOKE_LIVES").ok().and_then(|many| many.parse().ok());
    ProptestConfig {
        failure_persistence: None,
        cases: cases.unwrap_or(usual),
        max_shrink_iters: 400,
        ..ProptestConfig::default()
    }
}

proptest! {
    #![proptest_config(lives(300))]

    #[test]
    fn the_table_is_what_its_files_say(kind in kind(), life in life(), puts_away: bool) {
        let mut harbour = Harbour::new(kind, "sqlite:staging.db", None, puts_away, Box::new(on_a_file));
        for step in &life {
            harbour.step(step);
            harbour.check();
        }
    }
}

proptest! {
    #![proptest_config(lives(50))]

    #[test]
    fn the_table_is_what_its_files_say_on_a_server(kind in kind(), life in life(), puts_away: bool) {
        let database = Server::shared().database();
        let url = database.url.clone();
        let run = move |_: &Path, sql: &str| drop(database.query(sql));
        let mut harbour = Harbour::new(kind, &url, None, puts_away, Box::new(run));
        for step in &life {
            harbour.step(step);
            harbour.check();
        }
    }

    #[test]
    fn the_table_is_what_its_files_say_where_tables_change_by_themselves(
        kind in kind(),
        life in life(),
        puts_away: bool,
    ) {
        let database = Mariadb::shared().database();
        let url = database.url.clone();
        let run = move |_: &Path, sql: &str| drop(database.query(sql));
        let mut harbour = Harbour::new(kind, &url, None, puts_away, Box::new(run));
        for step in &life {
            harbour.step(step);
            harbour.check();
        }
    }

    #[test]
    fn the_table_is_what_its_files_say_where_the_ledger_is_a_file(
        kind in kind(),
        life in life(),
        puts_away: bool,
    ) {
        let database = Server::shared().database();
        let url = database.url.clone();
        let run = move |_: &Path, sql: &str| drop(database.query(sql));
        let mut harbour = Harbour::new(kind, &url, Some("sqlite:ledger.db"), puts_away, Box::new(run));
        for step in &life {
            harbour.step(step);
            harbour.check();
        }
    }

    #[test]
    fn the_table_is_what_its_files_say_where_the_ledger_is_on_another_server(
        kind in kind(),
        life in life(),
        puts_away: bool,
    ) {
        let (ledger, tables) = (Server::shared().database(), Mariadb::shared().database());
        let url = tables.url.clone();
        let run = move |_: &Path, sql: &str| drop(tables.query(sql));
        let mut harbour = Harbour::new(kind, &url, Some(&ledger.url), puts_away, Box::new(run));
        for step in &life {
            harbour.step(step);
            harbour.check();
        }
    }
}
