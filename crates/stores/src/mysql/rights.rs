//! The least rights that loading needs, and which of them are missing.

use std::collections::BTreeSet;

use super::connection::MysqlStore;
use crate::error::StoreError;
use crate::sql::SqlConnection;

/// The rights on a database that making and changing tables needs.
const TO_MAKE: [&str; 4] = ["CREATE", "ALTER", "INDEX", "DROP"];

/// The right that stages need.
const TO_STAGE: &str = "CREATE TEMPORARY TABLES";

/// What a user may do.
#[derive(Default)]
struct Given {
    everywhere: BTreeSet<String>,
    in_database: BTreeSet<String>,
    on_tables: BTreeSet<(String, String)>,
}

impl Given {
    fn has(&self, right: &str, table: Option<&str>) -> bool {
        let on_table = |table: &str| self.on_tables.contains(&(table.to_lowercase(), right.to_owned()));
        self.everywhere.contains(right) || self.in_database.contains(right) || table.is_some_and(on_table)
    }
}

impl MysqlStore {
    /// The GRANT statements that are missing, for tables that are there; and for those that are not, the
    /// rights to make them.
    pub(super) fn grants_missing_on(
        &mut self,
        on: &[(String, &'static [&'static str])],
    ) -> Result<Vec<String>, StoreError> {
        let given = self.given()?;
        let (account, database) = (self.facts.account.clone(), named(&self.address.database));
        let (mut on_database, mut on_tables): (BTreeSet<&str>, Vec<String>) = (BTreeSet::new(), Vec::new());
        for (name, rights) in on {
            if self.has_column(name, "")?.is_some() {
                let lacking: Vec<&str> =
                    rights.iter().copied().filter(|right| !given.has(right, Some(name))).collect();
                if !lacking.is_empty() {
                    on_tables.push(format!(
                        "GRANT {} ON {database}.{} TO {account};",
                        lacking.join(", "),
                        named(name)
                    ));
                }
            } else {
                // What is not there yet is made, and then filled and changed.
                on_database.extend(TO_MAKE.iter().chain(*rights).filter(|right| !given.has(right, None)));
            }
        }
        if !given.has(TO_STAGE, None) {
            on_database.insert(TO_STAGE);
        }
        let mut grants = Vec::new();
        if !on_database.is_empty() {
            let rights: Vec<&str> = on_database.into_iter().collect();
            grants.push(format!("GRANT {} ON {database}.* TO {account};", rights.join(", ")));
        }
        // A right on the whole database is one on each of its tables.
        let is_whole = |grant: &&String| !grants.iter().any(|whole| covers(whole, grant));
        let rest: Vec<String> = on_tables.iter().filter(is_whole).cloned().collect();
        grants.extend(rest);
        Ok(grants)
    }

    /// What the user may do, by itself or by the roles it has.
    fn given(&mut self) -> Result<Given, StoreError> {
        let mut given = Given::default();
        for line in self.grants()? {
            let Some((rights, on)) = line.strip_prefix("GRANT ").and_then(|rest| rest.split_once(" ON "))
            else {
                continue;
            };
            let Some((object, _)) = on.split_once(" TO ") else { continue };
            let rights = rights_of(rights);
            match parts_of(object) {
                (database, table) if database == "*" && table == "*" => given.everywhere.extend(rights),
                (database, _) if !is_like(&self.address.database, &database) => {}
                (_, table) if table == "*" => given.in_database.extend(rights),
                (_, table) => {
                    given.on_tables.extend(rights.into_iter().map(|right| (table.to_lowercase(), right)));
                }
            }
        }
        Ok(given)
    }

    fn grants(&mut self) -> Result<Vec<String>, StoreError> {
        use mysql_async::prelude::Queryable;
        // The names come as every session of ours quotes them.
        self.with(async |conn| conn.query("SHOW GRANTS FOR CURRENT_USER()").await)
    }
}

/// A name as statements for people have it.
fn named(name: &str) -> String {
    format!("`{}`", name.replace('`', "``"))
}

/// Whether one GRANT gives all that another does.
fn covers(whole: &str, other: &str) -> bool {
    let of = |grant: &str| -> BTreeSet<String> {
        let rights = grant
            .strip_prefix("GRANT ")
            .and_then(|rest| rest.split_once(" ON "))
            .map_or("", |(rights, _)| rights);
        rights_of(rights).into_iter().collect()
    };
    of(other).is_subset(&of(whole))
}

/// The rights of a GRANT; all that there are, where it gives all.
fn rights_of(text: &str) -> Vec<String> {
    if text.starts_with("ALL") {
        let all = ["SELECT", "INSERT", "UPDATE", "DELETE", TO_STAGE];
        return all.iter().chain(&TO_MAKE).map(|right| (*right).to_owned()).collect();
    }
    // Rights on single columns are none on the table.
    text.split(", ").filter(|right| !right.contains('(')).map(|right| right.trim().to_owned()).collect()
}

/// The database and the table that a GRANT is on, without their quotes.
fn parts_of(object: &str) -> (String, String) {
    let mut parts = vec![String::new()];
    let mut quote = None;
    let mut chars = object.chars().peekable();
    while let Some(c) = chars.next() {
        let last = parts.len() - 1;
        match (c, quote) {
            (c, Some(open)) if c == open => match chars.peek() == Some(&open) {
                true => parts[last].extend(chars.next()),
                false => quote = None,
            },
            ('`' | '"', None) => quote = Some(c),
            ('.', None) if parts.len() == 1 => parts.push(String::new()),
            _ => parts[last].push(c),
        }
    }
    let mut parts = parts.into_iter();
    (parts.next().unwrap_or_default(), parts.next().unwrap_or_default())
}

/// Whether a name is of a pattern: `%` stands for any characters, `_` for one, behind a backslash for themselves.
fn is_like(name: &str, pattern: &str) -> bool {
    let mut chars = pattern.chars();
    match chars.next() {
        None => name.is_empty(),
        Some('%') => (0..=name.len())
            .filter(|at| name.is_char_boundary(*at))
            .any(|at| is_like(&name[at..], chars.as_str())),
        Some(c) => {
            let (is_any, wanted) = match c {
                '_' => (true, c),
                '\\' => (false, chars.next().unwrap_or(c)),
                c => (false, c),
            };
            let mut rest = name.chars();
            rest.next().is_some_and(|c| is_any || c == wanted) && is_like(rest.as_str(), chars.as_str())
        }
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("harbour_1", "harbour\\_1", true)]
    #[case("harbour_1", "harbour_1", true)]
    #[case("harbour_1", "harbour%", true)]
    #[case("harbour_1", "harbour\\%", false)]
    #[case("harbourX1", "harbour\\_1", false)]
    fn databases_are_named_by_patterns(#[case] name: &str, #[case] pattern: &str, #[case] expected: bool) {
        assert_eq!(is_like(name, pattern), expected);
    }

    #[rstest]
    #[case("`har``b.our`.*", "har`b.our", "*")]
    #[case("\"harbour\".\"f\"", "harbour", "f")]
    #[case("*.*", "*", "*")]
    fn objects_are_read_in_any_quotes(#[case] object: &str, #[case] database: &str, #[case] table: &str) {
        assert_eq!(parts_of(object), (database.to_owned(), table.to_owned()));
    }
}
