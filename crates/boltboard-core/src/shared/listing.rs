//! What lies at a server, as it lists it: in WebDAV's answer to `PROPFIND` (RFC 4918), or in the list of an object store. Both are XML, with
//! elements of different names, so that one reader takes both.

use std::io::{BufReader, Read};
use std::time::SystemTime;

use jiff::Timestamp;
use jiff::fmt::rfc2822;
use quick_xml::Reader;
use quick_xml::escape::resolve_predefined_entity;
use quick_xml::events::Event;

use super::wire::SharedName;

/// How many files of ours are listed at most.
pub(super) const MOST_LISTED: usize = 4_000_000;
/// The longest answer that is read, in bytes.
const MOST_OF_LIST: u64 = 1 << 30;
/// The longest text in one that tells anything, in bytes.
const MOST_OF_TEXT: usize = 4096;

/// A file that lies there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SharedFile {
    /// What it is.
    pub name: SharedName,
    /// Its bytes.
    pub size: u64,
    /// When it was given, where the server tells that.
    pub given: Option<SystemTime>,
    /// Its version, where the server tells that.
    pub(super) version: Option<String>,
}

/// A part of a list.
#[derive(Debug, Default)]
pub(super) struct Page {
    pub files: Vec<SharedFile>,
    /// By what the next part is asked for.
    pub after: Option<String>,
}

/// What stands in an entry up to now.
#[derive(Debug, Default)]
struct ListEntry {
    place: String,
    size: Option<u64>,
    given: Option<SystemTime>,
    version: Option<String>,
}

impl ListEntry {
    /// The file that it is of, if it is one of ours. `before`: what names of ours begin with, in an object store.
    fn file(self, before: Option<&str>) -> Option<SharedFile> {
        let name = match before {
            Some(before) => self.place.strip_prefix(before),
            None => self.place.rsplit('/').next(),
        };
        Some(SharedFile {
            name: SharedName::parse(name?)?,
            size: self.size?,
            given: self.given,
            version: self.version.filter(|version| !version.is_empty()),
        })
    }

    /// Takes in what an element says.
    fn take(&mut self, element: &str, text: &str) {
        match element {
            "href" | "Key" => self.place = text.to_string(),
            "getcontentlength" | "Size" => self.size = text.parse().ok(),
            "getlastmodified" | "LastModified" => self.given = moment(text),
            "getetag" | "ETag" => self.version = Some(text.to_string()),
            _ => {}
        }
    }
}

/// Reads a list: that of a folder, or that of an object store in which names of ours begin with `before`.
///
/// # Errors
/// It is none, in words.
pub(super) fn read(answer: impl Read, before: Option<&str>) -> Result<Page, String> {
    let mut page = Page::default();
    let mut entry = ListEntry::default();
    elements(answer, |element, text| match element {
        "response" | "Contents" => page.files.extend(std::mem::take(&mut entry).file(before)),
        "NextContinuationToken" => page.after = Some(text.to_string()),
        element => entry.take(element, text),
    })?;
    Ok(page)
}

/// What an object store says was wrong: a word of its interface.
pub(super) fn fault(answer: impl Read) -> Option<String> {
    let mut code = None;
    let read = elements(answer, |element, text| {
        if element == "Code" && text.chars().all(|c| c.is_ascii_alphanumeric()) {
            code = Some(text.to_string());
        }
    });
    read.ok().and(code).filter(|code| !code.is_empty())
}

/// Goes through all elements of an XML text in the order of their ends, with the text that stands last in each.
fn elements(answer: impl Read, mut each: impl FnMut(&str, &str)) -> Result<(), String> {
    let mut limited = BufReader::new(answer.take(MOST_OF_LIST));
    let mut reader = Reader::from_reader(&mut limited);
    let (mut buffer, mut text, mut depth) = (Vec::new(), String::new(), 0_usize);
    let wrong = |why: &dyn std::fmt::Display| format!("its list cannot be read: {why}");
    loop {
        match reader.read_event_into(&mut buffer).map_err(|e| wrong(&e))? {
            Event::Start(_) => {
                depth += 1;
                text.clear();
            }
            Event::End(end) => {
                depth -= 1;
                each(end.local_name().into_inner(), text.trim());
                text.clear();
            }
            Event::Text(piece) => text.push_str(&piece),
            Event::GeneralRef(name) => {
                let meant = match name.resolve_char_ref().map_err(|e| wrong(&e))? {
                    Some(meant) => Some(meant.to_string()),
                    None => resolve_predefined_entity(&name).map(str::to_string),
                };
                text.push_str(&meant.ok_or_else(|| wrong(&"it names what it does not say"))?);
            }
            Event::CData(piece) => text.push_str(&piece),
            Event::Eof if depth > 0 => return Err(wrong(&"it is cut off")),
            Event::Eof => return Ok(()),
            Event::Empty(_) | Event::Decl(_) | Event::DocType(_) | Event::Comment(_) | Event::PI(_) => {}
        }
        if text.len() > MOST_OF_TEXT {
            return Err(wrong(&"a name in it has no end"));
        }
        buffer.clear();
    }
}

/// A moment as WebDAV (RFC 9110) or an object store (ISO 8601) tells it.
fn moment(text: &str) -> Option<SystemTime> {
    let of_web = || Some(rfc2822::DateTimeParser::new().parse_timestamp(text).ok()?.into());
    text.parse::<Timestamp>().ok().map(SystemTime::from).or_else(of_web)
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use proptest::prelude::*;

    use super::super::wire::SharedKind;
    use super::*;
    use crate::base::Digest;

    fn at(seconds: u64) -> Option<SystemTime> {
        Some(SystemTime::UNIX_EPOCH + Duration::from_secs(seconds))
    }

    #[test]
    fn a_folder_of_a_web_server_is_read_and_what_is_not_ours_left_out() {
        let digest = Digest::of(b"x");
        let answer = format!(
            r#"<?xml version="1.0"?><D:multistatus xmlns:D="DAV:" xmlns:n="urn:x">
<D:response><D:href>/team/</D:href><D:propstat><D:prop><D:getlastmodified/></D:prop></D:propstat></D:response>
<D:response><D:href>http://x/team/content-{digest}</D:href><D:propstat><D:prop>
 <D:getcontentlength n:dt="int">120</D:getcontentlength><D:getlastmodified>Sun, 06 Nov 1994 08:49:37 GMT</D:getlastmodified>
 <D:getetag>&quot;a&amp;b&quot;</D:getetag></D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>
<D:response><D:href>/team/readme.txt</D:href><D:propstat><D:prop><D:getcontentlength>3</D:getcontentlength></D:prop></D:propstat></D:response>
<D:response><D:href>/team/notes-{digest}</D:href><D:propstat><D:prop><D:getcontentlength>7</D:getcontentlength></D:prop></D:propstat></D:response>
</D:multistatus>"#
        );
        let page = read(answer.as_bytes(), None).unwrap();
        let first = SharedFile {
            name: SharedKind::Content.of(digest),
            size: 120,
            given: at(784_111_777),
            version: Some("\"a&b\"".into()),
        };
        let second = SharedFile { name: SharedKind::Notes.of(digest), size: 7, given: None, version: None };
        assert_eq!((page.files, page.after), (vec![first, second], None));
        let cut = read(&answer.as_bytes()[..answer.len() - 20], None).unwrap_err();
        assert!(cut.starts_with("its list cannot be read: "), "{cut}");
    }

    #[test]
    fn a_part_of_an_object_stores_list_names_the_next_part() {
        let digest = Digest::of(b"x");
        let answer = format!(
            "<ListBucketResult><IsTruncated>true</IsTruncated><NextContinuationToken>a/b=</NextContinuationToken>\
             <Contents><Key>team/pack-{digest}</Key><LastModified>1994-11-06T08:49:37.000Z</LastModified>\
             <ETag>&#34;e&#34;</ETag><Size>9</Size></Contents>\
             <Contents><Key>pack-{digest}</Key><Size>9</Size></Contents>\
             <Contents><Key>team/deeper/pack-{digest}</Key><Size>9</Size></Contents></ListBucketResult>"
        );
        let page = read(answer.as_bytes(), Some("team/")).unwrap();
        let only = SharedFile {
            name: SharedKind::Pack.of(digest),
            size: 9,
            given: at(784_111_777),
            version: Some("\"e\"".into()),
        };
        assert_eq!((page.files, page.after.as_deref()), (vec![only], Some("a/b=")));
    }

    #[test]
    fn hostile_lists_are_told_and_cost_nothing() {
        let no_end = format!("<a>{}</a>", "x".repeat(MOST_OF_TEXT + 1));
        for (answer, why) in [
            ("<a><b></a>", "expected `</b>`"),
            ("<a>&lamp;</a>", "it names what it does not say"),
            (no_end.as_str(), "a name in it has no end"),
            ("<a>", "it is cut off"),
        ] {
            let told = read(answer.as_bytes(), None).unwrap_err();
            assert!(told.contains(why), "{answer:.20}: {told}");
        }
        assert!(read(&b"404"[..], None).unwrap().files.is_empty());
        let deep = "<a>".repeat(200_000) + &"</a>".repeat(200_000);
        assert!(read(deep.as_bytes(), None).is_ok());
    }

    #[test]
    fn a_refusal_of_an_object_store_has_a_word() {
        let answer = "<?xml version=\"1.0\"?><Error><Code>SignatureDoesNotMatch</Code><Message>No.</Message></Error>";
        assert_eq!(fault(answer.as_bytes()).as_deref(), Some("SignatureDoesNotMatch"));
        assert_eq!(fault(&b"<Error><Code>\x1b[31m</Code></Error>"[..]), None);
        assert_eq!(fault(&b"no"[..]), None);
    }

    proptest! {
        #[test]
        fn whatever_a_server_answers_is_a_list_of_ours_or_told(
            pieces in prop::collection::vec(prop::sample::select(vec![
                "<D:response>", "</D:response>", "<Contents>", "</Contents>", "<Key>", "</Key>", "<href>", "</href>",
                "<getcontentlength>", "</getcontentlength>", "<Size>", "</Size>", "</a>", "<a/>", "&amp;", "&#1;", "&x;", "12", "-3",
                "<![CDATA[", "]]>", "<!-- ", " -->", "<!DOCTYPE a [", "]>", "<?x ", "?>", "/team/", "team/",
                "content-0000000000000000000000000000000000000000000000000000000000000000", "notes-00", "\u{1}", " ", "<", ">", "\"",
            ]), 0..40),
            before in prop::sample::select(vec![None, Some("team/"), Some("")]),
        ) {
            let answer = pieces.concat();
            if let Ok(page) = read(answer.as_bytes(), before) {
                let ours = SharedKind::Content.of(Digest::default());
                prop_assert!(page.files.iter().all(|file| file.name == ours), "{}", answer);
            }
            prop_assert!(fault(answer.as_bytes()).is_none_or(|code| code.chars().all(|c| c.is_ascii_alphanumeric())));
        }
    }
}
