//! The XML of `PROPFIND` and `PROPPATCH` (RFC 4918 §14), read and written.

use std::fmt::Write as _;

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use quick_xml::events::Event;
use quick_xml::name::ResolveResult;
use quick_xml::reader::NsReader;

use crate::listing::{Found, http_date};
use crate::store::{self, Property};

const IN_HREF: AsciiSet = NON_ALPHANUMERIC
    .remove(b'-')
    .remove(b'_')
    .remove(b'.')
    .remove(b'~')
    .remove(b'/');

/// What a `PROPFIND` asks for.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Asked {
    All,
    /// Namespace and name of each.
    These(Vec<(String, String)>),
}

/// A namespace and a name: `("DAV:", "getetag")`.
type Name = (String, String);

/// The elements of a small XML body: the names that lead to each, and the text in it.
fn elements(body: &[u8]) -> Option<Vec<(Vec<Name>, String)>> {
    let mut reader = NsReader::from_reader(body);
    reader.config_mut().expand_empty_elements = true;
    let (mut open, mut found): (Vec<Name>, Vec<(Vec<Name>, String)>) = (Vec::new(), Vec::new());
    let mut at: Vec<usize> = Vec::new();
    loop {
        match reader.read_resolved_event().ok()? {
            (namespace, Event::Start(start)) => {
                let namespace = match namespace {
                    ResolveResult::Bound(namespace) => namespace.0.to_owned(),
                    _ => String::new(),
                };
                open.push((namespace, start.local_name().as_ref().to_owned()));
                at.push(found.len());
                found.push((open.clone(), String::new()));
            }
            (_, Event::End(_)) => {
                open.pop()?;
                at.pop()?;
            }
            (_, Event::Text(text)) => {
                if let Some(&index) = at.last() {
                    found[index].1.push_str(&text);
                }
            }
            (_, Event::GeneralRef(reference)) => {
                let named = match &*reference {
                    "amp" => "&",
                    "lt" => "<",
                    "gt" => ">",
                    "quot" => "\"",
                    "apos" => "'",
                    _ => return None,
                };
                found[*at.last()?].1.push_str(named);
            }
            (_, Event::Eof) => return open.is_empty().then_some(found),
            _ => {}
        }
    }
}

/// Reads a `PROPFIND` body; an empty one asks for everything. None where it is not understood.
pub(crate) fn read_asked(body: &[u8]) -> Option<Asked> {
    if body.is_empty() {
        return Some(Asked::All);
    }
    let elements = elements(body)?;
    let in_prop = |path: &[Name]| path.len() == 3 && path[1].1 == "prop";
    let names: Vec<Name> = elements
        .iter()
        .filter(|(path, _)| in_prop(path))
        .filter_map(|(path, _)| path.last().cloned())
        .collect();
    let all = elements
        .iter()
        .any(|(path, _)| path.len() == 2 && path[1].1 != "prop");
    Some(if all { Asked::All } else { Asked::These(names) })
}

/// Reads a `PROPPATCH` body: what is set, and what is removed.
pub(crate) fn read_patch(body: &[u8]) -> Option<(Vec<Property>, Vec<Name>)> {
    let (mut set, mut removed) = (Vec::new(), Vec::new());
    for (path, text) in elements(body)? {
        let [_, (_, order), (_, prop), (namespace, name)] = path.as_slice() else {
            continue;
        };
        match (order.as_str(), prop.as_str()) {
            ("set", "prop") => set.push(Property {
                namespace: namespace.clone(),
                name: name.clone(),
                text,
            }),
            ("remove", "prop") => removed.push((namespace.clone(), name.clone())),
            _ => {}
        }
    }
    Some((set, removed))
}

fn escaped(text: &str) -> String {
    quick_xml::escape::escape(text).into_owned()
}

pub(crate) fn href(path: &str, folder: bool) -> String {
    let slash = if folder && !path.is_empty() { "/" } else { "" };
    format!("/{}{slash}", utf8_percent_encode(path, &IN_HREF))
}

/// The whole answer of a `PROPFIND`.
pub(crate) fn write_found(found: &[Found], asked: &Asked) -> String {
    let mut xml = String::from(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<D:multistatus xmlns:D=\"DAV:\">\n",
    );
    for item in found {
        let folder = item.meta.is_dir();
        let _ = write!(
            xml,
            "<D:response><D:href>{}</D:href><D:propstat><D:prop>",
            href(&item.path, folder)
        );
        let known = known_properties(item, folder);
        let mut missing = String::new();
        match asked {
            Asked::All => known.iter().for_each(|(_, element)| xml.push_str(element)),
            Asked::These(names) => {
                for name in names {
                    match known.iter().find(|(known, _)| known == name) {
                        Some((_, element)) => xml.push_str(element),
                        None => {
                            let _ =
                                write!(missing, "<x:{} xmlns:x=\"{}\"/>", name.1, escaped(&name.0));
                        }
                    }
                }
            }
        }
        xml.push_str("</D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat>");
        if !missing.is_empty() {
            let _ = write!(
                xml,
                "<D:propstat><D:prop>{missing}</D:prop><D:status>HTTP/1.1 404 Not Found</D:status></D:propstat>"
            );
        }
        xml.push_str("</D:response>\n");
    }
    xml.push_str("</D:multistatus>\n");
    xml
}

fn known_properties(item: &Found, folder: bool) -> Vec<(Name, String)> {
    let dav = |name: &str, value: String| {
        (
            ("DAV:".to_owned(), name.to_owned()),
            format!("<D:{name}>{value}</D:{name}>"),
        )
    };
    let kind = if folder { "<D:collection/>" } else { "" };
    let mut known = vec![
        dav("resourcetype", kind.to_owned()),
        dav("getlastmodified", http_date(&item.meta)),
    ];
    if !folder {
        known.push(dav("getcontentlength", item.meta.len().to_string()));
        known.push(dav(
            "getetag",
            format!("&quot;{}&quot;", store::tag(&item.disk, &item.meta)),
        ));
    }
    for Property {
        namespace,
        name,
        text,
    } in store::properties(&item.disk)
    {
        let element = format!(
            "<x:{name} xmlns:x=\"{}\">{}</x:{name}>",
            escaped(&namespace),
            escaped(&text)
        );
        known.push(((namespace, name), element));
    }
    known
}

/// The answer of a `PROPPATCH` that did all it was asked.
pub(crate) fn write_patched(path: &str, folder: bool, names: &[Name]) -> String {
    let props: String = names
        .iter()
        .map(|(namespace, name)| format!("<x:{name} xmlns:x=\"{}\"/>", escaped(namespace)))
        .collect();
    format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<D:multistatus xmlns:D=\"DAV:\"><D:response><D:href>{}</D:href>\
         <D:propstat><D:prop>{props}</D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>\
         </D:multistatus>\n",
        href(path, folder)
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_what_is_asked_and_what_is_set() {
        assert_eq!(read_asked(b""), Some(Asked::All));
        assert_eq!(
            read_asked(b"<propfind xmlns='DAV:'><allprop/></propfind>"),
            Some(Asked::All)
        );
        let these = read_asked(b"<a:propfind xmlns:a='DAV:' xmlns:k='urn:k'><a:prop><a:getetag/><k:t/></a:prop></a:propfind>");
        let name = |namespace: &str, name: &str| (namespace.to_owned(), name.to_owned());
        assert_eq!(
            these,
            Some(Asked::These(vec![
                name("DAV:", "getetag"),
                name("urn:k", "t")
            ]))
        );
        assert_eq!(read_asked(b"<propfind"), None);
        let (set, removed) = read_patch(
            b"<p:propertyupdate xmlns:p='DAV:'><p:set><p:prop><t xmlns='urn:k'>a&amp;b</t></p:prop></p:set>\
              <p:remove><p:prop><u xmlns='urn:k'/></p:prop></p:remove></p:propertyupdate>",
        )
        .unwrap();
        assert_eq!(
            set,
            [Property {
                namespace: "urn:k".into(),
                name: "t".into(),
                text: "a&b".into()
            }]
        );
        assert_eq!(removed, [name("urn:k", "u")]);
    }

    #[test]
    fn an_href_escapes_what_a_url_cannot_hold() {
        assert_eq!(
            href("Past seasons/50% #1?.txt", false),
            "/Past%20seasons/50%25%20%231%3F.txt"
        );
        assert_eq!(href("", true), "/");
        assert_eq!(href("a", true), "/a/");
    }
}
