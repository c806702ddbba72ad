//! The packets of SFTP version 3 (draft-ietf-secsh-filexfer-02), which is what OpenSSH speaks, as bytes.
//!
//! A packet is its length, a kind, and fields that the kind decides; all numbers are big-endian, and strings have their
//! length before them. Names are bytes without an encoding.

use bytes::{Buf, BufMut, Bytes, BytesMut};
use katabatic_core::OddKind;

/// The version that is spoken.
pub(super) const VERSION: u32 = 3;

/// No packet of an answer may be longer; OpenSSH sends at most 256 KiB of data in one.
pub(super) const LONGEST: usize = 1 << 20;

/// What is asked (§3).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Ask {
    Open,
    Close,
    Read,
    Write,
    LinkStat,
    FileStat,
    FileSetStat,
    OpenFolder,
    ReadFolder,
    Remove,
    MakeFolder,
    RemoveFolder,
    RealPath,
    Rename,
    Extended,
}

impl Ask {
    fn number(self) -> u8 {
        match self {
            Ask::Open => 3,
            Ask::Close => 4,
            Ask::Read => 5,
            Ask::Write => 6,
            Ask::LinkStat => 7,
            Ask::FileStat => 8,
            Ask::FileSetStat => 10,
            Ask::OpenFolder => 11,
            Ask::ReadFolder => 12,
            Ask::Remove => 13,
            Ask::MakeFolder => 14,
            Ask::RemoveFolder => 15,
            Ask::RealPath => 16,
            Ask::Rename => 18,
            Ask::Extended => 200,
        }
    }

    /// As the log calls it: by the name that the draft has for it.
    pub(super) fn word(self) -> &'static str {
        match self {
            Ask::Open => "OPEN",
            Ask::Close => "CLOSE",
            Ask::Read => "READ",
            Ask::Write => "WRITE",
            Ask::LinkStat => "LSTAT",
            Ask::FileStat => "FSTAT",
            Ask::FileSetStat => "FSETSTAT",
            Ask::OpenFolder => "OPENDIR",
            Ask::ReadFolder => "READDIR",
            Ask::Remove => "REMOVE",
            Ask::MakeFolder => "MKDIR",
            Ask::RemoveFolder => "RMDIR",
            Ask::RealPath => "REALPATH",
            Ask::Rename => "RENAME",
            Ask::Extended => "EXTENDED",
        }
    }
}

/// How a file is opened (§6.3).
pub(super) mod open {
    pub(in super::super) const READ: u32 = 1;
    pub(in super::super) const WRITE: u32 = 2;
    pub(in super::super) const CREATE: u32 = 8;
    /// Not where the name is taken.
    pub(in super::super) const NEW: u32 = 32;
}

/// What became of a request (§7).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Status {
    Fine,
    End,
    NoSuchFile,
    NotAllowed,
    /// Anything else that the server's system says; which of it is not told.
    Failure,
    BadMessage,
    NoConnection,
    Unsupported,
}

impl Status {
    fn of(code: u32) -> Status {
        match code {
            0 => Status::Fine,
            1 => Status::End,
            2 => Status::NoSuchFile,
            3 => Status::NotAllowed,
            5 => Status::BadMessage,
            6 | 7 => Status::NoConnection,
            8 => Status::Unsupported,
            // What later versions added says no more than this to one who speaks version 3.
            _ => Status::Failure,
        }
    }
}

/// What is known of a file (§5).
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(super) struct Attributes {
    pub(super) size: Option<u64>,
    /// The numbers of user and group.
    pub(super) owner: Option<(u32, u32)>,
    /// What `st_mode` holds: kind and rights.
    pub(super) mode: Option<u32>,
    /// When it was read and changed last, in seconds since 1970.
    pub(super) times: Option<(u32, u32)>,
}

const HAS_SIZE: u32 = 1;
const HAS_OWNER: u32 = 2;
const HAS_MODE: u32 = 4;
const HAS_TIMES: u32 = 8;
const HAS_MORE: u32 = 1 << 31;

const KIND: u32 = 0o170_000;
const REGULAR: u32 = 0o100_000;
const FOLDER: u32 = 0o040_000;
const LINK: u32 = 0o120_000;
const SOCKET: u32 = 0o140_000;
const PIPE: u32 = 0o010_000;
const CHARACTERS: u32 = 0o020_000;
const BLOCKS: u32 = 0o060_000;
pub(super) const RIGHTS: u32 = 0o7_777;

impl Attributes {
    pub(super) fn is_folder(&self) -> bool {
        self.mode.is_some_and(|mode| mode & KIND == FOLDER)
    }

    pub(super) fn is_file(&self) -> bool {
        self.mode.is_some_and(|mode| mode & KIND == REGULAR)
    }

    /// What it is that is neither a file nor a folder.
    pub(super) fn odd_kind(&self) -> OddKind {
        match self.mode.map(|mode| mode & KIND) {
            Some(LINK) => OddKind::Link,
            Some(SOCKET) => OddKind::Socket,
            Some(PIPE) => OddKind::Pipe,
            Some(CHARACTERS | BLOCKS) => OddKind::Device,
            // One that the server does not tell.
            Some(_) | None => OddKind::Own,
        }
    }

    fn put(&self, into: &mut BytesMut) {
        let flag = |is_there: bool, flag: u32| if is_there { flag } else { 0 };
        into.put_u32(
            flag(self.size.is_some(), HAS_SIZE)
                | flag(self.owner.is_some(), HAS_OWNER)
                | flag(self.mode.is_some(), HAS_MODE)
                | flag(self.times.is_some(), HAS_TIMES),
        );
        if let Some(size) = self.size {
            into.put_u64(size);
        }
        if let Some((user, group)) = self.owner {
            into.put_u32(user);
            into.put_u32(group);
        }
        if let Some(mode) = self.mode {
            into.put_u32(mode);
        }
        if let Some((read, changed)) = self.times {
            into.put_u32(read);
            into.put_u32(changed);
        }
    }
}

/// A name of a listing; the long form that servers add for people is passed over.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Name {
    pub(super) name: Bytes,
    pub(super) attributes: Attributes,
}

/// What a server answers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Answer {
    Status(Status, String),
    Handle(Bytes),
    Data(Bytes),
    Names(Vec<Name>),
    Attributes(Attributes),
    Extended(Bytes),
}

/// A request as it is put together.
pub(super) struct Packet {
    bytes: BytesMut,
}

/// Where the number of a request stands in its packet, by which the answer is known.
const NUMBER_AT: usize = 5;

impl Packet {
    /// A request of this kind; its number is set when it is sent.
    pub(super) fn new(ask: Ask) -> Packet {
        let mut bytes = BytesMut::with_capacity(128);
        bytes.put_u32(0);
        bytes.put_u8(ask.number());
        bytes.put_u32(0);
        Packet { bytes }
    }

    /// An extension, by its name.
    pub(super) fn extended(name: &str) -> Packet {
        Packet::new(Ask::Extended).text(name.as_bytes())
    }

    pub(super) fn text(mut self, text: &[u8]) -> Packet {
        // No name and no piece of content here is nearly so long.
        self.bytes
            .put_u32(u32::try_from(text.len()).unwrap_or(u32::MAX));
        self.bytes.put_slice(text);
        self
    }

    pub(super) fn number(mut self, number: u32) -> Packet {
        self.bytes.put_u32(number);
        self
    }

    pub(super) fn long(mut self, number: u64) -> Packet {
        self.bytes.put_u64(number);
        self
    }

    pub(super) fn attributes(mut self, attributes: &Attributes) -> Packet {
        attributes.put(&mut self.bytes);
        self
    }

    /// The bytes to send, for the request of this number.
    pub(super) fn numbered(mut self, number: u32) -> Bytes {
        let length = u32::try_from(self.bytes.len() - 4).unwrap_or(u32::MAX);
        self.bytes[..4].copy_from_slice(&length.to_be_bytes());
        self.bytes[NUMBER_AT..NUMBER_AT + 4].copy_from_slice(&number.to_be_bytes());
        self.bytes.freeze()
    }

    /// The first packet of a line (§4).
    pub(super) fn first() -> Bytes {
        let mut bytes = BytesMut::new();
        bytes.put_u32(5);
        bytes.put_u8(1);
        bytes.put_u32(VERSION);
        bytes.freeze()
    }
}

/// Why what a server sent cannot be read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the server sent what is no SFTP")]
pub(super) struct Garbled;

fn number(from: &mut Bytes) -> Result<u32, Garbled> {
    from.try_get_u32().map_err(|_| Garbled)
}

pub(super) fn text(from: &mut Bytes) -> Result<Bytes, Garbled> {
    let length = number(from)? as usize;
    match length <= from.len() {
        true => Ok(from.split_to(length)),
        false => Err(Garbled),
    }
}

fn attributes(from: &mut Bytes) -> Result<Attributes, Garbled> {
    let has = number(from)?;
    let mut found = Attributes::default();
    if has & HAS_SIZE != 0 {
        found.size = Some(from.try_get_u64().map_err(|_| Garbled)?);
    }
    if has & HAS_OWNER != 0 {
        found.owner = Some((number(from)?, number(from)?));
    }
    if has & HAS_MODE != 0 {
        found.mode = Some(number(from)?);
    }
    if has & HAS_TIMES != 0 {
        found.times = Some((number(from)?, number(from)?));
    }
    if has & HAS_MORE != 0 {
        for _ in 0..number(from)? {
            text(from)?;
            text(from)?;
        }
    }
    Ok(found)
}

/// What the server says first: its version, and by name what it can do beyond it.
pub(super) fn read_first(mut packet: Bytes) -> Result<(u32, Vec<(String, Bytes)>), Garbled> {
    if packet.try_get_u8() != Ok(2) {
        return Err(Garbled);
    }
    let version = number(&mut packet)?;
    let mut extensions = Vec::new();
    while !packet.is_empty() {
        let name = text(&mut packet)?;
        let said = text(&mut packet)?;
        extensions.push((String::from_utf8_lossy(&name).into_owned(), said));
    }
    Ok((version, extensions))
}

/// The number of the request that a packet answers, and the answer.
pub(super) fn read_answer(mut packet: Bytes) -> Result<(u32, Answer), Garbled> {
    let kind = packet.try_get_u8().map_err(|_| Garbled)?;
    let of = number(&mut packet)?;
    let answer = match kind {
        101 => {
            let status = Status::of(number(&mut packet)?);
            // The words came with version 3, and some servers leave them out all the same.
            let words = text(&mut packet).unwrap_or_default();
            Answer::Status(status, String::from_utf8_lossy(&words).into_owned())
        }
        102 => Answer::Handle(text(&mut packet)?),
        103 => Answer::Data(text(&mut packet)?),
        104 => {
            let count = number(&mut packet)?;
            let mut names = Vec::new();
            for _ in 0..count {
                let name = text(&mut packet)?;
                let _for_people = text(&mut packet)?;
                names.push(Name {
                    name,
                    attributes: attributes(&mut packet)?,
                });
            }
            Answer::Names(names)
        }
        105 => Answer::Attributes(attributes(&mut packet)?),
        201 => Answer::Extended(packet),
        _ => return Err(Garbled),
    };
    Ok((of, answer))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn answer(kind: u8, fields: &[u8]) -> Bytes {
        let mut bytes = BytesMut::new();
        bytes.put_u8(kind);
        bytes.put_u32(7);
        bytes.put_slice(fields);
        bytes.freeze()
    }

    #[test]
    fn a_request_has_its_length_its_kind_and_its_number() {
        let packet = Packet::new(Ask::Rename).text(b"a").text(b"bc").numbered(9);
        assert_eq!(
            &packet[..],
            b"\0\0\0\x10\x12\0\0\0\x09\0\0\0\x01a\0\0\0\x02bc"
        );
        let extended = Packet::extended("fsync@openssh.com").text(b"h").numbered(1);
        assert_eq!(extended[4], 200);
    }

    #[test]
    fn attributes_come_back_as_they_were_put() {
        let whole = Attributes {
            size: Some(1 << 40),
            owner: Some((1000, 100)),
            mode: Some(0o100_644),
            times: Some((1, 1_796_000_000)),
        };
        for given in [
            Attributes::default(),
            whole,
            Attributes {
                size: None,
                owner: None,
                ..whole
            },
        ] {
            let mut bytes = BytesMut::new();
            given.put(&mut bytes);
            assert_eq!(
                read_answer(answer(105, &bytes)),
                Ok((7, Answer::Attributes(given)))
            );
        }
        assert!(whole.is_file() && !whole.is_folder());
    }

    #[test]
    fn what_is_cut_or_claims_too_much_is_an_error_and_no_panic() {
        let listing = {
            let mut bytes = BytesMut::new();
            bytes.put_u32(1);
            for text in ["Letter.txt", "-rw-r--r-- Letter.txt"] {
                bytes.put_u32(text.len() as u32);
                bytes.put_slice(text.as_bytes());
            }
            Attributes::default().put(&mut bytes);
            bytes.freeze()
        };
        assert!(read_answer(answer(104, &listing)).is_ok());
        for length in 0..listing.len() {
            assert_eq!(
                read_answer(answer(104, &listing[..length])),
                Err(Garbled),
                "{length}"
            );
        }
        assert_eq!(
            read_answer(answer(102, &u32::MAX.to_be_bytes())),
            Err(Garbled)
        );
        assert_eq!(read_answer(answer(77, b"")), Err(Garbled));
    }

    #[test]
    fn a_status_without_words_is_read_all_the_same() {
        assert_eq!(
            read_answer(answer(101, &2u32.to_be_bytes())),
            Ok((7, Answer::Status(Status::NoSuchFile, String::new())))
        );
    }

    #[test]
    fn fuzz_answers() {
        katabatic_fuzz::each("sftp-answers", |bytes| {
            let packet = Bytes::copy_from_slice(bytes);
            let _ = read_first(packet.clone());
            if let Ok((_, Answer::Names(names))) = read_answer(packet) {
                assert!(names.len() * 12 <= bytes.len());
            }
        });
    }
}
