//! Where the rows of a JSON text are, found from its beginning.

use std::collections::HashSet;

use jiter::{Jiter, JiterResult, Peek};

use super::path::{JsonPath, Step};
use super::walk::{WalkStep, Walker, blanks};

/// Names that rows are usually kept under.
const USUAL: &[&str] = &[
    "data", "rows", "items", "records", "results", "result", "values", "entries", "logs", "list", "features",
];

/// Names of what usually stands beside rows and says something of the answer, not of them.
const ENVELOPE: &[&str] = &[
    "meta",
    "metadata",
    "status",
    "count",
    "total",
    "page",
    "pages",
    "next",
    "previous",
    "prev",
    "version",
    "ok",
    "success",
    "error",
    "errors",
    "message",
    "links",
    "schema",
    "took",
    "info",
    "header",
    "generated",
    "generated_at",
    "timestamp",
    "type",
];

/// How deep rows are looked for.
const DEEPEST: usize = 5;

/// How a text is to be taken apart.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Plan {
    /// One value a line.
    Lines,
    /// Follow the path.
    Walk {
        /// Where the rows are.
        path: JsonPath,
        /// Other places where rows could be, with how many of them were seen.
        others: Vec<(JsonPath, usize)>,
        /// Keys beside the rows, which are left out.
        beside: Vec<String>,
    },
}

/// Whether a text looks like JSON: from its first bytes, and from its name where those leave it
/// open.
pub fn looks_like_json(head: &[u8], name: &str) -> bool {
    let head = head.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(head);
    let at = blanks(head);
    let next = |at: usize| head.get(at + blanks(head.get(at..).unwrap_or_default())).copied();
    let name = name.to_lowercase();
    let named =
        ["json", "jsonl", "ndjson", "geojson"].iter().any(|ending| name.contains(&format!(".{ending}")));
    match head.get(at) {
        Some(b'{') => matches!(next(at + 1), Some(b'"' | b'}')) || named,
        Some(b'[') => match next(at + 1) {
            Some(b'{' | b'[') => true,
            Some(b']') => named || next(at + 2).is_none(),
            _ => named,
        },
        Some(b'"' | b'-' | b'0'..=b'9' | b't' | b'f' | b'n') => named,
        _ => false,
    }
}

/// Whether a name promises one value a line.
pub fn promises_lines(name: &str) -> bool {
    let name = name.to_lowercase();
    ["jsonl", "ndjson"].iter().any(|ending| name.split('.').skip(1).any(|part| part == *ending))
}

/// Finds how to take a text apart. `whole` says that `head` is all of it, `lines` that its name
/// promises one value a line: a log that holds a single record today is no different from
/// yesterday's, and the list in that record not the rows.
pub fn plan(head: &[u8], whole: bool, lines: bool) -> Plan {
    let start = blanks(head);
    let mut walker = Walker::new(JsonPath::default());
    let first = match walker.next(head, whole) {
        WalkStep::Record(range, _) => Some(range),
        _ => None,
    };
    if let Some(first) = &first {
        let line_end = memchr::memchr(b'\n', &head[start..]).map_or(head.len(), |at| start + at);
        let follows = blanks(&head[first.end..]) + first.end < head.len();
        // Values that end on the line they began on, and more of them on others.
        let opener = |at: usize| head.get(at).filter(|byte| matches!(byte, b'{' | b'['));
        let next = first.end + blanks(&head[first.end..]);
        // A list with something else behind it is a document with rubbish at its end.
        let is_list_alone = opener(start) == Some(&b'[') && opener(next) != Some(&b'[');
        if follows && first.end <= line_end && next > line_end && !is_list_alone {
            return Plan::Lines;
        }
        if follows && (opener(start).is_none() || opener(next) == opener(start)) {
            return Plan::Walk { path: JsonPath::default(), others: Vec::new(), beside: Vec::new() };
        }
        if lines && first.end <= line_end && head.get(start) == Some(&b'{') {
            return Plan::Lines;
        }
    } else if !whole {
        // A first line that is whole JSON, behind which the text at hand breaks off.
        let line = head[start..].split(|b| *b == b'\n').next().unwrap_or_default();
        if line.len() + start < head.len() && serde_json::from_slice::<serde::de::IgnoredAny>(line).is_ok() {
            return Plan::Lines;
        }
    }
    match head.get(start) {
        Some(b'[') => {
            Plan::Walk { path: JsonPath { steps: vec![Step::All] }, others: Vec::new(), beside: Vec::new() }
        }
        Some(b'{') => within_object(&head[start..], whole),
        _ => Plan::Lines,
    }
}

/// A list that could be the rows.
#[derive(Debug)]
struct Candidate {
    path: Vec<Step>,
    rows: usize,
    bytes: usize,
}

/// What an object that is all of the text holds, as far as it was seen.
#[derive(Debug, Default)]
struct Seen {
    candidates: Vec<Candidate>,
    /// The keys of the outermost object, and those of each of its members that is an object.
    keys: Vec<String>,
    inner: Vec<Option<HashSet<String>>>,
}

fn within_object(text: &[u8], whole: bool) -> Plan {
    let mut seen = Seen::default();
    let mut jiter = Jiter::new(text);
    let mut path = Vec::new();
    // The text may break off: what was seen until then has to do.
    let _ = look(&mut jiter, &mut path, &mut seen, text.len());
    let plain = |path: Vec<Step>| JsonPath { steps: path };
    let nothing = Plan::Walk { path: JsonPath::default(), others: Vec::new(), beside: Vec::new() };
    let total = text.len();
    let usual = |candidate: &Candidate| {
        candidate.path.iter().rev().nth(1).is_some_and(|step| match step {
            Step::Name(name) => USUAL.contains(&name.to_lowercase().as_str()),
            _ => false,
        })
    };
    let first_key = |candidate: &Candidate| match candidate.path.first() {
        Some(Step::Name(name)) => name.clone(),
        _ => String::new(),
    };
    let beside = |candidate: &Candidate| {
        let first = first_key(candidate);
        seen.keys.iter().filter(|key| **key != first).cloned().collect::<Vec<String>>()
    };
    // A list with an unusual name is the rows if nothing would be lost by it, or if there is
    // hardly anything else. Otherwise the object is a record with a list in it.
    let stands_out = |candidate: &Candidate| {
        let only_envelope =
            beside(candidate).iter().all(|key| ENVELOPE.contains(&key.to_lowercase().as_str()));
        candidate.rows > 0 && only_envelope || candidate.rows >= 10 && candidate.bytes * 5 >= total * 4
    };
    let rank = |candidate: &&Candidate| (candidate.bytes, usize::from(usual(candidate)));
    let best = seen.candidates.iter().max_by_key(rank);
    let chosen = best
        .filter(|best| usual(best) || stands_out(best))
        .or_else(|| seen.candidates.iter().find(|candidate| usual(candidate)));
    if let Some(chosen) = chosen {
        let others = seen.candidates.iter().filter(|other| other.path != chosen.path && other.rows > 0);
        let others = others.map(|other| (plain(other.path.clone()), other.rows)).collect();
        let beside = beside(chosen);
        return Plan::Walk { path: plain(chosen.path.clone()), others, beside };
    }
    if is_map_of_rows(&seen, whole) {
        let path = JsonPath { steps: vec![Step::All] };
        return Plan::Walk { path, others: Vec::new(), beside: Vec::new() };
    }
    nothing
}

/// Objects under keys that are data: all members are objects, and have most of their keys in common.
fn is_map_of_rows(seen: &Seen, whole: bool) -> bool {
    let objects: Vec<&HashSet<String>> = seen.inner.iter().flatten().collect();
    // Of a text that breaks off, the last member is not seen whole.
    let enough = objects.len() >= 3 && objects.len() + usize::from(!whole) >= seen.keys.len();
    let Some(first) = objects.first() else { return false };
    enough
        && first.len() > 1
        && objects
            .iter()
            .skip(1)
            .all(|other| first.intersection(other).count() * 2 >= first.len().max(other.len()))
}

fn look(jiter: &mut Jiter<'_>, path: &mut Vec<Step>, seen: &mut Seen, end: usize) -> JiterResult<()> {
    let mut key = jiter.next_object()?.map(str::to_owned);
    while let Some(name) = key {
        if path.is_empty() {
            seen.keys.push(name.clone());
            seen.inner.push(None);
        } else if path.len() == 1
            && let Some(last) = seen.inner.last_mut()
        {
            last.get_or_insert_default().insert(name.clone());
        }
        let peek = jiter.peek()?;
        path.push(Step::Name(name));
        match peek {
            Peek::Object if path.len() < DEEPEST => {
                if path.len() == 1
                    && let Some(last) = seen.inner.last_mut()
                {
                    last.get_or_insert_default();
                }
                look(jiter, path, seen, end)?;
            }
            Peek::Array => list(jiter, path, seen, end)?,
            peek => jiter.known_skip(peek)?,
        }
        path.pop();
        key = jiter.next_key()?.map(str::to_owned);
    }
    Ok(())
}

fn list(jiter: &mut Jiter<'_>, path: &[Step], seen: &mut Seen, end: usize) -> JiterResult<()> {
    let start = jiter.current_index();
    let mut rows = 0;
    let mut done = Ok(());
    let mut objects = true;
    match jiter.known_array() {
        Ok(mut next) => {
            while let Some(peek) = next {
                objects &= peek == Peek::Object;
                let step = jiter.known_skip(peek).and_then(|()| jiter.array_step());
                rows += 1;
                next = match step {
                    Ok(next) => next,
                    Err(error) => {
                        done = Err(error);
                        break;
                    }
                };
            }
        }
        Err(error) => done = Err(error),
    }
    if objects {
        let bytes = if done.is_ok() { jiter.current_index() } else { end } - start;
        let path = path.iter().cloned().chain([Step::All]).collect();
        seen.candidates.push(Candidate { path, rows, bytes });
    }
    done
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    /// The plan in short: `lines`, or the path.
    fn planned(text: &str, whole: bool, name: &str) -> String {
        match plan(text.as_bytes(), whole, promises_lines(name)) {
            Plan::Lines => "lines".to_owned(),
            Plan::Walk { path, .. } => path.to_string(),
        }
    }

    #[rstest]
    #[case::lines("{\"a\":1}\n{\"a\":2}\n", "x.json", "lines")]
    #[case::one_line("{\"a\":1}\n", "x.json", "$")]
    #[case::one_line_named("{\"a\":[{\"b\":1}]}\n", "x.jsonl", "lines")]
    #[case::one_line_named_and_packed("{\"rows\":[{\"b\":1}]}", "x.ndjson.gz", "lines")]
    #[case::one_line_elsewhere("{\"a\":[{\"b\":1}]}\n", "x.json", "$.a[*]")]
    #[case::over_lines_though_named("{\"rows\":[\n{\"b\":1}\n]}", "x.jsonl", "$.rows[*]")]
    #[case::array("[{\"a\":1},{\"a\":2}]", "x.jsonl", "$[*]")]
    #[case::documents("{\n\"a\":1}\n{\n\"a\":2}", "x.json", "$")]
    #[case::rubbish_behind("[{\"a\":1}] and more", "x.json", "$[*]")]
    #[case::envelope("{\"status\":\"ok\",\"berths\":[{\"a\":1}]}", "x.json", "$.berths[*]")]
    #[case::record_with_a_list("{\"ship\":\"Iduna\",\"calls\":[{\"a\":1}]}", "x.json", "$")]
    #[case::usual_name("{\"ship\":\"Iduna\",\"rows\":[{\"a\":1}]}", "x.json", "$.rows[*]")]
    #[case::deeper("{\"result\":{\"logs\":[{\"a\":1},{\"a\":2}]}}", "x.json", "$.result.logs[*]")]
    #[case::map_of_rows(
        "{\"k1\":{\"a\":1,\"b\":2},\"k2\":{\"a\":3,\"b\":4},\"k3\":{\"a\":5,\"b\":6}}",
        "x.json",
        "$[*]"
    )]
    fn rows_are_found(#[case] text: &str, #[case] name: &str, #[case] expected: &str) {
        assert_eq!(planned(text, true, name), expected);
    }

    #[rstest]
    #[case::lines("{\"a\":[{\"b\":1}]}\n{\"a\":[{\"b\"", "lines")]
    #[case::array("[{\"a\":1},{\"a\":", "$[*]")]
    #[case::within("{\"rows\":[{\"a\":1},{\"a\":", "$.rows[*]")]
    fn rows_are_found_in_a_text_that_breaks_off(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(planned(text, false, "x.json"), expected);
    }

    #[rstest]
    #[case("{\"a\":1}", "x", true)]
    #[case("{}", "x", true)]
    #[case("{curly: not JSON}", "x.csv", false)]
    #[case("[1, 2]", "x.csv", false)]
    #[case("[1, 2]", "x.json", true)]
    #[case("[{\"a\":1}]", "x.csv", true)]
    #[case("12", "x.jsonl", true)]
    #[case("12", "x.csv", false)]
    fn json_is_told_from_text(#[case] text: &str, #[case] name: &str, #[case] expected: bool) {
        assert_eq!(looks_like_json(text.as_bytes(), name), expected);
    }
}
