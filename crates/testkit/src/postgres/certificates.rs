//! What a server needs that is reached over TLS only.

use std::os::unix::fs::{PermissionsExt, chown};
use std::path::Path;

use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, DnType, IsCa, KeyPair};

use super::user::{NOBODY, is_root};

/// Writes certificates into a server's folder, and the settings that ask for them.
pub fn write(folder: &Path) {
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
    let settings = format!(
        "ssl = on\nssl_ca_file = '{0}/ca.pem'\nssl_cert_file = '{0}/server.pem'\nssl_key_file = '{0}/server.key'\n",
        folder.display()
    );
    let data = folder.join("data");
    let before = std::fs::read_to_string(data.join("postgresql.conf")).expect("settings");
    put(&data, "postgresql.conf", &(before + &settings));
    put(
        &data,
        "pg_hba.conf",
        "hostssl all gauger 127.0.0.1/32 cert\nhostssl all clerk 127.0.0.1/32 scram-sha-256\nhostssl all all 127.0.0.1/32 trust\n",
    );
}

fn issuer(name: &str) -> CertifiedIssuer<'static, KeyPair> {
    let mut wanted = CertificateParams::default();
    wanted.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    wanted.distinguished_name.push(DnType::CommonName, name);
    CertifiedIssuer::self_signed(wanted, KeyPair::generate().expect("a key")).expect("a certificate")
}

/// Writes a file that nobody but the server reads.
fn put(folder: &Path, name: &str, text: &str) {
    let path = folder.join(name);
    std::fs::write(&path, text).expect("a file");
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o600)).expect("rights");
    if is_root() {
        chown(&path, Some(NOBODY), Some(NOBODY)).expect("an owner");
    }
}
