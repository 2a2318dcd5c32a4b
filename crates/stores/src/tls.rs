//! How the connection to a server is made safe: the words `sslmode` and `sslrootcert`, as `libpq` has them
//! (PostgreSQL documentation, "SSL Support").

use std::path::PathBuf;

/// How closely a server's certificate is looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Verify {
    /// Not at all.
    Nothing,
    /// Somebody that is trusted has signed it.
    Issuer,
    /// That, and it bears the server's name.
    IssuerAndName,
}

/// How a connection is made safe.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TlsChoice {
    /// The mode that was asked for, without what is said by [`TlsChoice::verify`]: `disable`, `prefer`
    /// or `require`.
    pub mode: Option<&'static str>,
    /// How closely the server's certificate is looked at.
    pub verify: Verify,
    /// A file of certificates to trust instead of the system's.
    pub roots: Option<PathBuf>,
    /// A file with the certificate that we show, and one with its key.
    pub own: Option<(PathBuf, PathBuf)>,
}

impl TlsChoice {
    /// What these words come to. Whoever names certificates to trust wants the server's to be looked at,
    /// whatever the mode; `usual` is a file of such, where it is there.
    pub fn of(
        mode: Option<&str>,
        roots: Option<String>,
        own: (Option<PathBuf>, Option<PathBuf>),
        usual: Option<PathBuf>,
    ) -> Result<TlsChoice, String> {
        let own = match own {
            (Some(certificate), Some(key)) => Some((certificate, key)),
            (None, None) => None,
            _ => return Err("a certificate and its key belong together: `sslcert` and `sslkey`".to_owned()),
        };
        let of_system = roots.as_deref() == Some("system");
        let roots = match roots {
            Some(_) if of_system => None,
            Some(file) => Some(PathBuf::from(file)),
            None => usual.filter(|file| file.is_file()),
        };
        let verified = if roots.is_some() { Verify::Issuer } else { Verify::Nothing };
        let (verify, mode) = match mode {
            Some("verify-full") => (Verify::IssuerAndName, Some("require")),
            None if of_system => (Verify::IssuerAndName, Some("require")),
            Some(_) if of_system => {
                return Err("`sslrootcert=system` goes with `sslmode=verify-full` only".to_owned());
            }
            Some("verify-ca") => (Verify::Issuer, Some("require")),
            Some("disable") => (Verify::Nothing, Some("disable")),
            Some("prefer") => (verified, Some("prefer")),
            Some("require") => (verified, Some("require")),
            Some(other) => {
                let known = "disable, prefer, require, verify-ca and verify-full";
                return Err(format!("`{other}` is no `sslmode`; there are {known}"));
            }
            None => (verified, None),
        };
        Ok(TlsChoice { mode, verify, roots, own })
    }

    /// Whether the connection has to be safe.
    pub fn is_required(&self) -> bool {
        self.mode == Some("require")
    }

    /// Whether it is to be safe where the server knows how.
    pub fn is_wanted(&self) -> bool {
        self.mode != Some("disable")
    }
}
