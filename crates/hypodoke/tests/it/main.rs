//! The built program, run on files in a temporary folder.

mod again;
mod apart;
mod arrival_order;
mod asked;
mod bad_input;
mod bad_server;
mod bad_store;
mod book;
mod columnar;
mod configured;
mod crash;
mod daily;
mod days;
mod demo;
mod docs;
mod drift;
mod expected;
mod groups;
mod hostile;
mod json;
mod links;
mod load;
mod loose_keys;
mod manual;
mod mariadb;
mod memory;
mod morning;
mod names;
mod nested;
mod numbers;
mod object_peers;
mod objects;
mod older;
mod open;
mod order;
mod others_tables;
mod page;
mod points;
mod private;
mod resubmit;
mod server;
mod sftp;
mod staging;
mod survey;
mod tally;
mod tell;
mod vanished;
mod venture;
mod versions;
mod watch;
mod way_back;
mod weather;
mod workbook;

use hypodoke_testkit::Workshop;

/// A new folder with the program at hand.
fn workshop() -> Workshop {
    Workshop::new(env!("CARGO_BIN_EXE_hypodoke"))
}
