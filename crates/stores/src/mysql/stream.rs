//! Rows on their way to a table, and how they are sent.

use bytes::Bytes;
use mysql_async::{Conn, Error};
use tokio::sync::mpsc;
use tokio::task::JoinHandle;

use super::wire::Wire;

/// How rows are sent to a table.
pub struct Form {
    /// The statement that loads lines.
    pub(super) load: String,
    /// What begins an INSERT.
    pub(super) insert: String,
    /// How each column takes its values.
    pub(super) wires: Vec<Wire>,
    /// A later row of a key takes the place of an earlier one.
    pub(super) replaces: bool,
}

/// Rows on their way to one table.
pub struct Sending {
    /// The table's place in the plan.
    pub(super) table: usize,
    pub(super) sender: mpsc::Sender<Bytes>,
    pub(super) buffer: Vec<u8>,
    /// How many rows it was given.
    pub(super) rows: u64,
    /// A later row of a key takes the place of an earlier one.
    pub(super) replaces: bool,
    pub(super) done: JoinHandle<(Conn, Result<Loaded, Error>)>,
}

/// What the server says of rows that it took.
pub struct Loaded {
    /// How many rows were put in; one that takes the place of another counts twice.
    pub(super) affected: u64,
    /// How many values were not taken as they are.
    pub(super) warnings: u16,
}

impl Form {
    /// How rows are sent to columns of a table, both as in statements. `is_plain` says that the server need not
    /// convert nor look at texts.
    pub fn new(table: &str, columns: &[String], wires: Vec<Wire>, replaces: bool, is_plain: bool) -> Form {
        let verb = if replaces { "REPLACE" } else { "INSERT" };
        let insert = format!("{verb} INTO {table} ({}) VALUES ", columns.join(", "));
        let load = load_sql(table, columns, &wires, if replaces { "REPLACE " } else { "" }, is_plain);
        Form { load, insert, wires, replaces }
    }
}

/// The statement that loads lines into columns of a table.
fn load_sql(table: &str, columns: &[String], wires: &[Wire], replace: &str, is_plain: bool) -> String {
    let is_bits = |at: usize| wires.get(at) == Some(&Wire::Bits);
    let mut places: Vec<String> = columns.to_vec();
    let mut sets: Vec<String> = Vec::new();
    for (at, place) in places.iter_mut().enumerate().filter(|(at, _)| is_bits(*at)) {
        let variable = format!("@hd_{at}");
        sets.push(format!("{place} = {variable} + 0"));
        *place = variable;
    }
    let sets = if sets.is_empty() { String::new() } else { format!(" SET {}", sets.join(", ")) };
    // What need not be converted is not looked at.
    let set = if is_plain { "binary" } else { "utf8mb4" };
    format!(
        "LOAD DATA LOCAL INFILE 'rows' {replace}INTO TABLE {table} CHARACTER SET {set} FIELDS TERMINATED BY '\\t' ESCAPED BY '\\\\' LINES TERMINATED BY '\\n' ({}){sets}",
        places.join(", ")
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sql::quote;

    #[test]
    fn bits_are_given_as_numbers() {
        let columns = [quote("id"), quote("is open")];
        let form = Form::new("\"quays\"", &columns, vec![Wire::Number, Wire::Bits], true, true);
        assert!(
            form.load.starts_with(
                "LOAD DATA LOCAL INFILE 'rows' REPLACE INTO TABLE \"quays\" CHARACTER SET binary"
            )
        );
        assert!(form.load.ends_with("(\"id\", @hd_1) SET \"is open\" = @hd_1 + 0"), "{}", form.load);
        assert_eq!(form.insert, "REPLACE INTO \"quays\" (\"id\", \"is open\") VALUES ");
    }
}
