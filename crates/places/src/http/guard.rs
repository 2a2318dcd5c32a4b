//! Which addresses may be asked: a link that a file or another server names does not lead into the network
//! that this machine stands in.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use ureq::config::Config;
use ureq::http::Uri;
use ureq::unversioned::resolver::{DefaultResolver, ResolvedSocketAddrs, Resolver};
use ureq::unversioned::transport::NextTimeout;

/// Looks names up, and refuses addresses of this machine's own network for hosts that the configuration
/// does not name.
#[derive(Debug)]
pub struct GuardedResolver {
    inner: DefaultResolver,
    /// Hosts that the configuration names, with their ports.
    named: Vec<(String, u16)>,
    /// The configuration names hosts of HTTPS only: nothing is asked for in the clear.
    is_secure: bool,
}

/// Why an address is not asked.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// It is in this machine's own network.
    #[error("`{0}` is an address of a private network")]
    Private(String),
    /// It would be asked in the clear.
    #[error("`{0}` would be asked without encryption")]
    InTheClear(String),
}

impl GuardedResolver {
    /// One that trusts these hosts.
    pub fn new(named: Vec<(String, u16)>, is_secure: bool) -> GuardedResolver {
        GuardedResolver { inner: DefaultResolver::default(), named, is_secure }
    }
}

impl Resolver for GuardedResolver {
    fn resolve(
        &self,
        uri: &Uri,
        config: &Config,
        timeout: NextTimeout,
    ) -> Result<ResolvedSocketAddrs, ureq::Error> {
        let host = uri.host().unwrap_or_default().trim_matches(['[', ']']).to_owned();
        let refused = |refusal: Refusal| ureq::Error::Other(Box::new(refusal));
        let is_plain = uri.scheme_str() == Some("http");
        if is_plain && self.is_secure {
            return Err(refused(Refusal::InTheClear(host)));
        }
        let found = self.inner.resolve(uri, config, timeout)?;
        let port = uri.port_u16().unwrap_or(if is_plain { 80 } else { 443 });
        let is_named = self.named.iter().any(|(name, at)| name.eq_ignore_ascii_case(&host) && *at == port);
        if !is_named && found.iter().any(|address| is_private(address.ip())) {
            return Err(refused(Refusal::Private(host)));
        }
        Ok(found)
    }
}

/// Whether an address is that of this machine, of a network of one's own, or of no host at all (RFC 6890).
fn is_private(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(address) => is_private_v4(address),
        IpAddr::V6(address) => match address.to_ipv4_mapped() {
            Some(mapped) => is_private_v4(mapped),
            None => is_private_v6(address),
        },
    }
}

fn is_private_v4(address: Ipv4Addr) -> bool {
    let [first, second, ..] = address.octets();
    address.is_private()
        || address.is_loopback()
        || address.is_link_local()
        || address.is_unspecified()
        || address.is_broadcast()
        || address.is_multicast()
        || first == 0
        // Shared between a provider and its customers (RFC 6598), and for measurements (RFC 2544).
        || first == 100 && (64..128).contains(&second)
        || first == 198 && (18..20).contains(&second)
}

fn is_private_v6(address: Ipv6Addr) -> bool {
    let first = address.segments()[0];
    address.is_loopback()
        || address.is_unspecified()
        || address.is_multicast()
        // Unique local addresses (RFC 4193), and those of one link.
        || first & 0xFE00 == 0xFC00
        || first & 0xFFC0 == 0xFE80
        // Addresses of version 4 in disguise (RFC 6052).
        || first == 0x64 && address.segments()[1] == 0xFF9B
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::loopback("127.0.0.1", true)]
    #[case::ten("10.1.2.3", true)]
    #[case::link_local("169.254.169.254", true)]
    #[case::shared("100.64.0.1", true)]
    #[case::public("192.0.3.1", false)]
    #[case::loopback_six("::1", true)]
    #[case::mapped("::ffff:192.168.1.1", true)]
    #[case::unique_local("fd00::1", true)]
    #[case::public_six("2001:db9::1", false)]
    fn addresses_of_ones_own_network_are_told(#[case] address: &str, #[case] private: bool) {
        assert_eq!(is_private(address.parse().expect("an address")), private);
    }
}
