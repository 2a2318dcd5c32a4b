//! Where a MySQL or MariaDB database is: the address, and what it leaves out.

use std::borrow::Cow;
use std::path::{Path, PathBuf};
use std::time::Duration;

use url::Url;

use super::option_file::{OptionFile, environment};
use crate::tls::TlsChoice;

/// How long a server is waited for unless the address says otherwise.
const CONNECT_WITHIN: Duration = Duration::from_secs(15);

/// The port that servers listen at.
const PORT: u16 = 3306;

/// A password, which nothing shows.
#[derive(Clone, PartialEq, Eq)]
pub struct Password(pub String);

impl std::fmt::Debug for Password {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("…")
    }
}

/// How a server is reached.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Way {
    /// Over the network.
    Network {
        /// Its name or number.
        host: String,
        /// Its port.
        port: u16,
    },
    /// By a Unix socket.
    Socket(PathBuf),
}

/// Where a database is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Address {
    /// How its server is reached.
    pub way: Way,
    /// The user that the server is to know us as.
    pub user: String,
    /// The password.
    pub password: Option<Password>,
    /// The database.
    pub database: String,
    /// How the connection is made safe.
    pub tls: TlsChoice,
    /// How long the server is waited for.
    pub within: Duration,
    /// The address without its password.
    pub shown: String,
    /// The password stands in the address itself.
    pub has_password: bool,
}

/// What an address says behind its question mark.
#[derive(Default)]
struct Options {
    mode: Option<String>,
    roots: Option<String>,
    own: (Option<PathBuf>, Option<PathBuf>),
    socket: Option<PathBuf>,
    within: Option<Duration>,
    option_file: Option<PathBuf>,
}

impl Address {
    /// Reads `mysql://user@host:port/database?sslmode=…`. What it leaves out comes from the environment and
    /// from the section `[client]` of the user's option file.
    pub fn parse(text: &str) -> Result<Address, String> {
        // The general syntax knows no user at no host.
        let (text, has_host) = with_host(text);
        let url = Url::parse(&text).map_err(|error| error.to_string())?;
        let options = options(&url)?;
        let file = OptionFile::read(options.option_file.as_deref())?;
        let database = decoded(url.path().trim_start_matches('/'))?;
        if database.is_empty() {
            return Err("it names no database: mysql://USER@HOST/DATABASE".to_owned());
        }
        let user = named(url.username()).map(decoded).transpose()?;
        let user = user.or(file.user).or_else(|| environment("USER"));
        let user = user.ok_or("it names no user: mysql://USER@HOST/DATABASE")?;
        let in_address = url.password().map(decoded).transpose()?;
        let has_password = in_address.is_some();
        let password = in_address.or_else(|| environment("MYSQL_PWD")).or(file.password).map(Password);
        let host = url
            .host_str()
            .filter(|_| has_host)
            .and_then(named)
            .map(|host| host.trim_matches(['[', ']']).to_owned());
        // A host that is named is meant, whatever socket a file names.
        let socket = options.socket.or(if host.is_none() { file.socket } else { None });
        let way = match (socket, host.or(file.host)) {
            (Some(socket), _) => Way::Socket(socket),
            (None, Some(host)) => Way::Network { host, port: url.port().or(file.port).unwrap_or(PORT) },
            (None, None) => Way::Socket(usual_socket()),
        };
        let tls = TlsChoice::of(options.mode.as_deref(), options.roots, options.own, None)?;
        let shown = shown(&way, &user, &database);
        let within = options.within.unwrap_or(CONNECT_WITHIN);
        Ok(Address { way, user, password, database, tls, within, shown, has_password })
    }

    /// Whether the server is to be talked to over TLS where that is possible.
    pub fn wants_tls(&self) -> bool {
        // Nothing leaves the machine by a socket.
        matches!(self.way, Way::Network { .. }) && self.tls.is_wanted()
    }
}

/// An address with a host, and whether it had one.
fn with_host(text: &str) -> (Cow<'_, str>, bool) {
    let begin = text.find("://").map_or(0, |at| at + 3);
    let rest = text.get(begin..).unwrap_or_default();
    let end = begin + rest.find('/').unwrap_or(rest.len());
    match text.get(..end) {
        Some(head) if head.ends_with('@') || head.ends_with('/') => {
            (Cow::Owned(format!("{head}localhost{}", text.get(end..).unwrap_or_default())), false)
        }
        _ => (Cow::Borrowed(text), true),
    }
}

fn named(text: &str) -> Option<&str> {
    (!text.is_empty()).then_some(text)
}

fn options(url: &Url) -> Result<Options, String> {
    let mut options = Options::default();
    for (name, value) in url.query_pairs() {
        let value = value.into_owned();
        match name.as_ref() {
            "sslmode" => options.mode = Some(value),
            "sslrootcert" => options.roots = Some(value),
            "sslcert" => options.own.0 = Some(PathBuf::from(value)),
            "sslkey" => options.own.1 = Some(PathBuf::from(value)),
            "socket" => options.socket = Some(PathBuf::from(value)),
            "option_file" => options.option_file = Some(PathBuf::from(value)),
            "connect_timeout" => {
                let seconds =
                    value.parse().map_err(|_| format!("connect_timeout is `{value}`, and takes seconds"))?;
                options.within = Some(Duration::from_secs(seconds));
            }
            other => return Err(format!("`{other}` is not known; {KNOWN}")),
        }
    }
    Ok(options)
}

const KNOWN: &str =
    "there are socket, sslmode, sslrootcert, sslcert, sslkey, option_file and connect_timeout";

/// Where Debian's servers have their socket, and others'.
fn usual_socket() -> PathBuf {
    let usual = ["/run/mysqld/mysqld.sock", "/var/lib/mysql/mysql.sock", "/tmp/mysql.sock"];
    let found = usual.iter().find(|path| Path::new(path).exists());
    PathBuf::from(found.unwrap_or(&usual[0]))
}

fn decoded(text: &str) -> Result<String, String> {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.bytes();
    while let Some(byte) = rest.next() {
        if byte != b'%' {
            bytes.push(byte);
            continue;
        }
        let mut digit = || rest.next().and_then(|byte| (byte as char).to_digit(16));
        let (high, low) = (digit(), digit());
        let (Some(high), Some(low)) = (high, low) else {
            return Err("a `%` in it is not followed by two hexadecimal digits".to_owned());
        };
        bytes.push((high * 16 + low) as u8);
    }
    String::from_utf8(bytes).map_err(|_| "a part of it is not UTF-8".to_owned())
}

fn shown(way: &Way, user: &str, database: &str) -> String {
    match way {
        Way::Network { host, port } if host.contains(':') => {
            format!("mysql://{user}@[{host}]:{port}/{database}")
        }
        Way::Network { host, port } => format!("mysql://{user}@{host}:{port}/{database}"),
        Way::Socket(socket) => format!("mysql://{user}@localhost/{database}?socket={}", socket.display()),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn parsed(text: &str) -> Address {
        Address::parse(text).expect("an address")
    }

    #[rstest]
    #[case::plain("mysql://clerk@quay.example/harbour", "mysql://clerk@quay.example:3306/harbour")]
    #[case::port("mysql://clerk@quay.example:3307/harbour", "mysql://clerk@quay.example:3307/harbour")]
    #[case::six("mysql://clerk@[::1]:3307/harbour", "mysql://clerk@[::1]:3307/harbour")]
    #[case::escaped("mysql://a%40b@h/d%20e", "mysql://a@b@h:3306/d e")]
    #[case::socket("mysql://clerk@/harbour?socket=/run/s", "mysql://clerk@localhost/harbour?socket=/run/s")]
    fn an_address_is_shown_as_it_is_meant(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(parsed(text).shown, expected);
    }

    #[test]
    fn no_password_is_shown() {
        let address = parsed("mysql://clerk:low%21@h/d");
        assert_eq!((address.password.clone(), address.has_password), (Some(Password("low!".into())), true));
        assert!(!format!("{address:?}").contains("low"));
    }

    #[rstest]
    #[case("mysql://clerk@h", "names no database")]
    #[case("mysql://clerk@h/d?sslmode=often", "`often`")]
    #[case("mysql://clerk@h/d?ssl=1", "`ssl` is not known")]
    #[case("mysql://clerk@h/d?sslcert=a", "belong together")]
    #[case("mysql://clerk@h/d%2", "hexadecimal")]
    #[case("mysql://clerk@h/d?option_file=/nowhere/my.cnf", "/nowhere/my.cnf")]
    fn what_is_wrong_with_an_address_is_said(#[case] text: &str, #[case] why: &str) {
        let error = Address::parse(text).expect_err("no address");
        assert!(error.contains(why), "{error}");
    }
}
