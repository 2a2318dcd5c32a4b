//! Saying who we are: by key, by agent, by password.

use std::sync::Arc;

use russh::MethodKind;
use russh::client::{AuthResult, Handle, Handler, KeyboardInteractiveAuthResponse as Answer};
use russh::keys::agent::client::AgentClient;
use russh::keys::{HashAlg, PrivateKeyWithHashAlg, PublicKey, load_secret_key};

use super::address::SftpAddress;
use super::rsa_key::RsaKey;
use crate::error::RemoteTrouble;
use crate::one_line::one_line;

/// How often a server may ask before it is given up.
const MOST_QUESTIONS: usize = 4;

fn lost(error: russh::Error) -> RemoteTrouble {
    RemoteTrouble::Lost(error.to_string())
}

/// By key, by agent, by password: whichever is there, until one is taken.
pub async fn log_in<H: Handler>(address: &SftpAddress, handle: &mut Handle<H>) -> Result<(), RemoteTrouble> {
    let mut tried = Vec::new();
    if let Some(file) = &address.key_file {
        let passphrase = address.passphrase.as_ref().map(|secret| secret.reveal());
        let key = load_secret_key(file, passphrase).map_err(|error| RemoteTrouble::BadKeyFile {
            file: file.clone(),
            why: match error {
                russh::keys::Error::KeyIsEncrypted => "it asks for a passphrase".to_owned(),
                other => other.to_string(),
            },
        })?;
        let wrong = |why: String| RemoteTrouble::BadKeyFile { file: file.clone(), why };
        let let_in = match RsaKey::of(&key).map_err(wrong)? {
            Some(mut rsa) => by_rsa_key(address, handle, key.public_key().clone(), &mut rsa).await?,
            None => {
                let key = PrivateKeyWithHashAlg::new(Arc::new(key), None);
                handle.authenticate_publickey(&address.user, key).await.map_err(lost)?.success()
            }
        };
        if let_in {
            return Ok(());
        }
        tried.push(format!("the key {}", file.display()));
    } else if address.password.is_none() && std::env::var_os("SSH_AUTH_SOCK").is_some() {
        if by_agent(address, handle).await {
            return Ok(());
        }
        tried.push("the keys of the agent".to_owned());
    }
    if let Some(password) = &address.password {
        if by_password(address, handle, password.reveal()).await? {
            return Ok(());
        }
        tried.push("the password".to_owned());
    }
    if tried.is_empty() {
        return Err(RemoteTrouble::NoWayIn);
    }
    Err(RemoteTrouble::NotLetIn { user: address.user.clone(), tried: tried.join(", ") })
}

async fn by_rsa_key<H: Handler>(
    address: &SftpAddress,
    handle: &mut Handle<H>,
    public: PublicKey,
    key: &mut RsaKey,
) -> Result<bool, RemoteTrouble> {
    let hash = handle.best_supported_rsa_hash().await.map_err(lost)?.flatten().unwrap_or(HashAlg::Sha512);
    let answer = handle.authenticate_publickey_with(&address.user, public, Some(hash), key).await;
    answer.map(|answer| answer.success()).map_err(|error| RemoteTrouble::Lost(error.to_string()))
}

async fn by_agent<H: Handler>(address: &SftpAddress, handle: &mut Handle<H>) -> bool {
    let Ok(mut agent) = AgentClient::connect_env().await else { return false };
    let Ok(mut identities) = agent.request_identities().await else { return false };
    // RSA last: keys of other kinds are quicker, and how long they take says nothing of them.
    identities.sort_by_key(|identity| identity.public_key().algorithm().is_rsa());
    for identity in identities {
        let key = identity.public_key().into_owned();
        let answer = handle.authenticate_publickey_with(&address.user, key, None, &mut agent).await;
        if answer.is_ok_and(|answer| answer.success()) {
            return true;
        }
    }
    false
}

/// Many servers take a password only as the answer to a question.
async fn by_password<H: Handler>(
    address: &SftpAddress,
    handle: &mut Handle<H>,
    password: &str,
) -> Result<bool, RemoteTrouble> {
    match handle.authenticate_password(&address.user, password).await.map_err(lost)? {
        AuthResult::Success => return Ok(true),
        AuthResult::Failure { remaining_methods, .. }
            if !remaining_methods.contains(&MethodKind::KeyboardInteractive) =>
        {
            return Ok(false);
        }
        AuthResult::Failure { .. } => {}
    }
    let mut answer =
        handle.authenticate_keyboard_interactive_start(&address.user, None).await.map_err(lost)?;
    let mut given = false;
    for _ in 0..MOST_QUESTIONS {
        let Answer::InfoRequest { instructions, prompts, .. } = answer else { break };
        let words = match &prompts[..] {
            [] => Vec::new(),
            // What is typed unseen is the password; anything else is for a person.
            [only] if !given && !only.echo => {
                given = true;
                vec![password.to_owned()]
            }
            [first, ..] => {
                let prompt = one_line(&format!("{instructions} {}", first.prompt));
                return Err(RemoteTrouble::Asks { prompt });
            }
        };
        answer = handle.authenticate_keyboard_interactive_respond(words).await.map_err(lost)?;
    }
    Ok(matches!(answer, Answer::Success))
}
