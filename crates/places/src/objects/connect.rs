//! Making the clients of a store.

use std::sync::Arc;
use std::time::Duration;

use object_store::aws::{AmazonS3, AmazonS3Builder};
use object_store::azure::MicrosoftAzureBuilder;
use object_store::gcp::GoogleCloudStorageBuilder;
use object_store::{BackoffConfig, Certificate, ClientOptions, ObjectStore, RetryConfig};

use super::address::{Credentials, ObjectsAddress, StoreKind};
use super::credentials::shared_keys;
use super::trouble::trouble_of;
use crate::error::RemoteTrouble;

/// How often the library tries a request again by itself, and for how long.
const RETRIES: usize = 3;
const RETRYING: Duration = Duration::from_secs(20);

/// The clients of a store.
#[derive(Clone, Debug)]
pub struct Clients {
    /// What objects are fetched with.
    pub store: Arc<dyn ObjectStore>,
    /// What speaks S3, and signs requests of our own.
    pub s3: Option<Arc<AmazonS3>>,
}

/// The variable of the environment that is set where it holds keys.
const KEY_VARIABLE: &str = "AWS_ACCESS_KEY_ID";

/// The address with what the environment says of the store, where it says how to be let in, too.
pub fn with_environment(address: ObjectsAddress) -> ObjectsAddress {
    let is_usual = matches!(address.credentials, Credentials::Usual | Credentials::Machine);
    if address.kind != StoreKind::S3 || !is_usual {
        return address;
    }
    let first = |names: [&str; 2]| {
        let values = names.into_iter().filter_map(|name| std::env::var(name).ok());
        values.into_iter().find(|value| !value.is_empty())
    };
    let endpoint = address.endpoint.clone().or_else(|| first(["AWS_ENDPOINT_URL_S3", "AWS_ENDPOINT_URL"]));
    let region = address.region.clone().or_else(|| first(["AWS_REGION", "AWS_DEFAULT_REGION"]));
    ObjectsAddress { endpoint, region, ..address }
}

/// Makes the clients for an address. Nobody is asked yet.
///
/// # Errors
///
/// There are no keys, or what is said of the store does not go together.
pub fn connect(address: &ObjectsAddress) -> Result<Clients, RemoteTrouble> {
    // The library takes the one that is in place.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let failed = |error: object_store::Error| trouble_of(&error, address);
    match address.kind {
        StoreKind::S3 => {
            let s3 = Arc::new(s3(address)?.build().map_err(failed)?);
            Ok(Clients { store: s3.clone(), s3: Some(s3) })
        }
        StoreKind::Azure => {
            let builder = MicrosoftAzureBuilder::from_env().with_container_name(&address.bucket);
            let builder = builder.with_client_options(options(address)?).with_retry(retrying());
            Ok(Clients { store: Arc::new(builder.build().map_err(failed)?), s3: None })
        }
        StoreKind::Google => {
            let builder = GoogleCloudStorageBuilder::from_env().with_bucket_name(&address.bucket);
            let builder = builder.with_client_options(options(address)?).with_retry(retrying());
            Ok(Clients { store: Arc::new(builder.build().map_err(failed)?), s3: None })
        }
    }
}

fn s3(address: &ObjectsAddress) -> Result<AmazonS3Builder, RemoteTrouble> {
    let mut builder = match address.credentials {
        Credentials::Usual | Credentials::Machine => AmazonS3Builder::from_env(),
        Credentials::Keys { .. } | Credentials::Anonymous => AmazonS3Builder::new(),
    };
    builder = builder
        .with_bucket_name(&address.bucket)
        .with_virtual_hosted_style_request(!address.path_style)
        .with_client_options(options(address)?)
        .with_retry(retrying());
    if let Some(endpoint) = &address.endpoint {
        builder = builder.with_endpoint(hosted(endpoint, address));
    }
    if let Some(region) = &address.region {
        builder = builder.with_region(region);
    }
    Ok(match &address.credentials {
        Credentials::Anonymous => builder.with_skip_signature(true),
        Credentials::Machine => builder,
        Credentials::Keys { access_key, secret_key, session_token } => {
            let builder =
                builder.with_access_key_id(access_key.reveal()).with_secret_access_key(secret_key.reveal());
            match session_token {
                Some(token) => builder.with_token(token.reveal()),
                None => builder,
            }
        }
        Credentials::Usual => usual(builder, address)?,
    })
}

/// The keys of the environment, or else those of the shared file.
fn usual(builder: AmazonS3Builder, address: &ObjectsAddress) -> Result<AmazonS3Builder, RemoteTrouble> {
    let is_set = std::env::var_os(KEY_VARIABLE).is_some_and(|value| !value.is_empty());
    if address.profile.is_none() && is_set {
        return Ok(builder);
    }
    let keys = shared_keys(address.profile.as_deref()).ok_or(RemoteTrouble::NoKeys)?;
    let builder =
        builder.with_access_key_id(keys.access_key.reveal()).with_secret_access_key(keys.secret_key.reveal());
    Ok(match keys.session_token {
        Some(token) => builder.with_token(token.reveal()),
        None => builder,
    })
}

/// The endpoint, with the bucket in the name of its host where it belongs there.
fn hosted(endpoint: &str, address: &ObjectsAddress) -> String {
    match endpoint.split_once("://") {
        Some((scheme, host)) if !address.path_style => format!("{scheme}://{}.{host}", address.bucket),
        _ => endpoint.to_owned(),
    }
}

fn options(address: &ObjectsAddress) -> Result<ClientOptions, RemoteTrouble> {
    let is_plain = address.endpoint.as_ref().is_some_and(|endpoint| endpoint.starts_with("http://"));
    let mut options = ClientOptions::new()
        .with_allow_http(is_plain)
        .with_http1_only()
        .with_connect_timeout(address.wait)
        .with_read_timeout(address.wait)
        .with_timeout_disabled();
    if let Some(file) = &address.ca_file {
        let bad = |why: String| RemoteTrouble::BadCertificates { file: file.clone(), why };
        let text = std::fs::read(file).map_err(|error| bad(error.to_string()))?;
        let certificates = Certificate::from_pem_bundle(&text).map_err(|error| bad(error.to_string()))?;
        for certificate in certificates {
            options = options.with_root_certificate(certificate);
        }
    }
    Ok(options)
}

fn retrying() -> RetryConfig {
    RetryConfig { backoff: BackoffConfig::default(), max_retries: RETRIES, retry_timeout: RETRYING }
}
