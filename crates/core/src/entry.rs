//! What a side shows at a path, and what both sides last agreed on.
//!
//! The heart of it is [`View`]: *absent* and *unknown* are different things. A folder that could not be read, a
//! listing cut short or a name that a server never lists are unknown, and nothing is ever removed because of them.

use crate::PerSide;
use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

/// A side's own mark of a version: a local file's fingerprint, a server's version tag.
///
/// Two stamps are only ever compared on the same side and at the same path. A stamp that is equal means "unchanged as
/// far as this side can tell"; one that differs means "look closer".
///
/// What kind of mark it is, and whether it is in doubt, stands beside the text and is never read out of it: the text is
/// the server's, and may be any.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct Stamp {
    kind: StampKind,
    doubted: bool,
    text: Arc<str>,
}

/// What a stamp is made of.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum StampKind {
    /// What the side marks its versions with: a fingerprint, or a tag.
    Version,
    /// Date and length, where a server gives no tags.
    Date,
    /// Size and date that a stub shows.
    Stub,
}

impl StampKind {
    const ALL: [StampKind; 3] = [StampKind::Version, StampKind::Date, StampKind::Stub];

    fn letter(self) -> char {
        match self {
            StampKind::Version => 'v',
            StampKind::Date => 'd',
            StampKind::Stub => 's',
        }
    }
}

impl Stamp {
    /// The mark of a version, of this text.
    #[must_use]
    pub fn new(text: &str) -> Stamp {
        Stamp::of(StampKind::Version, text)
    }

    /// A stamp of this kind and text.
    #[must_use]
    pub fn of(kind: StampKind, text: &str) -> Stamp {
        Stamp {
            kind,
            doubted: false,
            text: Arc::from(text),
        }
    }

    /// What it is made of.
    #[must_use]
    pub fn kind(&self) -> StampKind {
        self.kind
    }

    /// The same stamp, marked as one that may hide a change: the next look reads the content.
    #[must_use]
    pub fn doubted(&self) -> Stamp {
        Stamp {
            doubted: true,
            ..self.clone()
        }
    }

    /// The same stamp without that mark: as the side shows it.
    #[must_use]
    pub fn undoubted(&self) -> Stamp {
        Stamp {
            doubted: false,
            ..self.clone()
        }
    }

    /// Whether it may hide a change.
    #[must_use]
    pub fn is_doubted(&self) -> bool {
        self.doubted
    }

    /// Whether this is the mark of `other`, in doubt.
    #[must_use]
    pub fn is_doubt_of(&self, other: &Stamp) -> bool {
        self.doubted && !other.doubted && (self.kind, &self.text) == (other.kind, &other.text)
    }

    /// Whether it is the stamp of a stub: a file of the near side whose name, size and date are there, and nothing of its
    /// content. It holds no time of change, since whoever renames a stub makes no other version of it.
    #[must_use]
    pub fn is_stub(&self) -> bool {
        self.kind == StampKind::Stub
    }

    /// Whether both are of stubs that show the same size and date, in whatever file.
    #[must_use]
    pub fn shows_the_same(&self, other: &Stamp) -> bool {
        let shown = |stamp: &Stamp| {
            stamp
                .text
                .rsplit_once(':')
                .map(|(shown, _)| shown.to_owned())
        };
        self.is_stub() && other.is_stub() && shown(self) == shown(other)
    }

    /// The text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// As it is kept: the letter of its kind and the text, with `?` before it where it is in doubt.
    #[must_use]
    pub fn stored(&self) -> String {
        let doubt = if self.doubted { "?" } else { "" };
        format!("{doubt}{}:{}", self.kind.letter(), self.text)
    }

    /// What was kept so; none for what was not.
    #[must_use]
    pub fn read_stored(stored: &str) -> Option<Stamp> {
        let (doubted, rest) = match stored.strip_prefix('?') {
            Some(rest) => (true, rest),
            None => (false, stored),
        };
        let (letter, text) = rest.split_once(':')?;
        let kind = StampKind::ALL
            .into_iter()
            .find(|kind| letter.chars().eq([kind.letter()]))?;
        Some(Stamp {
            doubted,
            ..Stamp::of(kind, text)
        })
    }
}

impl From<Stamp> for String {
    fn from(stamp: Stamp) -> String {
        stamp.stored()
    }
}

impl TryFrom<String> for Stamp {
    type Error = &'static str;

    fn try_from(stored: String) -> Result<Stamp, &'static str> {
        Stamp::read_stored(&stored).ok_or("no stamp is kept in this form")
    }
}

impl fmt::Debug for Stamp {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.kind, self.doubted) {
            (StampKind::Version, false) => write!(out, "Stamp({})", self.text),
            _ => write!(out, "Stamp({})", self.stored()),
        }
    }
}

/// The BLAKE3 of a file's content, 32 bytes.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Digest(pub [u8; 32]);

impl Digest {
    /// The digest of these bytes.
    #[must_use]
    pub fn of(bytes: &[u8]) -> Digest {
        Digest(*blake3::hash(bytes).as_bytes())
    }

    /// The digest kept in the ledger, where it has the right length.
    #[must_use]
    pub fn from_slice(bytes: &[u8]) -> Option<Digest> {
        bytes.try_into().ok().map(Digest)
    }

    /// Hexadecimal, 64 characters.
    #[must_use]
    pub fn hex(&self) -> String {
        self.0.iter().map(|byte| format!("{byte:02x}")).collect()
    }
}

impl fmt::Debug for Digest {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(out, "Digest({}…)", &self.hex()[..8])
    }
}

/// When the content of a file was last edited: nanoseconds since 1970, negative before it (1677 to 2262).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct EditTime(pub i64);

/// Something in a folder that is neither a file nor a folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum OddKind {
    /// A symbolic link; it is never followed.
    Link,
    /// A socket.
    Socket,
    /// A named pipe.
    Pipe,
    /// A block or character device.
    Device,
    /// A whole folder of the tool's own, or something else that no lane carries.
    Own,
    /// A file that a server lists, and does not give when it is asked for.
    NotGiven,
}

impl OddKind {
    /// What it is, and why no lane carries it.
    #[must_use]
    pub fn reason(self) -> &'static str {
        match self {
            OddKind::Link => "a symbolic link, which is never followed",
            OddKind::Socket => "a socket",
            OddKind::Pipe => "a named pipe",
            OddKind::Device => "a device",
            OddKind::NotGiven => {
                "listed there, and not given when it is asked for (404): give it another name there"
            }
            OddKind::Own => "not a file or a folder that can be carried",
        }
    }
}

/// What kind of thing lies at a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Kind {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// Something a lane leaves out.
    Odd(OddKind),
}

/// Whether what lies in a folder was seen whole.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Listing {
    /// Every name in it was seen.
    Complete,
    /// Not read, or not to its end; what is not seen in it is unknown.
    Incomplete(Unknown),
}

/// What a side shows at one path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// What kind of thing it is.
    pub kind: Kind,
    /// Length in bytes; 0 for anything but files.
    pub size: u64,
    /// The side's mark of this version.
    pub stamp: Stamp,
    /// The content, where it was read to tell whether it changed.
    pub content: Option<Digest>,
    /// When it was edited, where the side knows an edit time.
    pub edited: Option<EditTime>,
    /// A date that is not known to be an edit time: when a server received it.
    pub received: Option<EditTime>,
    /// What finds it again after it was moved, where the side says so beside the stamp.
    pub handle: Option<Arc<str>>,
    /// For folders: whether all in it was seen.
    pub listing: Listing,
}

impl Entry {
    /// A file of this size and stamp, nothing else known.
    #[must_use]
    pub fn file(size: u64, stamp: Stamp) -> Entry {
        Entry {
            kind: Kind::File,
            size,
            stamp,
            content: None,
            edited: None,
            received: None,
            handle: None,
            listing: Listing::Complete,
        }
    }

    /// A folder that was listed whole.
    #[must_use]
    pub fn folder() -> Entry {
        Entry::of_kind(Kind::Folder)
    }

    /// Whether only name, size and date are there, and not the content.
    #[must_use]
    pub fn is_stub(&self) -> bool {
        self.stamp.is_stub()
    }

    /// Bytes of content that lie with it: none of a stub, whatever length it shows.
    #[must_use]
    pub fn content_bytes(&self) -> u64 {
        match self.is_stub() {
            true => 0,
            false => self.size,
        }
    }

    /// Something without content.
    #[must_use]
    pub fn of_kind(kind: Kind) -> Entry {
        Entry {
            kind,
            ..Entry::file(0, Stamp::new(""))
        }
    }
}

/// Why a side could not say what lies at a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Unknown {
    /// The folder could not be listed; the text says why.
    NotListed(String),
    /// This side never listed the name, so its absence means nothing.
    NeverListed,
    /// Something no lane carries, such as a link, stands where the folder was.
    BehindOdd(OddKind),
    /// It is being written, so that no version of it could be read.
    BeingWritten,
    /// The content of a stub is on its way here, for a program that opened it.
    Coming,
    /// Another file system is mounted there.
    OtherMount,
    /// An earlier pass was cut off in the middle of this path, and it could not be cleared up yet.
    Unfinished(String),
    /// Nothing may be written on this side: the account may only read, or the disk is mounted so.
    ReadOnly,
    /// A stub that the lane did not make at this path: a copy of one, or one that was moved over something else. What
    /// content it stands for cannot be told here.
    StrangeStub,
    /// The stub is gone from its path, but the file is not: it was moved out of the lane, or has another name.
    StubElsewhere,
    /// The content of the stub here was on the far side alone, and that does not have it any more.
    StubGone,
    /// What is to come does not fit on this side; how much that is, and how much room there is, in bytes.
    NoRoom(u64, u64),
    /// The lane carries only names that every system can hold; why this one is none, and one that would do.
    NotPortable(String, String),
}

impl fmt::Display for Unknown {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Unknown::NotListed(why) => write!(out, "the folder could not be listed: {why}"),
            Unknown::NeverListed => {
                out.write_str("this server never lists the name, so its absence proves nothing")
            }
            Unknown::BehindOdd(odd) => {
                write!(
                    out,
                    "in place of its folder there is {}",
                    odd.reason()
                )
            }
            Unknown::ReadOnly => out.write_str("nothing may be written there"),
            Unknown::NotPortable(why, instead) => {
                write!(out, "{why}; it would go as {instead:?} (katabatic names)")
            }
            Unknown::StrangeStub => out.write_str(
                "it is a stub without content that this lane did not put here: a copy of a stub, or one moved over another file. Nothing of it is carried; remove it, or move it back",
            ),
            Unknown::StubElsewhere => out.write_str(
                "its stub was moved out of the lane or has another name, so it is not taken for removed. Move it back, or have its content come here (katabatic fetch PATH); or, if it is to go, remove that file too",
            ),
            Unknown::StubGone => out.write_str(
                "its content was only there, and is not there any more: here is just a stub. It may be in the spares of whoever removed it",
            ),
            Unknown::NoRoom(needed, free) => write!(
                out,
                "{} are to come, and the disk has {} free. Make room first: katabatic room --free {}",
                crate::quantity::bytes(*needed),
                crate::quantity::bytes(*free),
                crate::quantity::typed_bytes(needed.saturating_sub(*free))
            ),
            Unknown::BeingWritten => {
                out.write_str("it is being written; it is carried once it is quiet")
            }
            Unknown::Coming => out.write_str(
                "its content comes just now, for a program that opened it (katabatic openings)",
            ),
            Unknown::OtherMount => out.write_str("another file system is mounted there"),
            Unknown::Unfinished(why) => write!(
                out,
                "an earlier pass was cut off here and is not cleared up: {why}"
            ),
        }
    }
}

/// What is known of one side at one path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum View {
    /// Nothing is there, and the listing that says so is complete.
    Absent,
    /// This is there.
    Present(Entry),
    /// It cannot be told. Nothing is ever removed because of it.
    Unknown(Unknown),
}

impl View {
    /// The entry, where one is there.
    #[must_use]
    pub fn entry(&self) -> Option<&Entry> {
        match self {
            View::Present(entry) => Some(entry),
            View::Absent | View::Unknown(_) => None,
        }
    }

    /// Whether a folder is there.
    #[must_use]
    pub fn is_folder(&self) -> bool {
        self.entry().is_some_and(|entry| entry.kind == Kind::Folder)
    }
}

/// What both sides last agreed on at a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Base {
    /// File or folder.
    pub kind: Kind,
    /// Length in bytes.
    pub size: u64,
    /// The agreed content; none for folders.
    pub content: Option<Digest>,
    /// Each side's stamp of the agreed version.
    pub stamps: PerSide<Stamp>,
    /// Whether each side ever showed the name in a listing.
    pub listed: PerSide<bool>,
    /// The side whose removal is remembered and not carried: there the path is agreed to be away.
    pub away: Option<crate::Side>,
}

impl Base {
    /// Whether the near side holds a stub: its content is on the far side alone.
    #[must_use]
    pub fn is_stub(&self) -> bool {
        self.stamps.near.is_stub()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_stamp_comes_back_as_it_was_kept_whatever_its_text() {
        for text in [
            "", "?", "?x", "stub:5:1", "date x", "v:", "s:5", "a\"b", "é:?",
        ] {
            for kind in StampKind::ALL {
                for stamp in [Stamp::of(kind, text), Stamp::of(kind, text).doubted()] {
                    assert_eq!(Stamp::read_stored(&stamp.stored()), Some(stamp));
                }
            }
        }
        for wrong in ["", "?", "v", "x:1", "??v:1", "vs:1"] {
            assert_eq!(Stamp::read_stored(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn what_a_server_writes_in_a_tag_says_nothing_of_what_it_is() {
        let tag = Stamp::new("?stub:5:1.2:-:7");
        assert!(!tag.is_stub() && !tag.is_doubted());
        assert_ne!(tag.doubted(), tag);
        assert_eq!(tag.doubted().undoubted(), tag);
        assert!(tag.doubted().is_doubt_of(&tag) && !tag.is_doubt_of(&tag));
        assert_ne!(Stamp::of(StampKind::Date, "x"), Stamp::new("x"));
    }
}
