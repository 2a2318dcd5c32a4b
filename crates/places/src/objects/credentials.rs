//! The file of credentials that programs share: parts in brackets, with keys and values.

use std::path::PathBuf;

use crate::secret::Secret;

/// The name of the part that holds where none is asked for.
const USUAL: &str = "default";

/// Keys of a part of the file.
#[derive(Debug, PartialEq, Eq)]
pub struct SharedKeys {
    /// Whom to be.
    pub access_key: Secret,
    /// What shows it.
    pub secret_key: Secret,
    /// What keys that last for a while only come with.
    pub session_token: Option<Secret>,
}

/// The keys of a part of the shared file, if there are such.
pub fn shared_keys(profile: Option<&str>) -> Option<SharedKeys> {
    let of_environment = std::env::var("AWS_PROFILE").ok();
    let profile = profile.or(of_environment.as_deref()).unwrap_or(USUAL);
    let file = match std::env::var_os("AWS_SHARED_CREDENTIALS_FILE") {
        Some(file) => PathBuf::from(file),
        None => PathBuf::from(std::env::var_os("HOME")?).join(".aws/credentials"),
    };
    keys_in(&std::fs::read_to_string(file).ok()?, profile)
}

fn keys_in(text: &str, profile: &str) -> Option<SharedKeys> {
    let mut is_own = false;
    let (mut access, mut secret, mut token) = (None, None, None);
    for line in text.lines().map(str::trim) {
        if let Some(part) = line.strip_prefix('[').and_then(|line| line.strip_suffix(']')) {
            is_own = part.trim() == profile;
        } else if let (true, Some((key, value))) = (is_own, line.split_once('=')) {
            let value = Some(Secret::new(value.trim()));
            match key.trim() {
                "aws_access_key_id" => access = value,
                "aws_secret_access_key" => secret = value,
                "aws_session_token" => token = value,
                _ => {}
            }
        }
    }
    Some(SharedKeys { access_key: access?, secret_key: secret?, session_token: token })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const FILE: &str = "# of the harbour\n[default]\naws_access_key_id = clerk\naws_secret_access_key=low water\n\n[ cranes ]\naws_access_key_id = crane\naws_secret_access_key = high\naws_session_token = until noon\n[half]\naws_access_key_id = x\n";

    #[rstest]
    #[case::usual("default", Some(("clerk", "low water", None)))]
    #[case::named("cranes", Some(("crane", "high", Some("until noon"))))]
    #[case::without_a_secret("half", None)]
    #[case::absent("pilots", None)]
    fn keys_are_found(#[case] profile: &str, #[case] expected: Option<(&str, &str, Option<&str>)>) {
        let found = keys_in(FILE, profile);
        let found = found.as_ref().map(|keys| {
            let token = keys.session_token.as_ref().map(Secret::reveal);
            (keys.access_key.reveal(), keys.secret_key.reveal(), token)
        });
        assert_eq!(found, expected);
    }
}
