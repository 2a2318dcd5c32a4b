//! Certificates for a server that is reached over TLS.

use std::os::unix::fs::{PermissionsExt, chown};
use std::path::Path;

use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, DnType, IsCa, KeyPair};

use crate::user::{NOBODY, is_root};

/// Writes certificates into a server's folder: `ca.pem`, which signed `server.pem` for `localhost` and
/// `gauger.pem` for that user; `other.pem`, which signed nothing; and `self.pem`, which signed itself.
pub fn write_all(folder: &Path) {
    let (ours, other) = (issuer("Quillane harbour"), issuer("Somebody else"));
    put(folder, "ca.pem", &ours.pem());
    put(folder, "other.pem", &other.pem());
    let own = KeyPair::generate().expect("a key");
    let alone = CertificateParams::new(vec!["localhost".to_owned()]).expect("a name");
    put(folder, "self.pem", &alone.self_signed(&own).expect("a certificate").pem());
    for (name, common) in [("server", "localhost"), ("gauger", "gauger")] {
        let key = KeyPair::generate().expect("a key");
        let mut wanted = CertificateParams::new(vec![common.to_owned()]).expect("a name");
        wanted.distinguished_name.push(DnType::CommonName, common);
        let certificate = wanted.signed_by(&key, &ours).expect("a certificate");
        put(folder, &format!("{name}.pem"), &certificate.pem());
        put(folder, &format!("{name}.key"), &key.serialize_pem());
    }
}

fn issuer(name: &str) -> CertifiedIssuer<'static, KeyPair> {
    let mut wanted = CertificateParams::default();
    wanted.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    wanted.distinguished_name.push(DnType::CommonName, name);
    CertifiedIssuer::self_signed(wanted, KeyPair::generate().expect("a key")).expect("a certificate")
}

/// Writes a file that nobody but the server reads.
pub fn put(folder: &Path, name: &str, text: &str) {
    let path = folder.join(name);
    std::fs::write(&path, text).expect("a file");
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).expect("rights");
    if is_root() {
        chown(&path, Some(NOBODY), Some(NOBODY)).expect("an owner");
    }
}
