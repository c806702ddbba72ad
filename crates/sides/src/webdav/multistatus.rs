//! Reads a `207 Multi-Status` (RFC 4918 §13) as a stream, believing nothing in it too early.
//!
//! A body that ends before its last element, that nests without end or that uses entities of its own is an error, and
//! an error here means that the folder is *unknown*.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use quick_xml::errors::SyntaxError;
use quick_xml::events::{BytesDecl, Event};
use quick_xml::name::ResolveResult;
use quick_xml::reader::NsReader;
use tokio::io::{AsyncBufRead, AsyncRead, ReadBuf};

/// The longest tag, text or comment that is read.
const LONGEST_PIECE: usize = 1 << 20;

/// The namespace of the tool's own properties.
pub(crate) const OWN_NAMESPACE: &str = "urn:katabatic:properties";

const ENDS_EARLY: &str = "the answer ends in the middle";
const DEEPEST: usize = 32;
const LONGEST_TEXT: usize = 64 * 1024;

/// One resource of a multistatus.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Resource {
    pub(super) href: String,
    /// The status of the whole response element, where it has one.
    pub(super) status: Option<u16>,
    pub(super) folder: bool,
    pub(super) length: Option<u64>,
    pub(super) tag: Option<String>,
    pub(super) modified: Option<String>,
    /// Our own note: the edit time and the tag of the version it belongs to.
    pub(super) edit_note: Option<String>,
    /// The digest of what it holds, as the server tells it.
    pub(super) digest: Option<String>,
    /// Whose account this is (RFC 5397), and whose the resource (RFC 3744 §5.1), as addresses.
    pub(super) principal: Option<String>,
    pub(super) owner: Option<String>,
    /// What the resource is called (RFC 4918 §15.2).
    pub(super) display_name: Option<String>,
    /// What the resource is known by wherever it is moved to (RFC 5842 §3.1).
    pub(super) id: Option<String>,
    /// Used and free bytes (RFC 4331).
    pub(super) used: Option<u64>,
    pub(super) free: Option<u64>,
    /// Whether one may write there (RFC 3744 §5.5), where the server says anything about it.
    pub(super) may_write: Option<bool>,
    /// What stands for how the folder is now (RFC 6578 §4).
    pub(super) sync_token: Option<String>,
}

#[derive(Clone, Copy, PartialEq, Debug)]
enum Element {
    Multistatus,
    Response,
    Href,
    Status,
    Propstat,
    Prop,
    Resourcetype,
    Collection,
    Length,
    Tag,
    Modified,
    EditNote,
    Digest,
    Principal,
    Owner,
    DisplayName,
    Id,
    Used,
    Free,
    Rights,
    Right,
    Write,
    SyncToken,
    Unknown,
}

fn element(namespace: &ResolveResult<'_>, name: &str) -> Element {
    let ResolveResult::Bound(namespace) = namespace else {
        return Element::Unknown;
    };
    match (namespace.0, name) {
        ("DAV:", "multistatus") => Element::Multistatus,
        ("DAV:", "response") => Element::Response,
        ("DAV:", "href") => Element::Href,
        ("DAV:", "status") => Element::Status,
        ("DAV:", "propstat") => Element::Propstat,
        ("DAV:", "prop") => Element::Prop,
        ("DAV:", "resourcetype") => Element::Resourcetype,
        ("DAV:", "collection") => Element::Collection,
        ("DAV:", "getcontentlength") => Element::Length,
        ("DAV:", "getetag") => Element::Tag,
        ("DAV:", "getlastmodified") => Element::Modified,
        ("DAV:", "current-user-principal") => Element::Principal,
        ("DAV:", "owner") => Element::Owner,
        ("DAV:", "displayname") => Element::DisplayName,
        ("DAV:", "resource-id") => Element::Id,
        ("DAV:", "sync-token") => Element::SyncToken,
        ("DAV:", "quota-used-bytes") => Element::Used,
        ("DAV:", "quota-available-bytes") => Element::Free,
        ("DAV:", "current-user-privilege-set") => Element::Rights,
        ("DAV:", "privilege") => Element::Right,
        // RFC 3744 §3: `write` holds the others; a server may name only the parts.
        ("DAV:", "all" | "write" | "write-content" | "bind") => Element::Write,
        (OWN_NAMESPACE, "edit-time") => Element::EditNote,
        (OWN_NAMESPACE, "repr-digest") => Element::Digest,
        _ => Element::Unknown,
    }
}

/// Reads a whole body.
pub(super) async fn read(body: impl AsyncBufRead + Unpin) -> Result<Vec<Resource>, String> {
    let mut resources = Vec::new();
    read_each(body, &mut |resource| {
        resources.push(resource);
        Ok(())
    })
    .await?;
    Ok(resources)
}

/// Reads a body and gives each resource on as soon as it is read; the change token (RFC 6578 §6.4), where one comes.
/// What was given on counts only if all of it ends well.
pub(super) async fn read_each(
    body: impl AsyncBufRead + Unpin,
    each: &mut (dyn FnMut(Resource) -> Result<(), String> + Send),
) -> Result<Option<String>, String> {
    let mut reader = NsReader::from_reader(Bounded {
        inner: body,
        left: LONGEST_PIECE,
    });
    reader.config_mut().expand_empty_elements = true;
    let mut reading = Reading::default();
    let mut buffer = Vec::new();
    loop {
        reader.get_mut().left = LONGEST_PIECE;
        let (namespace, event) = reader
            .read_resolved_event_into_async(&mut buffer)
            .await
            .map_err(|why| match why {
                // All but one of these say that something was not closed before the end.
                quick_xml::Error::Syntax(kind) if kind != SyntaxError::InvalidBangMarkup => {
                    ENDS_EARLY.to_owned()
                }
                why => format!("broken XML: {why}"),
            })?;
        match event {
            Event::Decl(declaration) => check_encoding(&declaration)?,
            Event::DocType(_) => return Err("broken XML: it uses entities of its own".into()),
            Event::Start(start) => {
                reading.start(element(&namespace, start.local_name().as_ref()))?
            }
            Event::End(_) => reading.end()?,
            Event::Text(text) => reading.text(&text)?,
            Event::CData(text) => reading.text(&text)?,
            Event::GeneralRef(reference) => {
                let resolved = match reference.resolve_char_ref() {
                    Ok(Some(character)) => character.to_string(),
                    Ok(None) => named(&reference)
                        .ok_or("broken XML: it uses entities of its own")?
                        .to_owned(),
                    Err(why) => return Err(format!("broken XML: {why}")),
                };
                reading.text(&resolved)?;
            }
            Event::Eof if reading.finished => return Ok(reading.token),
            Event::Eof => return Err(ENDS_EARLY.into()),
            _ => {}
        }
        buffer.clear();
        if let Some(resource) = reading.ready.take() {
            each(resource)?;
        }
    }
}

/// A reader that gives no more than so much at a time: a comment or a tag without end must not fill the memory.
struct Bounded<R> {
    inner: R,
    left: usize,
}

impl<R: AsyncBufRead + Unpin> AsyncRead for Bounded<R> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        to: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let given = ready!(self.as_mut().poll_fill_buf(context))?;
        let length = given.len().min(to.remaining());
        to.put_slice(&given[..length]);
        self.consume(length);
        Poll::Ready(Ok(()))
    }
}

impl<R: AsyncBufRead + Unpin> AsyncBufRead for Bounded<R> {
    fn poll_fill_buf(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<&[u8]>> {
        let this = self.get_mut();
        if this.left == 0 {
            return Poll::Ready(Err(io::Error::other(
                "one piece of the answer is longer than any can be",
            )));
        }
        let given = ready!(Pin::new(&mut this.inner).poll_fill_buf(context))?;
        Poll::Ready(Ok(&given[..given.len().min(this.left)]))
    }

    fn consume(mut self: Pin<&mut Self>, amount: usize) {
        self.left -= amount;
        Pin::new(&mut self.inner).consume(amount);
    }
}

fn check_encoding(declaration: &BytesDecl<'_>) -> Result<(), String> {
    match declaration.encoding() {
        Some(Ok(encoding)) if !encoding.eq_ignore_ascii_case("utf-8") => Err(format!(
            "it is written in {encoding}, and only UTF-8 is understood"
        )),
        Some(Err(why)) => Err(format!("broken XML: {why}")),
        _ => Ok(()),
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

#[derive(Default)]
struct Reading {
    open: Vec<Element>,
    text: String,
    resource: Resource,
    /// The properties of the propstat that is being read; they count only if its status turns out to be 200.
    props: Resource,
    props_status: Option<u16>,
    /// The resource that was just read to its end.
    ready: Option<Resource>,
    token: Option<String>,
    finished: bool,
}

impl Reading {
    fn start(&mut self, element: Element) -> Result<(), String> {
        if self.open.len() >= DEEPEST {
            return Err("the answer nests too deep".into());
        }
        if self.open.is_empty() && element != Element::Multistatus {
            return Err("the answer is not a WebDAV multistatus".into());
        }
        match element {
            Element::Response => self.resource = Resource::default(),
            Element::Propstat => (self.props, self.props_status) = (Resource::default(), None),
            Element::Collection if self.open.last() == Some(&Element::Resourcetype) => {
                self.props.folder = true
            }
            Element::Rights => self.props.may_write = Some(false),
            Element::Write if self.open.last() == Some(&Element::Right) => {
                self.props.may_write = Some(true)
            }
            _ => {}
        }
        self.text.clear();
        self.open.push(element);
        Ok(())
    }

    fn text(&mut self, text: &str) -> Result<(), String> {
        if self.text.len() + text.len() > LONGEST_TEXT {
            return Err("a text in the answer is too long".into());
        }
        self.text.push_str(text);
        Ok(())
    }

    fn end(&mut self) -> Result<(), String> {
        let closed = self
            .open
            .pop()
            .ok_or("broken XML: an element closes that never opened")?;
        let text = self.text.trim().to_owned();
        self.text.clear();
        match (closed, self.open.last()) {
            (Element::Href, Some(Element::Response)) => self.resource.href = text,
            (Element::Status, Some(Element::Response)) => self.resource.status = status(&text),
            (Element::Status, Some(Element::Propstat)) => self.props_status = status(&text),
            (Element::Length, Some(Element::Prop)) => self.props.length = text.parse().ok(),
            (Element::Tag, Some(Element::Prop)) => {
                self.props.tag = Some(text).filter(|tag| !tag.is_empty())
            }
            (Element::Modified, Some(Element::Prop)) => self.props.modified = Some(text),
            (Element::EditNote, Some(Element::Prop)) => self.props.edit_note = Some(text),
            (Element::Digest, Some(Element::Prop)) => self.props.digest = Some(text),
            (Element::Href, Some(Element::Principal)) => self.props.principal = Some(text),
            (Element::Href, Some(Element::Owner)) => self.props.owner = Some(text),
            (Element::Href, Some(Element::Id)) => {
                self.props.id = Some(text).filter(|id| !id.is_empty())
            }
            (Element::DisplayName, Some(Element::Prop)) => {
                self.props.display_name = Some(text).filter(|name| !name.is_empty())
            }
            (Element::SyncToken, Some(Element::Prop)) => {
                self.props.sync_token = Some(text).filter(|token| !token.is_empty())
            }
            (Element::SyncToken, Some(Element::Multistatus)) => {
                self.token = Some(text).filter(|token| !token.is_empty())
            }
            (Element::Used, Some(Element::Prop)) => self.props.used = text.parse().ok(),
            (Element::Free, Some(Element::Prop)) => self.props.free = text.parse().ok(),
            (Element::Propstat, Some(Element::Response)) if self.props_status == Some(200) => {
                let props = std::mem::take(&mut self.props);
                let (href, status) = (
                    std::mem::take(&mut self.resource.href),
                    self.resource.status,
                );
                self.resource = Resource {
                    href,
                    status,
                    ..props
                };
            }
            (Element::Response, Some(Element::Multistatus)) => {
                self.ready = Some(std::mem::take(&mut self.resource))
            }
            (Element::Multistatus, None) => self.finished = true,
            _ => {}
        }
        Ok(())
    }
}

/// The code in `HTTP/1.1 200 OK`.
fn status(line: &str) -> Option<u16> {
    line.split_whitespace().nth(1)?.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    async fn parse(text: &str) -> Result<Vec<Resource>, String> {
        read(text.as_bytes()).await
    }

    const ONE: &str = "<?xml version='1.0'?><d:multistatus xmlns:d='DAV:' xmlns:k='urn:katabatic:properties'>\
        <d:response><d:href>/a%20b&amp;c</d:href><d:propstat><d:prop><d:resourcetype/>\
        <d:getcontentlength>12</d:getcontentlength><d:getetag>W/&quot;x&quot;</d:getetag>\
        <k:edit-time>t x</k:edit-time></d:prop><d:status>HTTP/1.1 200 OK</d:status></d:propstat>\
        <d:propstat><d:prop><d:getlastmodified/></d:prop><d:status>HTTP/1.1 404 Not Found</d:status></d:propstat>\
        </d:response></d:multistatus>";

    #[tokio::test]
    async fn reads_what_was_found_and_only_that() {
        let expected = Resource {
            href: "/a%20b&c".into(),
            length: Some(12),
            tag: Some("W/\"x\"".into()),
            edit_note: Some("t x".into()),
            ..Resource::default()
        };
        assert_eq!(parse(ONE).await, Ok(vec![expected]));
        let folder = parse(&ONE.replace(
            "<d:resourcetype/>",
            "<d:resourcetype><d:collection/></d:resourcetype>",
        ))
        .await;
        assert!(folder.unwrap()[0].folder);
    }

    #[tokio::test]
    async fn an_answer_cut_anywhere_is_an_error() {
        for at in 0..ONE.len() {
            assert!(parse(&ONE[..at]).await.is_err(), "cut at {at}");
        }
    }

    #[tokio::test]
    async fn what_is_no_multistatus_is_an_error() {
        for text in [
            "<html><body>hello</body></html>",
            "",
            "hello",
            "<!DOCTYPE x [<!ENTITY a 'b'>]><d:multistatus xmlns:d='DAV:'><d:response><d:href>&a;</d:href></d:response></d:multistatus>",
        ] {
            assert!(parse(text).await.is_err(), "{text}");
        }
        let deep = format!("<d:multistatus xmlns:d='DAV:'>{}", "<d:x>".repeat(1_000));
        assert_eq!(parse(&deep).await, Err("the answer nests too deep".into()));
    }

    #[test]
    fn fuzz_multistatus() {
        let runtime = tokio::runtime::Builder::new_current_thread()
            .build()
            .unwrap();
        katabatic_fuzz::each("multistatus", |body| {
            let read = runtime.block_on(read(body));
            // What is read at all came to its end, and is no larger than what was sent.
            if let Ok(resources) = read {
                let texts: usize = resources.iter().map(|resource| resource.href.len()).sum();
                assert!(texts <= body.len());
            }
        });
    }
}
