//! A page of a listing (ListObjectsV2).

use quick_xml::Reader;
use quick_xml::events::Event;

/// An object, as it is listed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ListedObject {
    /// Its key.
    pub key: String,
    /// Its size in bytes.
    pub bytes: u64,
    /// When it was modified: microseconds since 1970.
    pub modified: i64,
    /// Its entity tag.
    pub tag: Option<String>,
}

/// A page.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Page {
    /// The objects, in the order of their keys.
    pub objects: Vec<ListedObject>,
    /// What the next page is asked for with; `None` where this is the last.
    pub next: Option<String>,
}

impl Page {
    /// Reads a page. The error says what is wrong with it.
    pub fn parse(document: &str) -> Result<Page, String> {
        let mut reader = Reader::from_str(document);
        let mut page = Page::default();
        let (mut path, mut object): (Vec<String>, Option<ListedObject>) = (Vec::new(), None);
        let (mut is_encoded, mut is_cut, mut text) = (false, false, String::new());
        loop {
            match reader.read_event().map_err(|error| error.to_string())? {
                Event::Start(start) => {
                    path.push(start.local_name().as_ref().to_owned());
                    text.clear();
                    if path.len() == 2 && path.last().is_some_and(|name| name == "Contents") {
                        object = Some(ListedObject::default());
                    }
                }
                Event::Text(found) => text.push_str(&found),
                Event::GeneralRef(entity) => text.push_str(&resolved(&entity)?),
                Event::CData(found) => text.push_str(&found),
                Event::End(_) => {
                    let name = path.pop().unwrap_or_default();
                    match (path.len(), name.as_str()) {
                        (1, "Contents") => page.objects.extend(object.take()),
                        (1, "EncodingType") => is_encoded = text == "url",
                        (1, "IsTruncated") => is_cut = text == "true",
                        (1, "NextContinuationToken") => page.next = Some(text.clone()),
                        (2, name) => {
                            if let Some(object) = &mut object {
                                object.take(name, &text)?;
                            }
                        }
                        _ => {}
                    }
                    text.clear();
                }
                Event::Eof if path.is_empty() => break,
                Event::Eof => return Err("it breaks off".to_owned()),
                _ => {}
            }
        }
        page.next = page.next.filter(|_| is_cut);
        if is_cut && page.next.is_none() {
            return Err("it says that there is more, and not how to ask for it".to_owned());
        }
        if is_encoded {
            page.objects.iter_mut().try_for_each(ListedObject::decode)?;
        }
        Ok(page)
    }
}

impl ListedObject {
    fn take(&mut self, name: &str, text: &str) -> Result<(), String> {
        match name {
            "Key" => text.clone_into(&mut self.key),
            "Size" => self.bytes = text.trim().parse().map_err(|_| format!("`{text}` is not a size"))?,
            "ETag" => self.tag = Some(text.trim().to_owned()).filter(|tag| !tag.is_empty()),
            "LastModified" => {
                let moment: jiff::Timestamp =
                    text.trim().parse().map_err(|_| format!("`{text}` is not a moment"))?;
                self.modified = moment.as_microsecond();
            }
            _ => {}
        }
        Ok(())
    }

    /// Takes off what stands for characters that a document cannot hold.
    fn decode(&mut self) -> Result<(), String> {
        let plain = self.key.replace('+', " ");
        let decoded = percent_encoding::percent_decode_str(&plain).decode_utf8();
        self.key = decoded.map_err(|_| "a key is not in UTF-8".to_owned())?.into_owned();
        Ok(())
    }
}

fn resolved(entity: &quick_xml::events::BytesRef<'_>) -> Result<String, String> {
    if let Some(character) = entity.resolve_char_ref().map_err(|error| error.to_string())? {
        return Ok(character.to_string());
    }
    let name: &str = entity;
    let found = quick_xml::escape::resolve_predefined_entity(name);
    found.map(str::to_owned).ok_or_else(|| format!("`&{name};` is not known"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_page_is_read() {
        let document = r#"<?xml version="1.0"?><ListBucketResult xmlns="x"><Name>quillane</Name><EncodingType>url</EncodingType><IsTruncated>true</IsTruncated><NextContinuationToken>t1</NextContinuationToken><Contents><Key>cranes%2Fa+b%26.csv</Key><LastModified>2026-03-02T06:00:00.000Z</LastModified><ETag>&quot;v1&quot;</ETag><Size>12</Size><Owner><ID>7</ID></Owner></Contents></ListBucketResult>"#;
        let page = Page::parse(document).expect("a page");
        assert_eq!(page.next.as_deref(), Some("t1"));
        let tag = Some("\"v1\"".to_owned());
        let (key, modified) = ("cranes/a b&.csv".to_owned(), 1_772_431_200_000_000);
        assert_eq!(page.objects, [ListedObject { key, bytes: 12, modified, tag }]);
    }

    #[test]
    fn a_page_that_breaks_off_is_none() {
        assert!(Page::parse("<ListBucketResult><Contents><Key>a</Key>").is_err());
    }
}
