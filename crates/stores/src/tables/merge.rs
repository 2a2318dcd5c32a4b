//! The SQL by which a file's rows, staged beside a table, are brought into it by key.

use hypodoke_core::names::{GONE_COLUMN, VALID_FROM_COLUMN, VALID_TO_COLUMN};

use crate::load_plan::Vanished;
use crate::sql::{SqlDialect, quote};

/// The table that rows of a plan's table are staged in, by its place there.
pub fn stage_of(table: usize) -> String {
    format!("hd_stage_{table}")
}

/// The column that numbers staged rows in the order they came.
pub const SEQUENCE: &str = "hd_sequence";

/// A file's rows in the stage, and the table they go to.
#[derive(Clone)]
pub struct Merge {
    table: String,
    stage: String,
    columns: Vec<String>,
    values: Vec<String>,
    key: Vec<String>,
    vanished: Vanished,
    dialect: &'static SqlDialect,
    /// Those of the values whose texts may compare as equal in the table where they differ.
    loose: Vec<String>,
}

/// The columns of a table that rows are brought into by key.
#[derive(Clone, Copy)]
pub struct MergeColumns<'a> {
    /// Those of the file.
    pub columns: &'a [String],
    /// Those that lead back to it.
    pub lineage: &'a [&'a str],
    /// Those that tell rows apart.
    pub key: &'a [String],
    /// Those that say something of the file only.
    pub of_file: &'a [String],
}

impl Merge {
    /// `table` is quoted already.
    pub fn new(dialect: &'static SqlDialect, table: String, stage: &str, columns: MergeColumns<'_>) -> Merge {
        let MergeColumns { columns, lineage, key, of_file } = columns;
        let all = columns.iter().map(String::as_str).chain(lineage.iter().copied()).map(quote).collect();
        let key: Vec<String> = key.iter().map(|name| quote(name)).collect();
        let values = columns.iter().filter(|name| !of_file.contains(name)).map(|name| quote(name));
        let values = values.filter(|name| !key.contains(name)).collect();
        let (stage, vanished) = (stage.to_owned(), Vanished::Keep);
        Merge { table, stage, columns: all, values, key, vanished, dialect, loose: Vec::new() }
    }

    /// The same, of a table in which texts of these columns may compare as equal where they differ: in their case, or in
    /// blanks at their end.
    pub fn comparing_bytes<'a>(self, columns: impl Iterator<Item = &'a str>) -> Merge {
        Merge { loose: columns.map(quote).collect(), ..self }
    }

    /// The same, of a full delivery: keys that it does not hold vanish.
    pub fn of_full_delivery(self, vanished: Vanished) -> Merge {
        Merge { vanished, ..self }
    }

    /// The condition that a row is one of those that may vanish.
    fn is_there(&self) -> Option<String> {
        match self.vanished {
            Vanished::Keep => None,
            Vanished::Close => Some(format!("{VALID_TO_COLUMN} IS NULL")),
            Vanished::Mark => Some(format!("{GONE_COLUMN} IS NULL")),
            Vanished::Delete => Some("TRUE".to_owned()),
        }
    }

    /// Counts the rows that may vanish; `None` where none does.
    pub fn count_there(&self) -> Option<String> {
        let is_there = self.is_there()?;
        Some(format!("SELECT count(*) FROM {} WHERE {is_there}", self.table))
    }

    /// Lets what the stage does not hold vanish; `moment` is a literal. `rejects` is a table with the keys of rejected
    /// rows, which stay.
    pub fn vanish(&self, moment: &str, rejects: Option<&str>) -> Option<String> {
        let (table, stage, is_there) = (&self.table, &self.stage, self.is_there()?);
        let not_in =
            |stage: &str| format!("NOT EXISTS (SELECT 1 FROM {stage} s WHERE {})", self.same_key("t", "s"));
        let gone: Vec<String> = [Some(stage.as_str()), rejects].into_iter().flatten().map(not_in).collect();
        let gone = gone.join(" AND ");
        Some(match self.vanished {
            Vanished::Close => {
                format!("UPDATE {table} AS t SET {VALID_TO_COLUMN} = {moment} WHERE {is_there} AND {gone}")
            }
            Vanished::Mark => {
                format!("UPDATE {table} AS t SET {GONE_COLUMN} = {moment} WHERE {is_there} AND {gone}")
            }
            _ => self.dialect.delete_where(table, &gone),
        })
    }

    fn same_key(&self, a: &str, b: &str) -> String {
        let pairs: Vec<String> = self.key.iter().map(|key| format!("{a}.{key} = {b}.{key}")).collect();
        pairs.join(" AND ")
    }

    /// The condition that a row of `a` differs from one of `b`.
    pub fn differs(&self, a: &str, b: &str) -> String {
        let value = |of: &str, name: &String| match self.loose.contains(name) {
            true => self.dialect.by_bytes(&format!("{of}.{name}")),
            false => format!("{of}.{name}"),
        };
        let pair = |name: &String| self.dialect.differs(&value(a, name), &value(b, name));
        let pairs: Vec<String> = self.values.iter().map(pair).collect();
        if pairs.is_empty() { "FALSE".to_owned() } else { format!("({})", pairs.join(" OR ")) }
    }

    /// Takes out of the stage what a later row of the same key takes the place of.
    pub fn drop_doubles(&self) -> String {
        let (key, stage) = (self.key.join(", "), &self.stage);
        format!(
            "DELETE FROM {stage} WHERE {SEQUENCE} NOT IN (SELECT max({SEQUENCE}) FROM {stage} GROUP BY {key})"
        )
    }

    /// Brings what differs into the rows that are there.
    pub fn update(&self) -> String {
        let set = |name: &String| format!("{} = s.{name}", self.dialect.set_of(name));
        let mut sets: Vec<String> = self.columns.iter().map(set).collect();
        let mut differs = self.differs("t", "s");
        if self.vanished == Vanished::Mark {
            // What is back is there again.
            sets.push(format!("{} = NULL", self.dialect.set_of(GONE_COLUMN)));
            differs = format!("({differs} OR t.{GONE_COLUMN} IS NOT NULL)");
        }
        let condition = format!("{} AND {differs}", self.same_key("t", "s"));
        self.dialect.update_by(&self.table, &sets.join(", "), &self.stage, &condition)
    }

    /// Adds the rows whose keys are not there.
    pub fn insert_new(&self) -> String {
        let columns = self.columns.join(", ");
        format!(
            "INSERT INTO {table} ({columns}) SELECT {columns} FROM {stage} s WHERE NOT EXISTS (SELECT 1 FROM {table} t WHERE {}) ORDER BY {SEQUENCE}",
            self.same_key("t", "s"),
            table = self.table,
            stage = self.stage,
        )
    }

    /// Whether what a full delivery no longer holds is marked.
    pub fn marks_gone(&self) -> bool {
        self.vanished == Vanished::Mark
    }

    /// The table that its rows are staged in.
    pub fn stage(&self) -> &str {
        &self.stage
    }

    /// The table's name, quoted.
    pub fn table(&self) -> &str {
        &self.table
    }

    /// The columns that are written, quoted.
    pub fn columns(&self) -> &[String] {
        &self.columns
    }

    /// The columns of the key, quoted.
    pub fn key(&self) -> &[String] {
        &self.key
    }

    /// Ends the current versions of rows that differ; `moment` is a parameter or a literal.
    pub fn end_versions(&self, moment: &str) -> String {
        let (same_key, differs) = (self.same_key("t", "s"), self.differs("t", "s"));
        let condition = format!("t.{VALID_TO_COLUMN} IS NULL AND {same_key} AND {differs}");
        let set = format!("{} = {moment}", self.dialect.set_of(VALID_TO_COLUMN));
        self.dialect.update_by(&self.table, &set, &self.stage, &condition)
    }

    /// Adds versions where there is no current one.
    pub fn begin_versions(&self, moment: &str) -> String {
        let columns = self.columns.join(", ");
        format!(
            "INSERT INTO {table} ({columns}, {VALID_FROM_COLUMN}) SELECT {columns}, {moment} FROM {stage} s
             WHERE NOT EXISTS (SELECT 1 FROM {table} t WHERE t.{VALID_TO_COLUMN} IS NULL AND {}) ORDER BY {SEQUENCE}",
            self.same_key("t", "s"),
            table = self.table,
            stage = self.stage,
        )
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use rusqlite::Connection;

    use super::*;
    use crate::sql::{MYSQL, SQLITE};

    fn merge() -> Merge {
        let columns = ["id".to_owned(), "berth".to_owned(), "sent_on".to_owned()];
        let (key, of_file) = (["id".to_owned()], ["sent_on".to_owned()]);
        let columns = MergeColumns { columns: &columns, lineage: &["hd_file"], key: &key, of_file: &of_file };
        Merge::new(&SQLITE, quote("moves"), "hd_stage_0", columns)
    }

    /// A table and a stage with rows, each `id berth sent_on file`, the stage's numbered as they come.
    fn tables(there: &[(i64, &str, &str, i64)], staged: &[(i64, &str, &str, i64)]) -> Connection {
        let database = Connection::open_in_memory().expect("a database");
        let columns = "id, berth, sent_on, hd_file";
        database
            .execute_batch(&format!(
                "CREATE TABLE moves ({columns}, {VALID_FROM_COLUMN}, {VALID_TO_COLUMN}, {GONE_COLUMN});
                 CREATE TEMP TABLE hd_stage_0 ({SEQUENCE} INTEGER PRIMARY KEY, {columns})"
            ))
            .expect("tables");
        for (table, rows) in [("moves", there), ("hd_stage_0", staged)] {
            let sql = format!("INSERT INTO {table} ({columns}) VALUES (?1, ?2, ?3, ?4)");
            for row in rows {
                database.execute(&sql, *row).expect("a row");
            }
        }
        database
    }

    fn rows(database: &Connection) -> Vec<String> {
        let sql = format!(
            "SELECT id || ' ' || berth || ' ' || hd_file || coalesce(' to ' || {VALID_TO_COLUMN}, '')
             || coalesce(' gone ' || {GONE_COLUMN}, '') FROM moves ORDER BY id, hd_file, 1"
        );
        let mut statement = database.prepare(&sql).expect("a query");
        statement.query_map([], |row| row.get(0)).expect("rows").collect::<Result<_, _>>().expect("texts")
    }

    fn run(database: &Connection, sql: &str) -> usize {
        database.execute(sql, []).unwrap_or_else(|error| panic!("{error}: {sql}"))
    }

    #[test]
    fn of_a_key_that_is_staged_twice_the_last_row_stays() {
        let database = tables(&[], &[(1, "N1", "mon", 5), (2, "N2", "mon", 5), (1, "N9", "mon", 5)]);
        assert_eq!(run(&database, &merge().drop_doubles()), 1);
        run(&database, &merge().insert_new());
        assert_eq!(rows(&database), ["1 N9 5", "2 N2 5"]);
    }

    #[test]
    fn rows_that_differ_take_the_place_of_those_that_are_there_and_others_are_added() {
        let there = [(1, "N1", "mon", 4), (2, "N2", "mon", 4)];
        let staged = [(1, "N1", "tue", 5), (2, "N7", "tue", 5), (3, "N3", "tue", 5)];
        let database = tables(&there, &staged);
        // What only says something of the file makes no row another.
        assert_eq!(run(&database, &merge().update()), 1);
        assert_eq!(run(&database, &merge().insert_new()), 1);
        assert_eq!(rows(&database), ["1 N1 4", "2 N7 5", "3 N3 5"]);
    }

    #[test]
    fn a_version_ends_where_the_next_begins() {
        let database =
            tables(&[(1, "N1", "mon", 4), (2, "N2", "mon", 4)], &[(1, "N8", "tue", 5), (2, "N2", "tue", 5)]);
        assert_eq!(run(&database, &merge().end_versions("'noon'")), 1);
        assert_eq!(run(&database, &merge().begin_versions("'noon'")), 1);
        assert_eq!(rows(&database), ["1 N1 4 to noon", "1 N8 5", "2 N2 4"]);
        assert_eq!(run(&database, &merge().begin_versions("'later'")), 0, "nothing is new");
    }

    #[rstest]
    #[case::kept(Vanished::Keep, None, &["1 N1 4", "2 N2 4"])]
    #[case::closed(Vanished::Close, Some(1), &["1 N1 4", "2 N2 4 to noon"])]
    #[case::marked(Vanished::Mark, Some(1), &["1 N1 4", "2 N2 4 gone noon"])]
    #[case::deleted(Vanished::Delete, Some(1), &["1 N1 4"])]
    fn keys_that_a_full_delivery_does_not_hold_vanish(
        #[case] vanished: Vanished,
        #[case] expected: Option<usize>,
        #[case] left: &[&str],
    ) {
        let database = tables(&[(1, "N1", "mon", 4), (2, "N2", "mon", 4)], &[(1, "N1", "tue", 5)]);
        let merge = merge().of_full_delivery(vanished);
        assert_eq!(merge.count_there().is_some(), expected.is_some());
        assert_eq!(merge.vanish("'noon'", None).map(|sql| run(&database, &sql)), expected);
        assert_eq!(rows(&database), left);
    }

    #[rstest]
    #[case::closed(Vanished::Close)]
    #[case::marked(Vanished::Mark)]
    #[case::deleted(Vanished::Delete)]
    fn keys_of_rejected_rows_stay(#[case] vanished: Vanished) {
        let database = tables(&[(1, "N1", "mon", 4), (2, "N2", "mon", 4)], &[(1, "N1", "tue", 5)]);
        database.execute_batch("CREATE TEMP TABLE rejects AS SELECT 2 AS id").expect("a table");
        let sql = merge().of_full_delivery(vanished).vanish("'noon'", Some("rejects"));
        assert_eq!(sql.map(|sql| run(&database, &sql)), Some(0));
        assert_eq!(rows(&database), ["1 N1 4", "2 N2 4"]);
    }

    #[test]
    fn a_key_that_is_back_is_not_marked_any_more() {
        let database = tables(&[(1, "N1", "mon", 4)], &[(1, "N1", "tue", 5)]);
        run(&database, &format!("UPDATE moves SET {GONE_COLUMN} = 'noon'"));
        let merge = merge().of_full_delivery(Vanished::Mark);
        assert!(merge.marks_gone());
        assert_eq!(run(&database, &merge.update()), 1);
        assert_eq!(rows(&database), ["1 N1 5"]);
    }

    #[test]
    fn texts_that_a_table_takes_for_equal_are_compared_by_their_bytes() {
        let columns = ["id".to_owned(), "berth".to_owned()];
        let columns = MergeColumns { columns: &columns, lineage: &[], key: &columns[..1], of_file: &[] };
        let merge = Merge::new(&MYSQL, quote("moves"), "s", columns);
        assert_eq!(merge.differs("t", "s"), r#"(NOT (t."berth" <=> s."berth"))"#);
        let loose = merge.comparing_bytes(["berth"].into_iter()).differs("t", "s");
        assert_eq!(loose, r#"(NOT (CAST(t."berth" AS BINARY) <=> CAST(s."berth" AS BINARY)))"#);
    }
}
