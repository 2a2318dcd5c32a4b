//! Statements of the user's own that would end the transaction they are run in (MySQL Reference Manual,
//! "Statements That Cause an Implicit Commit").

/// Words that begin statements which commit what was done before them.
const ENDING: [&str; 21] = [
    "ALTER",
    "ANALYZE",
    "BEGIN",
    "CACHE",
    "CHECK",
    "COMMIT",
    "CREATE",
    "DROP",
    "FLUSH",
    "GRANT",
    "INSTALL",
    "LOCK",
    "OPTIMIZE",
    "RENAME",
    "REPAIR",
    "RESET",
    "REVOKE",
    "START",
    "TRUNCATE",
    "UNINSTALL",
    "UNLOCK",
];

/// Words that begin statements of which nobody knows what they do.
const OPEN: [&str; 2] = ["CALL", "EXECUTE"];

/// How many words of a statement are shown.
const SHOWN: usize = 4;

/// The first of these statements that ends the transaction, in its first words. Before the rows, also one that
/// may do so: what was committed by then would be half a file.
pub fn ending(statements: &str, is_before: bool) -> Option<String> {
    let found = beginnings(statements).into_iter().find(|words| ends(words, is_before));
    found.map(|words| words.iter().take(SHOWN).map(String::as_str).collect::<Vec<_>>().join(" "))
}

fn ends(words: &[String], is_before: bool) -> bool {
    let [first, rest @ ..] = words else { return false };
    let second = rest.first().map(String::as_str).unwrap_or_default();
    match first.as_str() {
        "CREATE" | "DROP" => second != "TEMPORARY",
        "ROLLBACK" => second != "TO",
        "SET" => second == "PASSWORD" || sets_autocommit(words),
        word => ENDING.contains(&word) || is_before && OPEN.contains(&word),
    }
}

/// Whether a statement sets this session's `autocommit`, among other things perhaps.
fn sets_autocommit(words: &[String]) -> bool {
    let mut pairs = words.iter().zip(words.iter().skip(1));
    pairs.any(|(before, word)| word == "AUTOCOMMIT" && before != "GLOBAL")
}

/// The first two words of each statement, in capitals; of one that sets variables all words but those of users.
fn beginnings(text: &str) -> Vec<Vec<String>> {
    let mut all: Vec<Vec<String>> = vec![Vec::new()];
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        let word = rest.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(rest.len());
        let taken = match c {
            '\'' | '"' | '`' => quoted(rest, c),
            '#' => line(rest),
            '-' if rest.starts_with("--") => line(rest),
            // What stands in `/*! … */` is run.
            '/' if rest.starts_with("/*!") => 3,
            '/' if rest.starts_with("/*") => rest.find("*/").map_or(rest.len(), |at| at + 2),
            ';' => {
                all.push(Vec::new());
                1
            }
            // A user variable may have any name.
            '@' if rest.starts_with("@@") => 2,
            '@' => {
                let name = rest.get(1..).unwrap_or_default();
                1 + name.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(name.len())
            }
            _ if word > 0 => {
                let is_version = rest.as_bytes().first().is_some_and(u8::is_ascii_digit);
                if let Some(words) = all.last_mut().filter(|words| {
                    let is_set = words.first().is_some_and(|first| first == "SET");
                    (words.len() < 2 || is_set) && !is_version
                }) {
                    words.push(rest[..word].to_uppercase());
                }
                word
            }
            c => c.len_utf8(),
        };
        rest = rest.get(taken..).unwrap_or_default();
    }
    all
}

fn line(text: &str) -> usize {
    text.find('\n').unwrap_or(text.len())
}

/// The length of a quoted part with its quotes.
fn quoted(text: &str, quote: char) -> usize {
    let mut chars = text.char_indices().skip(1);
    while let Some((at, c)) = chars.next() {
        if c == quote {
            return at + 1;
        }
        if c == '\\' && quote != '`' {
            chars.next();
        }
    }
    text.len()
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("INSERT INTO log VALUES ('DROP TABLE f; COMMIT')", false, None)]
    #[case("-- CREATE\n# DROP\n/* ALTER */ UPDATE f SET a = 1", false, None)]
    #[case("CREATE TEMPORARY TABLE t (a int); DROP TEMPORARY TABLE t", false, None)]
    #[case("INSERT INTO a VALUES (1); truncate table b", false, Some("TRUNCATE TABLE"))]
    #[case("/*!40000 ALTER TABLE f DISABLE KEYS */", false, Some("ALTER TABLE"))]
    #[case("SAVEPOINT a; ROLLBACK TO a", false, None)]
    #[case("rollback", false, Some("ROLLBACK"))]
    #[case("SET autocommit = 1", false, Some("SET AUTOCOMMIT"))]
    #[case("SET SESSION autocommit = 1", false, Some("SET SESSION AUTOCOMMIT"))]
    #[case("set @@session.autocommit=1", false, Some("SET SESSION AUTOCOMMIT"))]
    #[case("SET sql_mode = '', @@autocommit = 1", false, Some("SET SQL_MODE AUTOCOMMIT"))]
    #[case("SET GLOBAL autocommit = 1", false, None)]
    #[case("SET @autocommit = 1, @x := 'autocommit'", false, None)]
    #[case("CALL tidy()", false, None)]
    #[case("CALL tidy()", true, Some("CALL TIDY"))]
    #[case("SELECT 'it''s'; commit", false, Some("COMMIT"))]
    #[case("SELECT 'a\\'; ALTER'", false, None)]
    fn what_ends_a_transaction_is_known_by_its_first_words(
        #[case] text: &str,
        #[case] is_before: bool,
        #[case] expected: Option<&str>,
    ) {
        assert_eq!(ending(text, is_before).as_deref(), expected);
    }
}
