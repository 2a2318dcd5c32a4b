//! Links: each as it is written, for the days it stands for, and the file it names.

use jiff::civil::Date;
use jiff::{ToSpan, Zoned};
use url::Url;

/// The longest list of links that is read, in bytes, and how many links it may hold.
pub const MOST_LISTED: u64 = 16 << 20;
const MOST_LINKS: usize = 100_000;

/// A link with days in it, `levels_{day:%Y-%m-%d}.csv`, or without.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LinkTemplate {
    pieces: Vec<Piece>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    Text(String),
    Day(String),
}

impl LinkTemplate {
    /// Reads a link. The error says what is wrong with it.
    pub fn parse(text: &str) -> Result<LinkTemplate, String> {
        let mut pieces = Vec::new();
        let mut rest = text;
        while let Some((before, after)) = rest.split_once('{') {
            let (inner, behind) = after.split_once('}').ok_or("`{` is not closed")?;
            let (_, format) = inner.split_once(':').ok_or_else(|| {
                format!("`{{{inner}}}` has no format: a link is asked for by days, {{day:%Y-%m-%d}}")
            })?;
            pieces.extend([Piece::Text(before.to_owned()), Piece::Day(checked(format)?)]);
            rest = behind;
        }
        pieces.push(Piece::Text(rest.to_owned()));
        Ok(LinkTemplate { pieces })
    }

    /// Whether there is a day in it.
    pub fn has_day(&self) -> bool {
        self.pieces.iter().any(|piece| matches!(piece, Piece::Day(_)))
    }

    /// The link for a day.
    pub fn fill(&self, day: Date) -> String {
        let piece = |piece: &Piece| match piece {
            Piece::Text(text) => text.clone(),
            Piece::Day(format) => day.strftime(format).to_string(),
        };
        self.pieces.iter().map(piece).collect()
    }
}

/// A format of days alone.
fn checked(format: &str) -> Result<String, String> {
    let mut chars = format.chars();
    while let Some(c) = chars.next() {
        if c != '%' {
            continue;
        }
        let field = chars.next();
        if !matches!(field, Some('Y' | 'y' | 'm' | 'd')) {
            let field = field.map(String::from).unwrap_or_default();
            return Err(format!("`%{field}` is no part of a day; use %Y %y %m %d"));
        }
    }
    Ok(format.to_owned())
}

/// A file behind a link.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Link {
    /// Where it is.
    pub url: Url,
    /// Its path in the place.
    pub path: String,
    /// It may be missing: it is of one day of several.
    pub is_of_day: bool,
}

/// The links that a template stands for: one, or one for each of so many days up to today.
///
/// # Errors
///
/// One of them is no link.
pub fn links_of(base: &Url, text: &str, days: u32) -> Result<Vec<Link>, String> {
    let template = LinkTemplate::parse(text)?;
    if !template.has_day() {
        return Ok(vec![link(base, text, false)?]);
    }
    let today = Zoned::now().date();
    let day = |back: u32| today.checked_sub(i64::from(back).days()).ok();
    (0..days.max(1)).filter_map(day).map(|day| link(base, &template.fill(day), true)).collect()
}

/// One link, relative to a base or by itself.
pub fn link(base: &Url, text: &str, is_of_day: bool) -> Result<Link, String> {
    let url = base.join(text).map_err(|error| error.to_string())?;
    if !matches!(url.scheme(), "http" | "https") {
        return Err(format!("it is of the kind `{}`, not https", url.scheme()));
    }
    if url.password().is_some() {
        return Err("it holds a password".to_owned());
    }
    let path = path_of(base, &url).ok_or("it names no file")?;
    Ok(Link { url, path, is_of_day })
}

/// What a link's file is called: its path below the base, or its host and path. What is asked for behind
/// a question mark is no part of it.
fn path_of(base: &Url, url: &Url) -> Option<String> {
    let decoded = |text: &str| {
        let bytes: Vec<u8> = percent_encoding::percent_decode_str(text).collect();
        String::from_utf8(bytes).ok().filter(|text| !text.contains('\0'))
    };
    let path = url.path();
    let inside = (url.origin() == base.origin()).then(|| path.strip_prefix(base.path())).flatten();
    let named = match inside {
        Some(inside) => decoded(inside)?,
        None => format!("{}{}", url.host_str()?, decoded(path)?),
    };
    let is_confined = named.split('/').all(|part| !matches!(part, "" | "." | ".."));
    is_confined.then_some(named)
}

/// The links of a list: one a line, blank lines and lines that begin with `#` left out.
///
/// # Errors
///
/// There are too many.
pub fn listed(text: &str) -> Result<Vec<&str>, String> {
    let lines = text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
    let links: Vec<&str> = lines.take(MOST_LINKS + 1).collect();
    if links.len() > MOST_LINKS {
        return Err(format!("it lists more than {MOST_LINKS} links"));
    }
    Ok(links)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case::inside("https://tides.example/out/a.csv", Some("a.csv"))]
    #[case::deeper("https://tides.example/out/b/a%20b.csv?x=1", Some("b/a b.csv"))]
    #[case::above("https://tides.example/other/a.csv", Some("tides.example/other/a.csv"))]
    #[case::another_host("https://other.example/a.csv", Some("other.example/a.csv"))]
    #[case::folder("https://tides.example/out/b/", None)]
    #[case::climbs("https://tides.example/out/%2e%2e%2fsecret", None)]
    #[case::not_text("https://tides.example/out/%ff.csv", None)]
    fn a_file_is_called_by_its_path(#[case] url: &str, #[case] path: Option<&str>) {
        let base = Url::parse("https://tides.example/out/").expect("a base");
        assert_eq!(path_of(&base, &Url::parse(url).expect("a link")).as_deref(), path);
    }

    #[test]
    fn a_link_with_a_day_stands_for_the_last_days() {
        let base = Url::parse("https://tides.example/out/").expect("a base");
        let links = links_of(&base, "levels_{day:%Y%m%d}.csv", 3).expect("links");
        let today = Zoned::now().date().strftime("levels_%Y%m%d.csv").to_string();
        assert_eq!(links.len(), 3);
        assert!(links.iter().any(|link| link.path == today) && links.iter().all(|link| link.is_of_day));
    }

    #[rstest]
    #[case("a_{day}.csv", "has no format")]
    #[case("a_{day:%H}.csv", "`%H` is no part of a day")]
    #[case("a_{day:%Y", "is not closed")]
    fn what_is_no_day_is_told(#[case] text: &str, #[case] words: &str) {
        assert!(LinkTemplate::parse(text).expect_err("no link").contains(words));
    }
}
