//! Reaching a MySQL or MariaDB server, over TLS where that is asked for or possible.

use mysql_async::{ClientIdentity, Conn, DriverError, Error, OptsBuilder, ServerError, SslOpts};

use rustls::CertificateError;

use super::address::{Address, Way};
use super::errors::words;
use crate::error::NotConnected;
use crate::tls::Verify;

/// How many prepared statements a connection keeps.
const STATEMENTS: usize = 200;

impl Address {
    /// Connects.
    pub async fn connect(&self) -> Result<Conn, NotConnected> {
        let tried = tokio::time::timeout(self.within, self.try_to_connect()).await;
        let connected = tried.map_err(|_| format!("no answer within {} s", self.within.as_secs()))?;
        connected.map_err(|error| {
            let is_refused = matches!(&error, Error::Server(ServerError { code: 1044 | 1045 | 1698, .. }));
            NotConnected { why: words(&error), is_refused }
        })
    }

    async fn try_to_connect(&self) -> Result<Conn, Error> {
        if !self.wants_tls() {
            return Conn::new(self.options(None)).await;
        }
        let tls = self.tls_options();
        match Conn::new(self.options(Some(tls.clone()))).await {
            Err(Error::Driver(DriverError::NoClientSslFlagFromServer)) if !self.tls.is_required() => {
                Conn::new(self.options(None)).await
            }
            Err(error) if self.tls.verify == Verify::Issuer => match name_of_certificate(&error) {
                // It was signed as it has to be, and only bears another name: by that, it is taken.
                Some(name) => {
                    let tls = tls.with_danger_tls_hostname_override(Some(name));
                    Conn::new(self.options(Some(tls))).await
                }
                None => Err(error),
            },
            done => done,
        }
    }

    fn options(&self, tls: Option<SslOpts>) -> OptsBuilder {
        let options = OptsBuilder::default()
            .user(Some(self.user.clone()))
            .pass(self.password.as_ref().map(|password| password.0.clone()))
            .db_name(Some(self.database.clone()))
            // A row that is as it was to be counts as changed.
            .client_found_rows(true)
            .stmt_cache_size(STATEMENTS)
            .prefer_socket(false)
            .ssl_opts(tls)
            .connect_attribute("program_name", "hypodoke");
        match &self.way {
            Way::Network { host, port } => options.ip_or_hostname(host.clone()).tcp_port(*port),
            Way::Socket(path) => options.socket(Some(path.to_string_lossy().into_owned())),
        }
    }

    fn tls_options(&self) -> SslOpts {
        let mut options = SslOpts::default();
        if self.tls.verify == Verify::Nothing {
            options = options.with_danger_accept_invalid_certs(true);
        } else {
            let roots = match &self.tls.roots {
                Some(file) => vec![file.clone().into()],
                None => {
                    let system = rustls_native_certs::load_native_certs().certs;
                    system.into_iter().map(|certificate| certificate.to_vec().into()).collect()
                }
            };
            options = options.with_disable_built_in_roots(true).with_root_certs(roots);
            options = options.with_danger_skip_domain_validation(self.tls.verify == Verify::Issuer);
        }
        let identity = self.tls.own.as_ref();
        let identity = identity.map(|(own, key)| ClientIdentity::new(own.clone().into(), key.clone().into()));
        options.with_client_identity(identity)
    }
}

/// The name that a certificate bears, where nothing but the name of the server was wrong with it.
fn name_of_certificate(error: &Error) -> Option<String> {
    let mut cause: Option<&(dyn std::error::Error + 'static)> = Some(error);
    while let Some(current) = cause {
        let within = current.downcast_ref::<std::io::Error>().and_then(|error| error.get_ref());
        let found = current.downcast_ref().or_else(|| within.and_then(|within| within.downcast_ref()));
        if let Some(rustls::Error::InvalidCertificate(CertificateError::NotValidForNameContext {
            presented,
            ..
        })) = found
        {
            let names =
                presented.iter().filter_map(|name| name.strip_prefix("DnsName(\"")?.strip_suffix("\")"));
            // One that stands for several is borne by each of them.
            return names.map(|name| name.replacen('*', "any", 1)).next();
        }
        cause = current.source();
    }
    None
}
