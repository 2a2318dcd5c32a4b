//! A database that is reached over TLS only.

use hypodoke_testkit::{Server, Workshop};
use rstest::rstest;

use crate::workshop;

/// One server for all: it is slow to make.
fn server() -> &'static Server {
    static SERVER: std::sync::OnceLock<Server> = std::sync::OnceLock::new();
    SERVER.get_or_init(Server::start_private)
}

fn begun() -> Workshop {
    let shop = workshop();
    shop.write("berths.csv", "berth,depth_m\nN1,7.5\nN2,8.0\n");
    shop
}

#[rstest]
#[case::private("localhost", "sslmode=require")]
#[case::preferred("localhost", "sslmode=prefer")]
#[case::unsaid("localhost", "")]
#[case::required_of_the_issuer("127.0.0.1", "sslmode=require&sslrootcert=DIR/ca.pem")]
#[case::issuer_alone("127.0.0.1", "sslrootcert=DIR/ca.pem")]
#[case::issuer("127.0.0.1", "sslmode=verify-ca&sslrootcert=DIR/ca.pem")]
#[case::issuer_and_name("localhost", "sslmode=verify-full&sslrootcert=DIR/ca.pem")]
fn a_private_way_is_taken(#[case] host: &str, #[case] query: &str) {
    let shop = begun();
    let database = server().database();
    let url = url(&database.url, host, query);
    let run = shop.run(&format!("load berths.csv --into {url}"));
    assert_eq!(run.code, Some(0), "{}{}", run.out, run.err);
    assert_eq!(database.query("SELECT berth, depth_m FROM berths ORDER BY 1"), ["N1|7.5", "N2|8.0"]);
}

#[rstest]
#[case::open("localhost", "sslmode=disable", "no pg_hba.conf entry")]
#[case::other_issuer("localhost", "sslmode=verify-ca&sslrootcert=DIR/other.pem", "certificate")]
#[case::other_name("127.0.0.1", "sslmode=verify-full&sslrootcert=DIR/ca.pem", "certificate")]
#[case::system_s_issuers("localhost", "sslmode=verify-full", "certificate")]
#[case::required_of_another("localhost", "sslmode=require&sslrootcert=DIR/other.pem", "certificate")]
#[case::preferred_of_another("localhost", "sslmode=prefer&sslrootcert=DIR/other.pem", "certificate")]
#[case::another_alone("localhost", "sslrootcert=DIR/other.pem", "certificate")]
#[case::signed_by_itself("localhost", "sslmode=require&sslrootcert=DIR/self.pem", "certificate")]
#[case::no_file("localhost", "sslmode=verify-full&sslrootcert=DIR/gone.pem", "sslrootcert `")]
#[case::no_certificate(
    "localhost",
    "sslmode=verify-full&sslrootcert=DIR/server.key",
    "there is no certificate in it"
)]
fn a_way_that_is_not_safe_enough_is_not_taken(#[case] host: &str, #[case] query: &str, #[case] words: &str) {
    let shop = begun();
    let database = server().database();
    let url = url(&database.url, host, query);
    let run = shop.run(&format!("load berths.csv --into {url}"));
    assert!(
        run.code == Some(4) && run.err.contains(words) && run.err.contains("→"),
        "{:?} {}",
        run.code,
        run.err
    );
    assert_eq!(database.query("SELECT count(*) FROM pg_tables WHERE schemaname = 'public'"), ["0"]);
}

#[rstest]
#[case::shown(
    "sslmode=verify-full&sslrootcert=DIR/ca.pem&sslcert=DIR/gauger.pem&sslkey=DIR/gauger.key",
    0,
    "1 file loaded"
)]
#[case::not_shown("sslmode=require", 4, "certificate")]
#[case::other_key("sslmode=require&sslcert=DIR/gauger.pem&sslkey=DIR/server.key", 4, "sslkey `")]
#[case::no_key("sslmode=require&sslcert=DIR/gauger.pem", 2, "belong together")]
fn a_certificate_lets_us_in(#[case] query: &str, #[case] code: i32, #[case] words: &str) {
    let shop = begun();
    let database = server().database();
    database.query("DO $$ BEGIN CREATE ROLE gauger LOGIN SUPERUSER; EXCEPTION WHEN duplicate_object OR unique_violation THEN END $$");
    let url = url(&database.url_as("gauger"), "localhost", query);
    let run = shop.run(&format!("load berths.csv --into {url}"));
    let said = format!("{}{}", run.out, run.err);
    assert!(run.code == Some(code) && said.contains(words), "{:?} {said}", run.code);
}

#[rstest]
#[case::of_the_file("localhost:*:*:clerk:low\\:water\n", 0, "1 file loaded")]
#[case::of_another_user("localhost:*:*:gauger:low\\:water\n", 4, "password")]
#[case::wrong("*:*:*:*:high water\n", 4, "password authentication failed for user \"clerk\"")]
fn the_password_file_is_read(#[case] kept: &str, #[case] code: i32, #[case] words: &str) {
    let shop = begun();
    let database = server().database();
    let role = "DO $$ BEGIN CREATE ROLE clerk LOGIN SUPERUSER PASSWORD 'low:water'; EXCEPTION WHEN duplicate_object OR unique_violation THEN END $$";
    database.query(role);
    shop.write("kept", kept);
    let mut command = shop.command("load berths.csv --into");
    command
        .arg(url(&database.url_as("clerk"), "localhost", "sslmode=require"))
        .env("PGPASSFILE", shop.path("kept"));
    let run = hypodoke_testkit::finish(command);
    let said = format!("{}{}", run.out, run.err);
    assert!(
        run.code == Some(code) && said.contains(words) && !said.contains("water"),
        "{:?} {said}",
        run.code
    );
}

fn url(url: &str, host: &str, query: &str) -> String {
    let folder = server().path("").display().to_string();
    let query = query.replace("DIR", folder.trim_end_matches('/'));
    format!("{}?{query}", url.replace("127.0.0.1", host))
}
