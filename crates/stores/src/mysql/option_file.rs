//! The option file that clients of MySQL and MariaDB read (MySQL Reference Manual, "Using Option Files"):
//! `~/.my.cnf`.

use std::path::{Path, PathBuf};

/// What the section `[client]` of an option file says.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct OptionFile {
    /// The user.
    pub user: Option<String>,
    /// The password.
    pub password: Option<String>,
    /// The server's host.
    pub host: Option<String>,
    /// Its port.
    pub port: Option<u16>,
    /// Its socket.
    pub socket: Option<PathBuf>,
}

/// A variable of the environment that says something.
pub fn environment(name: &str) -> Option<String> {
    std::env::var(name).ok().filter(|value| !value.is_empty())
}

impl OptionFile {
    /// Reads the file that is named, which has to be there, or the user's own, which need not.
    pub fn read(named: Option<&Path>) -> Result<OptionFile, String> {
        let text = match named {
            Some(file) => std::fs::read_to_string(file)
                .map_err(|error| format!("option_file `{}`: {error}", file.display()))?,
            None => {
                let own = std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".my.cnf"));
                own.and_then(|file| std::fs::read_to_string(file).ok()).unwrap_or_default()
            }
        };
        Ok(OptionFile::parse(&text))
    }

    fn parse(text: &str) -> OptionFile {
        let mut found = OptionFile::default();
        let mut is_client = false;
        for line in text.lines().map(str::trim) {
            if let Some(section) = line.strip_prefix('[') {
                is_client = matches!(section.trim_end_matches(']'), "client" | "client-mariadb");
                continue;
            }
            let Some((name, value)) =
                line.split_once('=').filter(|_| is_client && !line.starts_with(['#', ';']))
            else {
                continue;
            };
            let value = value_of(value.trim());
            match name.trim().replace('_', "-").as_str() {
                "user" => found.user = Some(value),
                "password" => found.password = Some(value),
                "host" => found.host = Some(value),
                "port" => found.port = value.parse().ok(),
                "socket" => found.socket = Some(PathBuf::from(value)),
                _ => {}
            }
        }
        found
    }
}

/// A value without its quotes, or without the remark behind it; backslashes spell what stands for nothing else.
fn value_of(text: &str) -> String {
    let bare = match text.chars().next() {
        Some(quote @ ('"' | '\'')) if text.len() > 1 && text.ends_with(quote) => &text[1..text.len() - 1],
        _ => text.split(" #").next().unwrap_or_default().trim_end(),
    };
    let mut value = String::with_capacity(bare.len());
    let mut chars = bare.chars();
    while let Some(c) = chars.next() {
        match (c, chars.as_str().chars().next()) {
            ('\\', Some(next @ ('\\' | 's' | 't' | 'n' | 'r'))) => {
                value.push(match next {
                    's' => ' ',
                    't' => '\t',
                    'n' => '\n',
                    'r' => '\r',
                    other => other,
                });
                chars.next();
            }
            _ => value.push(c),
        }
    }
    value
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_clients_are_told_counts() {
        let text = "[mysqld]\nuser=mysql\n# password=no\n[client]\nuser = clerk\npassword=\"a#b\\\\c\"\nport=3307\nsocket=/run/s # here\n[mysql]\nhost=h\n";
        let found = OptionFile::parse(text);
        let expected = OptionFile {
            user: Some("clerk".into()),
            password: Some("a#b\\c".into()),
            host: None,
            port: Some(3307),
            socket: Some("/run/s".into()),
        };
        assert_eq!(found, expected);
    }
}
