//! TLS and passwords.

use std::process::Command;
use std::sync::OnceLock;

use hypodoke_testkit::{Mariadb, finish};
use rstest::rstest;

use super::database;
use crate::workshop;
/// One server for all: it is slow to make.
fn private() -> &'static Mariadb {
    static SERVER: OnceLock<Mariadb> = OnceLock::new();
    SERVER.get_or_init(|| Mariadb::start_private(&[]))
}

fn in_private(query: &str) -> String {
    query.replace("DIR", private().path("").display().to_string().trim_end_matches('/'))
}

#[rstest]
#[case::required("localhost", "sslmode=require")]
#[case::preferred("localhost", "sslmode=prefer")]
#[case::unsaid("localhost", "")]
#[case::issuer("127.0.0.1", "sslmode=verify-ca&sslrootcert=DIR/ca.pem")]
#[case::issuer_alone("127.0.0.1", "sslrootcert=DIR/ca.pem")]
#[case::issuer_and_name("localhost", "sslmode=verify-full&sslrootcert=DIR/ca.pem")]
fn a_private_way_is_taken(#[case] host: &str, #[case] query: &str) {
    let (shop, database) = (workshop(), private().database());
    shop.write("berths.csv", "berth,depth_m\nN1,7.5\n");
    let user = format!("gauger_{}", database.name);
    private().administer(&format!(
        "CREATE USER {user}@'%' REQUIRE SSL; GRANT ALL ON {}.* TO {user}@'%'",
        database.name
    ));
    let url = format!("{}?{}", database.url_as(&user).replace("127.0.0.1", host), in_private(query));
    let run = shop.run(&format!("load berths.csv --into {url}"));
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    assert_eq!(database.query("SELECT berth, depth_m FROM berths"), ["N1|7.5"]);
}

#[rstest]
#[case::other_issuer("localhost", "sslmode=verify-ca&sslrootcert=DIR/other.pem", "certificate")]
#[case::other_name("127.0.0.1", "sslmode=verify-full&sslrootcert=DIR/ca.pem", "certificate")]
#[case::system_s_issuers("localhost", "sslmode=verify-full", "certificate")]
#[case::required_of_another("localhost", "sslmode=require&sslrootcert=DIR/other.pem", "certificate")]
#[case::no_file("localhost", "sslmode=verify-full&sslrootcert=DIR/gone.pem", "No such file")]
fn a_way_that_is_not_safe_enough_is_not_taken(#[case] host: &str, #[case] query: &str, #[case] words: &str) {
    let (shop, database) = (workshop(), private().database());
    shop.write("berths.csv", "berth,depth_m\nN1,7.5\n");
    let url = format!("{}?{}", database.url.replace("127.0.0.1", host), in_private(query));
    let run = shop.run(&format!("load berths.csv --into {url}"));
    let is_told = run.code == Some(4) && run.err.contains(words) && run.err.contains("→");
    assert!(is_told, "{:?} {}", run.code, run.err);
}

/// A server that has no certificate is talked to openly where that is allowed.
#[rstest]
#[case::preferred("sslmode=prefer", 0)]
#[case::required("sslmode=require", 4)]
fn a_server_without_certificates(#[case] query: &str, #[case] code: i32) {
    let (shop, database) = (workshop(), database());
    shop.write("berths.csv", "berth,depth_m\nN1,7.5\n");
    let run = shop.run(&format!("load berths.csv --into {}?{query}", database.url));
    assert_eq!(run.code, Some(code), "{}{}", run.out, run.err);
}

#[rstest]
#[case::environment("", Some("low:water"), "", 0)]
#[case::option_file("", None, "[client]\npassword=\"low:water\"\n", 0)]
#[case::named_file("?option_file=own.cnf", None, "", 0)]
#[case::wrong("", Some("high water"), "", 4)]
#[case::none("", None, "", 4)]
fn a_password_comes_from_where_it_is_kept(
    #[case] query: &str,
    #[case] variable: Option<&str>,
    #[case] file: &str,
    #[case] code: i32,
) {
    let (shop, database) = (workshop(), database());
    let user = format!("clerk_{}", database.name);
    database.query(&format!(
        "CREATE USER {user}@'%' IDENTIFIED BY 'low:water'; GRANT ALL ON {}.* TO {user}@'%'",
        database.name
    ));
    shop.write("berths.csv", "berth\nN1\n");
    shop.write("home/.my.cnf", file);
    let own = shop.write("own.cnf", "[client]\npassword=low:water\n");
    let query = query.replace("own.cnf", &own.display().to_string());
    let mut command: Command = shop.command("load berths.csv --into");
    command.arg(format!("{}{query}", database.url_as(&user))).env("HOME", shop.path("home"));
    if let Some(value) = variable {
        command.env("MYSQL_PWD", value);
    }
    let run = finish(command);
    let said = format!("{}{}", run.out, run.err);
    assert!(run.code == Some(code) && !said.contains("low:water"), "{:?} {said}", run.code);
    let is_told = said.contains("does not let us in: Access denied") && said.contains("MYSQL_PWD");
    assert!(code == 0 || is_told, "{said}");
}

#[test]
fn a_password_is_not_taken_from_the_command_line() {
    let (shop, database) = (workshop(), database());
    shop.write("f.csv", "id\n1\n");
    let run =
        shop.run(&format!("load f.csv --into {}", database.url.replace("quillane@", "quillane:hawser@")));
    assert_eq!(run.code, Some(2));
    assert!(run.err.contains("holds a password") && !run.err.contains("hawser"), "{}", run.err);
}

#[test]
fn a_schema_is_of_another_database() {
    let shop = workshop();
    shop.write(
        "hypodoke.toml",
        "[staging]\nurl = \"mysql://clerk@127.0.0.1/harbour\"\nschema = \"staging\"\n",
    );
    let run = shop.run("load");
    assert!(
        run.code == Some(2) && run.err.contains("only PostgreSQL has schemas"),
        "{:?} {}",
        run.code,
        run.err
    );
    assert!(shop.ok("load --help").out.contains("mysql://USER@HOST/DATABASE"));
}
