//! The XML of requests and answers (RFC 4918 §14), read and written.

use quick_xml::events::Event;
use quick_xml::name::ResolveResult;
use quick_xml::reader::NsReader;

use crate::faults::Mishap;
use crate::habits::Habit;
use crate::listing::Found;
use crate::properties::{self, Around};
use crate::store::Property;
use crate::xml_names::{Name, bare, escaped, href};

/// The first line of every answer, and the element that holds all the rest.
pub(crate) const HEAD: &str =
    "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<D:multistatus xmlns:D=\"DAV:\">\n";
/// The end of every answer.
pub(crate) const FOOT: &str = "</D:multistatus>\n";

/// What a `PROPFIND` asks for.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Asked {
    /// All but the dear ones, and these too.
    All(Vec<Name>),
    /// Only the names.
    Names,
    These(Vec<Name>),
}

/// An element of a body.
#[derive(Debug)]
pub(crate) struct Element {
    /// The names that lead to it, its own last.
    pub(crate) path: Vec<Name>,
    /// What it holds, as XML that stands on its own.
    pub(crate) xml: String,
    /// The text directly in it.
    pub(crate) text: String,
}

/// The elements of a small XML body, in order; none where it is not well-formed.
pub(crate) fn elements(body: &[u8]) -> Option<Vec<Element>> {
    let mut reader = NsReader::from_reader(body);
    reader.config_mut().expand_empty_elements = true;
    reader.config_mut().check_end_names = true;
    let (mut open, mut found): (Vec<Name>, Vec<Element>) = (Vec::new(), Vec::new());
    let mut at: Vec<usize> = Vec::new();
    let add = |found: &mut Vec<Element>, at: &[usize], xml: &str| {
        for &index in at {
            found[index].xml.push_str(xml);
        }
    };
    loop {
        match reader.read_resolved_event().ok()? {
            (namespace, Event::Start(start)) => {
                let namespace = match namespace {
                    ResolveResult::Bound(namespace) => namespace.0.to_owned(),
                    ResolveResult::Unbound => String::new(),
                    ResolveResult::Unknown(_) => return None,
                };
                let name = start.local_name().as_ref().to_owned();
                let mut tag = if namespace.is_empty() {
                    format!("<{name} xmlns=\"\"")
                } else {
                    format!("<n:{name} xmlns:n=\"{}\"", escaped(&namespace))
                };
                for attribute in start.attributes() {
                    let attribute = attribute.ok()?;
                    let key: &str = attribute.key.as_ref();
                    if key.starts_with("xmlns") {
                        // A prefix cannot be bound to nothing (Namespaces in XML 1.0 §2.2).
                        if key.contains(':') && attribute.value.is_empty() {
                            return None;
                        }
                    } else if key.starts_with("xml:") || !key.contains(':') {
                        tag.push_str(&format!(" {key}=\"{}\"", attribute.value));
                    }
                }
                tag.push('>');
                add(&mut found, &at, &tag);
                open.push((namespace, name));
                at.push(found.len());
                found.push(Element {
                    path: open.clone(),
                    xml: String::new(),
                    text: String::new(),
                });
            }
            (_, Event::End(_)) => {
                let (namespace, name) = open.pop()?;
                at.pop()?;
                let prefix = if namespace.is_empty() { "" } else { "n:" };
                add(&mut found, &at, &format!("</{prefix}{name}>"));
            }
            (_, Event::Text(text)) => {
                if at.is_empty() && !text.trim().is_empty() {
                    return None;
                }
                add(&mut found, &at, &escaped(&text));
                if let Some(&index) = at.last() {
                    found[index].text.push_str(&text);
                }
            }
            (_, Event::CData(text)) => {
                add(&mut found, &at, &escaped(&text));
                if let Some(&index) = at.last() {
                    found[index].text.push_str(&text);
                }
            }
            (_, Event::GeneralRef(reference)) => {
                let text = match reference.resolve_char_ref() {
                    Ok(Some(character)) => character.to_string(),
                    _ => named(&reference)?.to_owned(),
                };
                add(&mut found, &at, &escaped(&text));
                found[*at.last()?].text.push_str(&text);
            }
            (_, Event::DocType(_)) => return None,
            (_, Event::Eof) => return (open.is_empty() && !found.is_empty()).then_some(found),
            _ => {}
        }
    }
}

fn named(reference: &str) -> Option<&'static str> {
    Some(match reference {
        "amp" => "&",
        "lt" => "<",
        "gt" => ">",
        "quot" => "\"",
        "apos" => "'",
        _ => return None,
    })
}

/// Reads a `PROPFIND` body; an empty one asks for everything. None where it is not understood.
pub(crate) fn read_asked(body: &[u8]) -> Option<Asked> {
    if body.is_empty() {
        return Some(Asked::All(Vec::new()));
    }
    let elements = elements(body)?;
    let has = |name: &str| {
        elements.iter().any(|element| {
            element.path.len() == 2 && element.path[1] == ("DAV:".into(), name.into())
        })
    };
    let below = |name: &str| -> Vec<Name> {
        elements
            .iter()
            .filter(|element| element.path.len() == 3 && element.path[1].1 == name)
            .filter_map(|element| element.path.last().cloned())
            .collect()
    };
    if has("allprop") {
        Some(Asked::All(below("include")))
    } else if has("propname") {
        Some(Asked::Names)
    } else {
        has("prop").then(|| Asked::These(below("prop")))
    }
}

/// One order of a `PROPPATCH`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Order {
    Set(Property),
    Remove(Name),
}

impl Order {
    pub(crate) fn name(&self) -> Name {
        match self {
            Order::Set(property) => (property.namespace.clone(), property.name.clone()),
            Order::Remove(name) => name.clone(),
        }
    }
}

/// Reads a `PROPPATCH` body: what is set and what is removed, in this order.
pub(crate) fn read_patch(body: &[u8]) -> Option<Vec<Order>> {
    let mut orders = Vec::new();
    for Element { path, xml, .. } in elements(body)? {
        let [_, (_, order), (_, prop), (namespace, name)] = path.as_slice() else {
            continue;
        };
        match (order.as_str(), prop.as_str()) {
            ("set", "prop") => orders.push(Order::Set(Property {
                namespace: namespace.clone(),
                name: name.clone(),
                xml,
            })),
            ("remove", "prop") => orders.push(Order::Remove((namespace.clone(), name.clone()))),
            _ => {}
        }
    }
    Some(orders)
}

/// A `propstat` element.
pub(crate) fn propstat(props: &str, status: &str) -> String {
    format!(
        "<D:propstat><D:prop>{props}</D:prop><D:status>HTTP/1.1 {status}</D:status></D:propstat>"
    )
}

/// The address of a resource, as a listing writes it.
fn shown_href(found: &Found, mishap: &Mishap) -> String {
    let folder = found.meta.is_dir() && !mishap.does(Habit::SlashlessHrefs);
    let mut shown = href(&found.path, folder);
    if mishap.does(Habit::LowerCaseHrefs) {
        let parts = shown.split('%').enumerate().map(|(at, part)| match at {
            0 => part.to_owned(),
            _ => format!("{}{}", part[..2].to_lowercase(), &part[2..]),
        });
        shown = parts.collect::<Vec<_>>().join("%");
    }
    if mishap.does(Habit::TwiceEscapedHrefs) {
        shown = shown.replace('%', "%25");
    }
    match mishap {
        mishap if mishap.does(Habit::OtherHostHrefs) => {
            format!("http://files.internal.example:8080{shown}")
        }
        mishap if mishap.does(Habit::WholeHrefs) => format!("{}{shown}", mishap.own_address),
        _ => shown,
    }
}

/// What is said of one resource.
pub(crate) fn response(found: &Found, around: &Around<'_>, asked: &Asked) -> String {
    let (mut present, mut missing) = (String::new(), String::new());
    let names = match asked {
        Asked::Names => {
            let names = properties::names(found, around, true);
            present = names.iter().map(bare).collect();
            Vec::new()
        }
        Asked::All(more) => {
            let mut names = properties::names(found, around, false);
            names.extend(more.iter().cloned());
            names
        }
        Asked::These(names) => names.clone(),
    };
    for name in &names {
        match properties::element(found, around, name) {
            Some(element) => present.push_str(&element),
            None => missing.push_str(&bare(name)),
        }
    }
    let mut xml = format!(
        "<D:response><D:href>{}</D:href>",
        shown_href(found, around.mishap)
    );
    if !present.is_empty() || missing.is_empty() {
        xml.push_str(&propstat(&present, "200 OK"));
    }
    if !missing.is_empty() {
        xml.push_str(&propstat(&missing, "404 Not Found"));
    }
    xml.push_str("</D:response>\n");
    xml
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(namespace: &str, name: &str) -> Name {
        (namespace.to_owned(), name.to_owned())
    }

    #[test]
    fn reads_what_is_asked_and_what_is_set() {
        assert_eq!(read_asked(b""), Some(Asked::All(Vec::new())));
        assert_eq!(
            read_asked(b"<propfind xmlns='DAV:'><allprop/><include><owner/></include></propfind>"),
            Some(Asked::All(vec![name("DAV:", "owner")]))
        );
        assert_eq!(
            read_asked(b"<propfind xmlns='DAV:'><propname/></propfind>"),
            Some(Asked::Names)
        );
        let these = read_asked(b"<a:propfind xmlns:a='DAV:' xmlns:k='urn:k'><a:prop><a:getetag/><k:t/></a:prop></a:propfind>");
        assert_eq!(
            these,
            Some(Asked::These(vec![
                name("DAV:", "getetag"),
                name("urn:k", "t")
            ]))
        );
        for wrong in [
            &b"<propfind"[..],
            b"<propfind xmlns='DAV:'><other/></propfind>",
            b"<x:propfind xmlns='DAV:'/>",
            b"<propfind xmlns='DAV:' xmlns:x=''><allprop/></propfind>",
        ] {
            assert_eq!(
                read_asked(wrong),
                None,
                "{}",
                String::from_utf8_lossy(wrong)
            );
        }
    }

    #[test]
    fn a_property_keeps_the_xml_that_it_was_given() {
        let orders = read_patch(
            b"<p:propertyupdate xmlns:p='DAV:'><p:set><p:prop><t xmlns='urn:k'>a&amp;b<u v='1'/></t></p:prop></p:set>\
              <p:remove><p:prop><u xmlns='urn:k'/></p:prop></p:remove></p:propertyupdate>",
        )
        .unwrap();
        let set = Order::Set(Property {
            namespace: "urn:k".into(),
            name: "t".into(),
            xml: "a&amp;b<n:u xmlns:n=\"urn:k\" v=\"1\"></n:u>".into(),
        });
        assert_eq!(orders, [set, Order::Remove(name("urn:k", "u"))]);
    }
}
