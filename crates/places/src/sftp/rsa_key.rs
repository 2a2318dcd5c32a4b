//! Signing with an RSA key of a file. The library that speaks SSH would do so by one whose time depends on the key
//! (RUSTSEC-2023-0071, the "Marvin attack"); that of ring does not.

use ring::rand::SystemRandom;
use ring::signature::{RSA_PKCS1_SHA256, RSA_PKCS1_SHA512, RsaEncoding, RsaKeyPair};
use rsa::pkcs1::EncodeRsaPrivateKey;
use russh::Signer;
use russh::keys::agent::AgentIdentity;
use russh::keys::{HashAlg, PrivateKey};

/// An RSA key to sign with.
pub struct RsaKey(RsaKeyPair);

/// Why nothing was signed.
#[derive(Debug, thiserror::Error)]
pub enum SignError {
    /// The connection is gone.
    #[error("{0}")]
    Send(#[from] russh::SendError),
    /// The key cannot be used.
    #[error("the key cannot sign")]
    Key,
}

impl RsaKey {
    /// The RSA key of a file; `None` if it is of another kind.
    ///
    /// # Errors
    ///
    /// The key is damaged, or not of 2,048 to 4,096 bits.
    pub fn of(key: &PrivateKey) -> Result<Option<RsaKey>, String> {
        let Some(pair) = key.key_data().rsa() else { return Ok(None) };
        let key = rsa::RsaPrivateKey::try_from(pair).map_err(|error| error.to_string())?;
        let der = key.to_pkcs1_der().map_err(|error| error.to_string())?;
        let pair = RsaKeyPair::from_der(der.as_bytes());
        pair.map(|pair| Some(RsaKey(pair)))
            .map_err(|why| format!("it is an RSA key that is not safe to use: {why}"))
    }

    fn signature(&self, hash: Option<HashAlg>, what: &[u8]) -> Result<Vec<u8>, SignError> {
        let (name, padding): (&str, &dyn RsaEncoding) = match hash {
            Some(HashAlg::Sha256) => ("rsa-sha2-256", &RSA_PKCS1_SHA256),
            _ => ("rsa-sha2-512", &RSA_PKCS1_SHA512),
        };
        let mut signature = vec![0; self.0.public().modulus_len()];
        let signed = self.0.sign(padding, &SystemRandom::new(), what, &mut signature);
        signed.map_err(|_| SignError::Key)?;
        Ok(string(&[string(name.as_bytes()), string(&signature)].concat()))
    }
}

/// A string as RFC 4251 writes it: its length, then its bytes.
fn string(bytes: &[u8]) -> Vec<u8> {
    let length = u32::try_from(bytes.len()).unwrap_or(u32::MAX);
    [&length.to_be_bytes(), bytes].concat()
}

impl Signer for RsaKey {
    type Error = SignError;

    /// What is to be signed, with its signature behind it (RFC 4252, section 7; RFC 8332, section 3).
    async fn auth_sign(
        &mut self,
        _: &AgentIdentity,
        hash: Option<HashAlg>,
        mut to_sign: Vec<u8>,
    ) -> Result<Vec<u8>, SignError> {
        let signature = self.signature(hash, &to_sign)?;
        to_sign.extend(signature);
        Ok(to_sign)
    }
}
