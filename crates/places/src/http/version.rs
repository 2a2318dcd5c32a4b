//! Which version of a file a server has (RFC 9110, section 8.8).

use jiff::fmt::rfc2822;
use ureq::http::HeaderMap;

/// What a server tells of a file.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Version {
    /// Its size as it is, not packed for the way.
    pub bytes: Option<u64>,
    /// Its entity tag.
    pub tag: Option<String>,
    /// When it was modified: microseconds since 1970.
    pub modified: Option<i64>,
}

impl Version {
    /// What the headers of an answer tell.
    pub fn of(headers: &HeaderMap) -> Version {
        let text = |name: &str| headers.get(name)?.to_str().ok().map(str::trim);
        let is_packed = text("content-encoding").is_some_and(|encoding| encoding != "identity");
        // Of a part, what stands behind the slash: `bytes 0-0/1234`.
        let total = text("content-range").and_then(|range| range.rsplit_once('/')?.1.parse().ok());
        let length = || text("content-length").and_then(|length| length.parse().ok());
        let bytes = if is_packed { None } else { total.or_else(length) };
        let modified = text("last-modified").and_then(|date| rfc2822::parse(date).ok());
        let modified = modified.map(|date| date.timestamp().as_microsecond());
        Version { bytes, tag: text("etag").filter(|tag| tag.len() > 2).map(str::to_owned), modified }
    }

    /// Whether this and that are one version, as far as both say.
    pub fn is(&self, other: &Version) -> bool {
        fn agree<T: PartialEq>(one: Option<T>, other: Option<T>) -> bool {
            one.zip(other).is_none_or(|(one, other)| one == other)
        }
        let tags = agree(self.tag.as_deref().map(bare), other.tag.as_deref().map(bare));
        let is_tagged = self.tag.is_some() && other.tag.is_some();
        tags && agree(self.bytes, other.bytes) && (is_tagged || agree(self.modified, other.modified))
    }
}

/// A tag without what servers add where they pack a file for the way.
fn bare(tag: &str) -> &str {
    let tag = tag.strip_prefix("W/").unwrap_or(tag).trim_matches('"');
    ["-gzip", "--gzip", ";gzip", "-br"].iter().find_map(|ending| tag.strip_suffix(ending)).unwrap_or(tag)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn headers(pairs: &[(&'static str, &'static str)]) -> Version {
        let headers = pairs
            .iter()
            .map(|(name, value)| (name.parse().expect("a name"), value.parse().expect("a value")));
        Version::of(&headers.collect())
    }

    #[test]
    fn size_tag_and_time_are_read() {
        let found = headers(&[
            ("content-length", "120"),
            ("etag", "\"v1\""),
            ("last-modified", "Mon, 02 Mar 2026 06:00:00 GMT"),
        ]);
        assert_eq!(found.bytes, Some(120));
        assert_eq!(found.tag.as_deref(), Some("\"v1\""));
        assert_eq!(found.modified, Some(1_772_431_200_000_000));
    }

    #[rstest]
    #[case::same(&[("etag", "\"v1\"")], true)]
    #[case::weak(&[("etag", "W/\"v1\"")], true)]
    #[case::packed(&[("etag", "\"v1-gzip\""), ("content-encoding", "gzip"), ("content-length", "7")], true)]
    #[case::other(&[("etag", "\"v2\"")], false)]
    #[case::longer(&[("etag", "\"v1\""), ("content-length", "121")], false)]
    #[case::silent(&[], true)]
    fn versions_are_told_apart(#[case] other: &[(&'static str, &'static str)], #[case] same: bool) {
        let one = headers(&[("content-length", "120"), ("etag", "\"v1\"")]);
        assert_eq!(one.is(&headers(other)), same);
    }
}
