//! Reaching a PostgreSQL server: its address, the password from where it is kept, TLS.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring};
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime, pem::PemObject};
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, RootCertStore, SignatureScheme};
use tokio_postgres::config::{Host, SslMode};
use tokio_postgres::{Client, Config};
use tokio_postgres_rustls::MakeRustlsConnect;

use crate::error::NotConnected;
use crate::tls::{TlsChoice, Verify};

/// How long a server is waited for unless the address says otherwise.
const CONNECT_WITHIN: Duration = Duration::from_secs(15);

/// Where a PostgreSQL database is, the parts that its driver does not know of kept apart.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Address {
    /// The address as the driver takes it.
    config: Config,
    /// How the connection is made safe.
    tls: TlsChoice,
    /// The address without its password.
    pub shown: String,
    /// The password stands in the address itself.
    pub has_password: bool,
}

impl Address {
    /// Reads `postgres://user@host:port/database?sslmode=…`.
    pub fn parse(text: &str) -> Result<Address, String> {
        let (base, query) = text.split_once('?').unwrap_or((text, ""));
        let (mut mode, mut roots) = (environment("PGSSLMODE"), environment("PGSSLROOTCERT"));
        let mut rest: Vec<&str> = Vec::new();
        let mut own = (None, None);
        for pair in query.split('&').filter(|pair| !pair.is_empty()) {
            match pair.split_once('=') {
                Some(("sslmode", wanted)) => mode = Some(wanted.to_owned()),
                Some(("sslrootcert", file)) => roots = Some(file.to_owned()),
                Some(("sslcert", file)) => own.0 = Some(PathBuf::from(file)),
                Some(("sslkey", file)) => own.1 = Some(PathBuf::from(file)),
                _ => rest.push(pair),
            }
        }
        let usual = std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".postgresql/root.crt"));
        let tls = TlsChoice::of(mode.as_deref(), roots, own, usual)?;
        let mode = tls.mode.map(|mode| format!("sslmode={mode}"));
        rest.extend(mode.as_deref());
        let joined = if rest.is_empty() { base.to_owned() } else { format!("{base}?{}", rest.join("&")) };
        let mut config: Config = joined.parse().map_err(|error: tokio_postgres::Error| {
            let cause = std::error::Error::source(&error).map(|cause| format!(": {cause}"));
            format!("{error}{}", cause.unwrap_or_default())
        })?;
        let has_password = config.get_password().is_some();
        complete(&mut config);
        let shown = shown(&config);
        Ok(Address { config, tls, shown, has_password })
    }

    /// The user that the server is to know us as.
    pub fn user(&self) -> &str {
        self.config.get_user().unwrap_or_default()
    }

    /// Connects, and leaves the connection to the runtime.
    pub async fn connect(&self) -> Result<Client, NotConnected> {
        let tls = MakeRustlsConnect::new(self.client_config()?);
        let (client, connection) = self.config.connect(tls).await.map_err(|error| not_connected(&error))?;
        tokio::spawn(async move {
            // What ends a connection is told by the call that needed it.
            let _ = connection.await;
        });
        Ok(client)
    }

    fn client_config(&self) -> Result<ClientConfig, String> {
        let provider = Arc::new(ring::default_provider());
        let builder = ClientConfig::builder_with_provider(provider.clone())
            .with_safe_default_protocol_versions()
            .map_err(|error| error.to_string())?;
        let builder = if self.tls.verify == Verify::Nothing || self.config.get_ssl_mode() == SslMode::Disable
        {
            let verifier = Arc::new(Trusting { provider, inner: None });
            builder.dangerous().with_custom_certificate_verifier(verifier)
        } else if self.tls.verify == Verify::IssuerAndName {
            builder.with_root_certificates(self.trusted()?)
        } else {
            let roots = Arc::new(self.trusted()?);
            let inner = WebPkiServerVerifier::builder_with_provider(roots, provider.clone())
                .build()
                .map_err(|error| error.to_string())?;
            let verifier = Arc::new(Trusting { provider, inner: Some(inner) });
            builder.dangerous().with_custom_certificate_verifier(verifier)
        };
        let Some((certificate, key)) = &self.tls.own else { return Ok(builder.with_no_client_auth()) };
        let shown = certificates("sslcert", certificate)?;
        let wrong = |why: String| format!("sslkey `{}`: {why}", key.display());
        let key = PrivateKeyDer::from_pem_file(key).map_err(|error| wrong(error.to_string()))?;
        builder.with_client_auth_cert(shown, key).map_err(|error| wrong(error.to_string()))
    }

    fn trusted(&self) -> Result<RootCertStore, String> {
        let mut roots = RootCertStore::empty();
        match &self.tls.roots {
            Some(file) => {
                for certificate in certificates("sslrootcert", file)? {
                    let wrong = |why: rustls::Error| format!("sslrootcert `{}`: {why}", file.display());
                    roots.add(certificate).map_err(wrong)?;
                }
            }
            None => {
                for certificate in rustls_native_certs::load_native_certs().certs {
                    // A certificate of the system's that is not understood is trusted by nobody.
                    let _ = roots.add(certificate);
                }
            }
        }
        Ok(roots)
    }
}

/// A variable of the environment that says something.
fn environment(name: &str) -> Option<String> {
    std::env::var(name).ok().filter(|value| !value.is_empty())
}

/// The certificates of a file, which `setting` names.
fn certificates(setting: &str, file: &Path) -> Result<Vec<CertificateDer<'static>>, String> {
    let wrong = |why: String| format!("{setting} `{}`: {why}", file.display());
    let found = CertificateDer::pem_file_iter(file).map_err(|error| wrong(error.to_string()))?;
    let all: Result<Vec<_>, _> = found.collect();
    match all {
        Ok(all) if all.is_empty() => Err(wrong("there is no certificate in it".to_owned())),
        all => all.map_err(|error| wrong(error.to_string())),
    }
}

/// Why a server could not be connected to: it does not take the user or the password (PostgreSQL documentation,
/// "Error Codes", class 28), or none was at hand.
fn not_connected(error: &tokio_postgres::Error) -> NotConnected {
    let why = words(error);
    let is_refused = match error.code() {
        Some(state) => state.code().starts_with("28"),
        None => why.contains("password missing"),
    };
    NotConnected { why, is_refused }
}

/// An error of the driver with what lies beneath it.
pub fn words(error: &tokio_postgres::Error) -> String {
    match error.as_db_error() {
        Some(error) => error.message().to_owned(),
        None => match std::error::Error::source(error) {
            Some(cause) => format!("{error}: {cause}"),
            None => error.to_string(),
        },
    }
}

/// What the address leaves out comes from the environment, as for any client of PostgreSQL's.
fn complete(config: &mut Config) {
    if config.get_user().is_none()
        && let Some(user) = environment("PGUSER").or_else(|| environment("USER"))
    {
        config.user(user);
    }
    if config.get_hosts().is_empty() {
        config.host(environment("PGHOST").unwrap_or_else(|| "/var/run/postgresql".to_owned()));
    }
    if config.get_password().is_none() {
        if let Some(password) = environment("PGPASSWORD") {
            config.password(password);
        } else if let Some(password) = kept_password(config) {
            config.password(password);
        }
    }
    if config.get_application_name().is_none() {
        config.application_name("hypodoke");
    }
    if config.get_connect_timeout().is_none() {
        config.connect_timeout(CONNECT_WITHIN);
    }
}

fn host_of(config: &Config) -> String {
    match config.get_hosts().first() {
        Some(Host::Tcp(host)) => host.clone(),
        #[cfg(unix)]
        Some(Host::Unix(path)) => path.to_string_lossy().into_owned(),
        None => String::new(),
    }
}

fn port_of(config: &Config) -> u16 {
    config.get_ports().first().copied().unwrap_or(5432)
}

/// The password in the password file: lines of `host:port:database:user:password`.
fn kept_password(config: &Config) -> Option<String> {
    let file = std::env::var_os("PGPASSFILE").map(PathBuf::from).or_else(|| {
        let home = std::env::var_os("HOME")?;
        Some(PathBuf::from(home).join(".pgpass"))
    })?;
    let text = std::fs::read_to_string(file).ok()?;
    let user = config.get_user().unwrap_or_default();
    let host = host_of(config);
    let host = if host.starts_with('/') { "localhost".to_owned() } else { host };
    let wanted =
        [host, port_of(config).to_string(), config.get_dbname().unwrap_or(user).to_owned(), user.to_owned()];
    text.lines().filter(|line| !line.starts_with('#')).find_map(|line| {
        let fields = split_escaped(line);
        let fits = fields.len() == 5
            && fields.iter().zip(&wanted).all(|(field, wanted)| field == "*" || field == wanted);
        fits.then(|| fields[4].clone())
    })
}

/// Fields parted by colons, a backslash before those that are none.
fn split_escaped(line: &str) -> Vec<String> {
    let mut fields = vec![String::new()];
    let mut chars = line.chars();
    while let Some(c) = chars.next() {
        let last = fields.len() - 1;
        match c {
            '\\' => fields[last].extend(chars.next()),
            ':' if fields.len() < 5 => fields.push(String::new()),
            c => fields[last].push(c),
        }
    }
    fields
}

fn shown(config: &Config) -> String {
    let user = config.get_user().map(|user| format!("{user}@")).unwrap_or_default();
    let database = config.get_dbname().or(config.get_user()).unwrap_or_default();
    let host = host_of(config);
    let port = port_of(config);
    if host.starts_with('/') {
        return format!("postgres://{user}{host}:{port}/{database}");
    }
    format!("postgres://{user}{host}:{port}/{database}")
}

/// Takes any certificate, or any that a trusted issuer has signed whatever name it bears.
#[derive(Debug)]
struct Trusting {
    provider: Arc<CryptoProvider>,
    inner: Option<Arc<WebPkiServerVerifier>>,
}

impl ServerCertVerifier for Trusting {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        between: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        answer: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        let Some(inner) = &self.inner else { return Ok(ServerCertVerified::assertion()) };
        match inner.verify_server_cert(certificate, between, name, answer, now) {
            // Only a name that does not fit is forgiven.
            Err(rustls::Error::InvalidCertificate(
                CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. },
            )) => Ok(ServerCertVerified::assertion()),
            other => other,
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let known = &self.provider.signature_verification_algorithms;
        rustls::crypto::verify_tls12_signature(message, certificate, signed, known)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        let known = &self.provider.signature_verification_algorithms;
        rustls::crypto::verify_tls13_signature(message, certificate, signed, known)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
