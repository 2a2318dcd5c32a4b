//! Requests of our own to a store, signed by the library.

use std::time::Duration;

use hypodoke_runtime::runtime;
use object_store::path::Path;
use object_store::signer::{SignedUrlOptions, Signer};
use ureq::Agent;
use ureq::http::{HeaderName, Method, Request, header};
use url::Url;

use super::address::{Credentials, ObjectsAddress};
use super::connect::Clients;
use super::trouble::{of_answer, trouble_of};
use crate::error::RemoteTrouble;
use crate::http::client::{of_io, trouble_of as trouble_of_request};

/// For how long a signed request holds: as long as it may take to make it.
const EXPIRES: Duration = Duration::from_secs(300);

/// The longest document that is read, in bytes.
const MOST_DOCUMENT: u64 = 32 << 20;

/// Makes requests of our own.
pub struct SignedRequests<'s> {
    /// Where to.
    pub address: &'s ObjectsAddress,
    /// Who signs.
    pub clients: &'s Clients,
    /// Who sends.
    pub agent: &'s Agent,
}

impl SignedRequests<'_> {
    /// A page of the listing, as the store writes it. `query` says which.
    pub fn list(&self, query: &[(&str, String)]) -> Result<String, RemoteTrouble> {
        let url = self.signed(Method::GET, &Path::default(), query)?;
        self.send(Method::GET, &url, &[])
    }

    /// Deletes an object if it is of this version still. What the store makes of the condition, it has to be
    /// asked for.
    pub fn delete_if(&self, key: &Path, tag: &str) -> Result<(), RemoteTrouble> {
        let url = self.signed(Method::DELETE, key, &[])?;
        self.send(Method::DELETE, &url, &[(header::IF_MATCH, tag)]).map(|_| ())
    }

    fn signed(&self, method: Method, key: &Path, query: &[(&str, String)]) -> Result<Url, RemoteTrouble> {
        let Some(s3) = &self.clients.s3 else {
            return Err(RemoteTrouble::Other("the store does not speak S3".to_owned()));
        };
        if self.address.credentials == Credentials::Anonymous {
            return self.plain(key, query);
        }
        let query = query.iter().map(|(name, value)| (*name, value.clone()));
        let options = SignedUrlOptions::new().with_query(query);
        let runtime = runtime().map_err(|error| RemoteTrouble::Other(error.to_string()))?;
        let signed = runtime.block_on(s3.signed_url_opts(method, key, EXPIRES, &options));
        signed.map_err(|error| trouble_of(&error, self.address))
    }

    /// The address of a request that nobody signs.
    fn plain(&self, key: &Path, query: &[(&str, String)]) -> Result<Url, RemoteTrouble> {
        let ObjectsAddress { bucket, endpoint, region, path_style, .. } = self.address;
        let region = region.as_deref().unwrap_or("us-east-1");
        let usual = || format!("https://s3.{region}.amazonaws.com");
        let endpoint = endpoint.clone().unwrap_or_else(usual);
        let base = match (path_style, endpoint.split_once("://")) {
            (false, Some((scheme, host))) => format!("{scheme}://{bucket}.{host}/"),
            _ => format!("{endpoint}/{bucket}/"),
        };
        let wrong = |error: url::ParseError| RemoteTrouble::Other(error.to_string());
        let mut url = Url::parse(&base).map_err(wrong)?;
        if let Ok(mut segments) = url.path_segments_mut() {
            segments.pop_if_empty().extend(key.parts().map(|part| part.as_ref().to_owned()));
        }
        url.query_pairs_mut().extend_pairs(query.iter().map(|(name, value)| (*name, value.as_str())));
        Ok(url)
    }

    fn send(
        &self,
        method: Method,
        url: &Url,
        headers: &[(HeaderName, &str)],
    ) -> Result<String, RemoteTrouble> {
        let mut request = Request::builder().method(method).uri(url.as_str());
        for (name, value) in headers {
            request = request.header(name, *value);
        }
        let request = request.body(()).map_err(|error| RemoteTrouble::Other(error.to_string()))?;
        // The address holds a signature: an error's own words are not shown.
        let answer = self.agent.run(request).map_err(|error| trouble_of_request(error, url))?;
        let status = answer.status().as_u16();
        let mut body = Vec::new();
        let reader = answer.into_body().into_reader();
        let read = std::io::Read::read_to_end(&mut std::io::Read::take(reader, MOST_DOCUMENT), &mut body);
        read.map_err(|error| of_io(&error, url))?;
        let document = String::from_utf8_lossy(&body).into_owned();
        match of_answer(status, &document, self.address) {
            Some(trouble) => Err(trouble),
            None => Ok(document),
        }
    }
}
