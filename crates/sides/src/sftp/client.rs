//! Asks an SFTP server: one connection for all that a program asks of an account, over a few channels, made again where it
//! was cut.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use bytes::Bytes;
use katabatic_core::RelPath;
use url::Url;

use super::channel::{Channel, Pending};
use super::ssh::{self, AskStep, Goal, Reached, SshLine, WayIn};
use super::wire::{Answer, Ask, Attributes, Name, Packet, Status, open};
use crate::net::rate::{Dials, Pace, Paces};
use crate::net::{PATIENCE, REQUESTS, Trust};
use crate::side_error::{Away, Delay, Said};
use crate::stop::Stop;
use crate::{Outcome, SideError, Undone};

/// Below this a path is that of who signs in, and not of the whole server.
const HOME: &str = "~";

/// No folder holds so many names; who lists on and on would fill the memory.
const MOST_NAMES: usize = 4_000_000;

/// As many channels are opened at the most.
const CHANNELS: usize = 4;

/// A channel on which so many requests wait gets another one beside it.
const BUSY: usize = 8;

/// How an account is reached, and who signs in.
#[derive(Clone)]
pub struct Connection {
    /// `sftp://HOST[:PORT]/FOLDER/`; `/~/` is the home folder of who signs in.
    pub address: Url,
    /// Who signs in.
    pub user: String,
    /// How.
    pub way: WayIn,
    /// Which host keys are trusted.
    pub trust: Trust,
    /// For how long the server may stay silent.
    pub patience: Duration,
    /// Whether nothing may be written there.
    pub read_only: bool,
    /// Who is asked where the server wants to know more than a password.
    pub ask: Option<AskStep>,
}

impl Connection {
    /// To this address, as this user in this way, with nothing special about it.
    #[must_use]
    pub fn new(address: Url, user: &str, way: WayIn) -> Connection {
        Connection {
            address,
            user: user.to_owned(),
            way,
            trust: Trust::System,
            patience: PATIENCE,
            read_only: false,
            ask: None,
        }
    }
}

/// What all clients of one account in a program share.
#[derive(Clone, Default)]
pub struct SftpShared {
    line: Arc<tokio::sync::Mutex<Option<Arc<Line>>>>,
    full: Arc<AtomicBool>,
    up: [Pace; 2],
    down: [Pace; 2],
}

impl SftpShared {
    /// With the dials of all accounts together and its own.
    #[must_use]
    pub fn new(dials: [&Dials; 2]) -> SftpShared {
        SftpShared {
            line: Arc::default(),
            full: Arc::default(),
            up: dials.map(|dials| Pace::new(dials.up.clone())),
            down: dials.map(|dials| Pace::new(dials.down.clone())),
        }
    }
}

/// A connection that is signed in over.
struct Line {
    ssh: SshLine,
    channels: Mutex<Vec<Arc<Channel>>>,
    /// Held by whoever opens another channel: who comes meanwhile takes one that is there.
    opening: tokio::sync::Mutex<()>,
    /// The server opens no more channels, over this connection or another one: some end it where they are asked to.
    full: Arc<AtomicBool>,
    /// Nothing is asked over it any more.
    given_up: AtomicBool,
    /// Where the account's folder lies, as the server names it.
    base: Vec<u8>,
    piece: usize,
}

impl Line {
    fn is_good(&self) -> bool {
        !self.given_up.load(Ordering::Relaxed)
            && !self.ssh.handle.is_closed()
            && self.channels().iter().all(|channel| !channel.has_ended())
    }

    fn channels(&self) -> Vec<Arc<Channel>> {
        self.channels
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .clone()
    }

    /// The channel with the least to do; another one is opened where all have much.
    async fn channel(&self) -> Result<Arc<Channel>, SideError> {
        let channels = self.channels();
        let quiet = channels.iter().min_by_key(|channel| channel.waits());
        if let Some(quiet) = quiet
            && (quiet.waits() < BUSY
                || channels.len() >= CHANNELS
                || self.full.load(Ordering::Relaxed))
        {
            return Ok(Arc::clone(quiet));
        }
        let Ok(_opening) = self.opening.try_lock() else {
            return quiet.cloned().ok_or_else(odd);
        };
        if self.channels().len() >= CHANNELS {
            return quiet.cloned().ok_or_else(odd);
        }
        match open_channel(&self.ssh).await {
            Ok(channel) => {
                let channel = Arc::new(channel);
                let mut known = self.channels.lock().unwrap_or_else(PoisonError::into_inner);
                known.push(Arc::clone(&channel));
                Ok(channel)
            }
            Err(why) => {
                self.full.store(true, Ordering::Relaxed);
                tracing::debug!("the server opens no more channels: {why}");
                quiet.cloned().ok_or(why)
            }
        }
    }
}

async fn open_channel(ssh: &SshLine) -> Result<Channel, SideError> {
    let failed = |why: String| {
        SideError::Failed(format!(
            "the server lets us in, and does not speak SFTP: {why}"
        ))
    };
    let session = ssh.handle.channel_open_session().await;
    let session = session.map_err(|why| failed(why.to_string()))?;
    let asked = session.request_subsystem(true, "sftp").await;
    asked.map_err(|why| failed(why.to_string()))?;
    Channel::begin(session.into_stream()).await.map_err(failed)
}

/// Asks an account for things.
#[derive(Clone)]
pub struct SftpClient {
    connection: Arc<Connection>,
    pub(crate) stop: Stop,
    shared: SftpShared,
    pub(super) up: Paces,
    pub(super) down: Paces,
}

/// Why there is no answer.
pub(super) enum Lost {
    /// The request was never sent.
    NotSent(SideError),
    /// It was sent, or may have been.
    Sent(SideError),
}

impl Lost {
    fn told(self) -> SideError {
        match self {
            Lost::NotSent(why) | Lost::Sent(why) => why,
        }
    }
}

impl From<Lost> for Undone {
    fn from(lost: Lost) -> Undone {
        match lost {
            Lost::NotSent(why) => Undone::NotDone(why),
            Lost::Sent(why) => Undone::Unsure(why),
        }
    }
}

impl SftpClient {
    /// A client of its own.
    #[must_use]
    pub fn new(connection: Connection, stop: Stop) -> SftpClient {
        SftpClient::sharing(connection, stop, &SftpShared::default(), &Dials::default())
    }

    /// A client that shares the account's connection and limits, with limits of its own beside them.
    #[must_use]
    pub fn sharing(
        connection: Connection,
        stop: Stop,
        shared: &SftpShared,
        dials: &Dials,
    ) -> SftpClient {
        let paces = |shared: &[Pace; 2], own: Pace| {
            let [all, account] = shared.clone();
            Paces([all, account, own])
        };
        SftpClient {
            connection: Arc::new(connection),
            stop,
            up: paces(&shared.up, Pace::new(dials.up.clone())),
            down: paces(&shared.down, Pace::new(dials.down.clone())),
            shared: shared.clone(),
        }
    }

    /// The account's address.
    #[must_use]
    pub fn address(&self) -> &Url {
        &self.connection.address
    }

    /// Whether nothing may be written there.
    #[must_use]
    pub fn is_read_only(&self) -> bool {
        self.connection.read_only
    }

    /// The host as the address names it.
    pub(super) fn host(&self) -> &str {
        let host = self.connection.address.host_str();
        // An address of IPv6 stands in brackets in a URL alone.
        host.map_or("the server", |host| host.trim_matches(['[', ']']))
    }

    /// Connects and signs in, where that is not done yet; what was done on the way in.
    ///
    /// # Errors
    /// Where the host cannot be reached, is not trusted, or lets nobody in.
    pub async fn enter(&self) -> Result<Vec<Reached>, SideError> {
        Ok(self.line().await?.ssh.reached.clone())
    }

    async fn line(&self) -> Result<Arc<Line>, SideError> {
        let mut line = self.shared.line.lock().await;
        if let Some(open) = line.as_ref().filter(|line| line.is_good()) {
            return Ok(Arc::clone(open));
        }
        *line = None;
        if self.stop.asked() {
            return Err(SideError::Stopped);
        }
        let connecting = self.connect();
        let opened = tokio::select! {
            opened = connecting => opened?,
            () = self.stop.given_up() => return Err(SideError::Stopped),
        };
        let opened = Arc::new(opened);
        *line = Some(Arc::clone(&opened));
        Ok(opened)
    }

    /// Connects to the host and looks at its key, without signing in.
    ///
    /// # Errors
    /// Where it cannot be reached, or is not trusted.
    pub async fn look_at_host(&self) -> Result<(), SideError> {
        let goal = Goal {
            way: None,
            ..self.goal()
        };
        ssh::connect(&goal).await.map(drop)
    }

    fn goal(&self) -> Goal<'_> {
        let connection = &self.connection;
        Goal {
            host: self.host(),
            port: connection.address.port(),
            user: &connection.user,
            way: Some(&connection.way),
            trust: &connection.trust,
            patience: connection.patience,
            ask: connection.ask.as_ref(),
        }
    }

    async fn connect(&self) -> Result<Line, SideError> {
        let ssh = ssh::connect(&self.goal()).await?;
        let channel = Arc::new(open_channel(&ssh).await?);
        let mut line = Line {
            ssh,
            channels: Mutex::new(vec![Arc::clone(&channel)]),
            opening: tokio::sync::Mutex::new(()),
            full: Arc::clone(&self.shared.full),
            given_up: AtomicBool::new(false),
            base: Vec::new(),
            piece: PIECE,
        };
        if channel.extensions.iter().any(|(name, _)| name == LIMITS) {
            let pending = channel.send(Packet::extended(LIMITS)).await.ok();
            let limits = self.awaited(&line, pending).await.map_err(Lost::told)?;
            if let Answer::Extended(fields) = limits {
                line.piece = read_piece(&fields);
            }
        }
        let wanted = wanted_base(&self.connection.address);
        let packet = Packet::new(Ask::RealPath).text(&wanted);
        let answer = self.awaited(&line, channel.send(packet).await.ok()).await;
        line.base = match answer.map_err(Lost::told)? {
            Answer::Names(names) => names
                .first()
                .map(|name| name.name.to_vec())
                .ok_or_else(odd)?,
            // That is no path without anything at it, of which something could be concluded.
            Answer::Status(Status::NoSuchFile, _) => {
                return Err(SideError::away(
                    Away::NoFolder,
                    "there is nothing at this path",
                ));
            }
            Answer::Status(status, words) => return Err(refused(status, &words)),
            _ => return Err(odd()),
        };
        Ok(line)
    }

    /// Waits for an answer: as long as the server may be silent, and not much longer than somebody asked to stop.
    async fn awaited(&self, line: &Line, pending: Option<Pending>) -> Result<Answer, Lost> {
        let cut = || {
            SideError::TryAgain(Said {
                kind: Delay::Cut,
                why: format!("the connection to {} was cut", self.host()),
            })
        };
        let Some(pending) = pending else {
            return Err(Lost::NotSent(cut()));
        };
        let patience = self.connection.patience;
        tokio::select! {
            answer = tokio::time::timeout(patience, pending) => match answer {
                Ok(Ok(answer)) => Ok(answer),
                Ok(Err(_)) => Err(Lost::Sent(cut())),
                Err(_) => {
                    // What it may still do, it does without us; whoever asks next asks over another connection.
                    line.given_up.store(true, Ordering::Relaxed);
                    Err(Lost::Sent(SideError::TryAgain(Said {
                        kind: Delay::Silent,
                        why: format!(
                            "{} took the request and then sent nothing for {} s",
                            self.host(),
                            patience.as_secs()
                        ),
                    })))
                }
            },
            () = self.stop.given_up() => Err(Lost::Sent(SideError::try_again(format!(
                "it was stopped before {} answered",
                self.host()
            )))),
        }
    }

    /// Asks once.
    async fn ask_once(&self, packet: Packet) -> Result<(Answer, Spot), Lost> {
        if self.stop.is_over() {
            return Err(Lost::NotSent(SideError::Stopped));
        }
        let line = self.line().await.map_err(Lost::NotSent)?;
        let channel = line.channel().await.map_err(Lost::NotSent)?;
        let sent = channel.send(packet).await.ok();
        let answer = self.awaited(&line, sent).await?;
        let spot = Spot { line, channel };
        Ok((answer, spot))
    }

    /// Asks for what changes nothing, once more where the connection was cut.
    pub(super) async fn ask(
        &self,
        ask: Ask,
        about: &Path,
        packet: impl Fn(Packet) -> Packet,
    ) -> Result<(Answer, Spot), SideError> {
        let began = Instant::now();
        let once = async || {
            let base = self.line().await.map_err(Lost::NotSent)?.base.clone();
            let begun = Packet::new(ask).text(&about.full(&base));
            self.ask_once(packet(begun)).await
        };
        let asked = match once().await {
            Err(Lost::NotSent(SideError::TryAgain(_)) | Lost::Sent(SideError::TryAgain(_)))
                if !self.stop.asked() =>
            {
                once().await
            }
            asked => asked,
        };
        tell(
            ask.word(),
            about,
            began,
            asked.as_ref().map(|(answer, _)| answer),
        );
        asked.map_err(Lost::told)
    }

    /// Asks for what changes something, once.
    pub(super) async fn change(
        &self,
        word: &'static str,
        about: &Path,
        packet: impl FnOnce(&dyn Fn(&Path) -> Vec<u8>) -> Packet,
    ) -> Outcome<Answer> {
        if self.connection.read_only {
            return Err(Undone::NotDone(only_read()));
        }
        let began = Instant::now();
        let base = self.line().await.map_err(Undone::NotDone)?.base.clone();
        let full = |path: &Path| path.full(&base);
        let asked = self.ask_once(packet(&full)).await;
        tell(word, about, began, asked.as_ref().map(|(answer, _)| answer));
        Ok(asked?.0)
    }

    /// What the server can do beyond version 3, by name.
    pub(super) async fn extensions(&self) -> Result<Vec<(String, Bytes)>, SideError> {
        let line = self.line().await?;
        let channels = line.channels();
        Ok(channels
            .first()
            .map(|channel| channel.extensions.clone())
            .unwrap_or_default())
    }

    /// Whether the server has an extension of this name.
    pub(super) async fn has(&self, name: &str) -> Result<bool, SideError> {
        Ok(self
            .extensions()
            .await?
            .iter()
            .any(|(known, _)| known == name))
    }

    /// The account's folder, as the server names it.
    pub(super) async fn base(&self) -> Result<Vec<u8>, SideError> {
        Ok(self.line().await?.base.clone())
    }

    /// What is at a path; a link is what it is itself, and not what it leads to.
    pub(super) async fn look(&self, path: &Path) -> Result<Option<Attributes>, SideError> {
        match self.ask(Ask::LinkStat, path, |packet| packet).await?.0 {
            Answer::Attributes(attributes) => Ok(Some(attributes)),
            Answer::Status(Status::NoSuchFile, _) => Ok(None),
            Answer::Status(status, words) => Err(refused(status, &words)),
            _ => Err(odd()),
        }
    }

    /// The names that a folder holds, but for itself and the one above it.
    pub(super) async fn names(&self, path: &Path) -> Result<Vec<Name>, SideError> {
        let (answer, spot) = self.ask(Ask::OpenFolder, path, |packet| packet).await?;
        let folder = self.opened(path, answer, spot)?;
        let mut all = Vec::new();
        loop {
            let answer = folder.ask(Packet::new(Ask::ReadFolder).text(&folder.handle));
            match answer.await.map_err(Lost::told)? {
                Answer::Names(names) if all.len() < MOST_NAMES => all.extend(names),
                Answer::Names(_) => {
                    return Err(SideError::Failed(
                        "the server lists more names than any folder holds".into(),
                    ));
                }
                Answer::Status(Status::End, _) => break,
                Answer::Status(status, words) => return Err(refused(status, &words)),
                _ => return Err(odd()),
            }
        }
        all.retain(|name| !matches!(&name.name[..], b"." | b".."));
        // What is in a folder has a name of one part; anything else would lead out of it.
        if all
            .iter()
            .any(|name| name.name.is_empty() || name.name.contains(&b'/'))
        {
            return Err(odd());
        }
        Ok(all)
    }

    /// Opens a file.
    pub(super) async fn open(&self, path: &Path, flags: u32) -> Outcome<File> {
        if self.connection.read_only && flags != open::READ {
            return Err(Undone::NotDone(only_read()));
        }
        let asked = self.ask(Ask::Open, path, |packet| {
            packet.number(flags).attributes(&Attributes::default())
        });
        let (answer, spot) = asked.await.map_err(Undone::Unsure)?;
        self.opened(path, answer, spot).map_err(Undone::NotDone)
    }

    /// Opens a file over the channel of another one, which knows no handles but its own.
    pub(super) async fn open_beside(
        &self,
        other: &File,
        path: &Path,
        flags: u32,
    ) -> Result<File, SideError> {
        let full = path.full(&other.spot.line.base);
        let packet = Packet::new(Ask::Open).text(&full).number(flags);
        let answer = other.ask(packet.attributes(&Attributes::default())).await;
        self.opened(path, answer.map_err(Lost::told)?, other.spot.clone())
    }

    fn opened(&self, path: &Path, answer: Answer, spot: Spot) -> Result<File, SideError> {
        match answer {
            Answer::Handle(handle) => Ok(File {
                client: self.clone(),
                spot,
                handle,
                path: path.clone(),
                opened: Instant::now(),
                went: AtomicU64::new(0),
                came: AtomicU64::new(0),
            }),
            Answer::Status(status, words) => Err(refused(status, &words)),
            _ => Err(odd()),
        }
    }

    /// Bytes that are used and free for who signs in, where the server tells.
    pub(super) async fn space(&self) -> Result<Option<(u64, u64)>, SideError> {
        if !self.has(STATVFS).await? {
            return Ok(None);
        }
        let base = self.base().await?;
        let asked = self.ask_once(Packet::extended(STATVFS).text(&base)).await;
        match asked.map_err(Lost::told)?.0 {
            Answer::Extended(fields) => Ok(read_space(&fields)),
            _ => Ok(None),
        }
    }
}

/// So many bytes are asked for or sent at once; every server takes as much (draft-ietf-secsh-filexfer-02 §3).
const PIECE: usize = 32 * 1024;

/// And so many where the server says that it takes them.
const LARGEST_PIECE: usize = 128 * 1024;

/// `limits@openssh.com` (OpenSSH's PROTOCOL §4.8).
const LIMITS: &str = "limits@openssh.com";

/// `statvfs@openssh.com` (OpenSSH's PROTOCOL §4.4).
const STATVFS: &str = "statvfs@openssh.com";

fn read_space(fields: &[u8]) -> Option<(u64, u64)> {
    let field = |at: usize| {
        let bytes = fields.get(at * 8..at * 8 + 8)?;
        Some(u64::from_be_bytes(bytes.try_into().ok()?))
    };
    let (unit, blocks, free, for_us) = (field(1)?, field(2)?, field(3)?, field(4)?);
    Some((
        blocks.checked_sub(free)?.checked_mul(unit)?,
        for_us.checked_mul(unit)?,
    ))
}

/// How many bytes go in a piece by these limits.
fn read_piece(fields: &[u8]) -> usize {
    let field = |at: usize| {
        let bytes = fields.get(at * 8..at * 8 + 8)?;
        usize::try_from(u64::from_be_bytes(bytes.try_into().ok()?)).ok()
    };
    // No limit that the server names is 0.
    let most = |at| field(at).filter(|most| *most > 0).unwrap_or(PIECE);
    most(1).min(most(2)).clamp(PIECE, LARGEST_PIECE)
}

/// The folder that an address names, as it is asked for: relative to where one comes in, or from the root on.
fn wanted_base(address: &Url) -> Vec<u8> {
    let decoded: Vec<u8> = percent_encoding::percent_decode_str(address.path()).collect();
    let path = decoded.strip_suffix(b"/").unwrap_or(&decoded);
    let home = format!("/{HOME}");
    match path.strip_prefix(home.as_bytes()) {
        Some(b"") => b".".to_vec(),
        Some([b'/', below @ ..]) => below.to_vec(),
        Some(_) | None if path.is_empty() => b"/".to_vec(),
        Some(_) | None => path.to_vec(),
    }
}

fn tell(word: &str, about: &Path, began: Instant, answer: Result<&Answer, &Lost>) {
    let how = match answer {
        Ok(Answer::Status(status, _)) => format!("{status:?}"),
        Ok(_) => "answered".into(),
        Err(Lost::NotSent(why) | Lost::Sent(why)) => why.to_string(),
    };
    tracing::trace!(
        target: REQUESTS,
        "{word} {} {how}, {:.1} ms",
        about.shown(),
        began.elapsed().as_secs_f64() * 1e3
    );
}

/// Where a request goes that belongs to an open file.
#[derive(Clone)]
pub(super) struct Spot {
    line: Arc<Line>,
    channel: Arc<Channel>,
}

/// An open file or folder; it is closed when it is dropped.
pub(super) struct File {
    client: SftpClient,
    spot: Spot,
    handle: Bytes,
    path: Path,
    opened: Instant,
    /// Bytes of content that went there, and that came back.
    went: AtomicU64,
    came: AtomicU64,
}

impl Drop for File {
    fn drop(&mut self) {
        tracing::trace!(
            target: REQUESTS,
            "CLOSE {}, {} bytes there, {} bytes back, {:.1} ms",
            self.path.shown(),
            self.went.load(Ordering::Relaxed),
            self.came.load(Ordering::Relaxed),
            self.opened.elapsed().as_secs_f64() * 1e3
        );
        let packet = Packet::new(Ask::Close).text(&self.handle);
        self.spot.channel.send_and_forget(packet);
    }
}

impl File {
    /// Hands a request over, whose answer is waited for later.
    pub(super) async fn send(&self, packet: Packet) -> Option<Pending> {
        self.spot.channel.send(packet).await.ok()
    }

    pub(super) async fn answer(&self, pending: Option<Pending>) -> Result<Answer, Lost> {
        self.client.awaited(&self.spot.line, pending).await
    }

    async fn ask(&self, packet: Packet) -> Result<Answer, Lost> {
        let pending = self.send(packet).await;
        self.answer(pending).await
    }

    /// How many bytes go in a piece of content.
    pub(super) fn piece(&self) -> usize {
        self.spot.line.piece
    }

    /// So many bytes of content go there.
    pub(super) fn went(&self, bytes: usize) {
        self.went.fetch_add(bytes as u64, Ordering::Relaxed);
    }

    /// So many came back.
    pub(super) fn came(&self, bytes: usize) {
        self.came.fetch_add(bytes as u64, Ordering::Relaxed);
    }

    /// A request about this file.
    pub(super) fn packet(&self, ask: Ask) -> Packet {
        Packet::new(ask).text(&self.handle)
    }

    /// An extension about this file.
    pub(super) fn extended(&self, name: &str) -> Packet {
        Packet::extended(name).text(&self.handle)
    }

    pub(super) fn handle(&self) -> &[u8] {
        &self.handle
    }

    /// What is known of it now.
    pub(super) async fn look(&self) -> Result<Attributes, SideError> {
        let answer = self.ask(self.packet(Ask::FileStat)).await;
        match answer.map_err(Lost::told)? {
            Answer::Attributes(attributes) => Ok(attributes),
            Answer::Status(status, words) => Err(refused(status, &words)),
            _ => Err(odd()),
        }
    }

    /// Asks for what has no other answer than that it was done.
    pub(super) async fn done(&self, packet: Packet) -> Result<(), SideError> {
        let pending = self.send(packet).await;
        self.was_done(pending).await
    }

    pub(super) async fn was_done(&self, pending: Option<Pending>) -> Result<(), SideError> {
        match self.answer(pending).await.map_err(Lost::told)? {
            Answer::Status(Status::Fine, _) => Ok(()),
            Answer::Status(status, words) => Err(refused(status, &words)),
            _ => Err(odd()),
        }
    }
}

/// A path on the server: below the account's folder, or any.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Path(Vec<u8>);

impl Path {
    /// A path of the account.
    pub(super) fn account(path: &RelPath) -> Path {
        Path(path.as_str().as_bytes().to_vec())
    }

    /// Something in the folder at this path.
    pub(super) fn below(&self, name: &str) -> Path {
        self.below_bytes(name.as_bytes())
    }

    /// The same of a name in any encoding.
    pub(super) fn below_bytes(&self, name: &[u8]) -> Path {
        Path([&self.0[..], name].join(&b'/'))
    }

    /// As the server names it, where the account's folder lies at `base`.
    pub(super) fn full(&self, base: &[u8]) -> Vec<u8> {
        if self.0.is_empty() {
            return base.to_vec();
        }
        let mut full = base.to_vec();
        if full.last() != Some(&b'/') {
            full.push(b'/');
        }
        full.extend_from_slice(&self.0);
        full
    }

    fn shown(&self) -> std::borrow::Cow<'_, str> {
        String::from_utf8_lossy(&self.0)
    }
}

/// The words for a request that the server did not do.
pub(super) fn refused(status: Status, words: &str) -> SideError {
    match status {
        Status::NoSuchFile => SideError::Missing,
        Status::NotAllowed => SideError::Failed(
            "the server does not allow it; look at the owner and the rights there".into(),
        ),
        Status::NoConnection => SideError::try_again("the server lost what it needs for that"),
        Status::Unsupported => SideError::Failed("the server does not do this".into()),
        Status::Failure | Status::BadMessage | Status::End | Status::Fine => {
            SideError::Failed(match words {
                "" | "Failure" => "the server could not do it, and does not say why".into(),
                words => format!("the server could not do it: {words}"),
            })
        }
    }
}

/// The words for what would change an account that was added read-only.
fn only_read() -> SideError {
    SideError::Failed("the account was added read-only; nothing is ever written to it".into())
}

/// The words for an answer of a kind that the request has not.
pub(super) fn odd() -> SideError {
    SideError::Failed("the server's answer is about something else".into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_names_a_folder_of_the_server_or_of_who_signs_in() {
        for (address, wanted) in [
            ("sftp://files.example/", "/"),
            ("sftp://files.example/~/", "."),
            ("sftp://files.example/~/Scores/", "Scores"),
            ("sftp://files.example/srv/Old%20scores/", "/srv/Old scores"),
            ("sftp://files.example/~ada/", "/~ada"),
        ] {
            let address = Url::parse(address).unwrap();
            assert_eq!(wanted_base(&address), wanted.as_bytes(), "{address}");
        }
    }

    #[test]
    fn pieces_are_as_large_as_the_server_takes_and_never_smaller_than_any_does() {
        let said = |limits: [u64; 4]| -> Vec<u8> {
            limits
                .iter()
                .flat_map(|limit| limit.to_be_bytes())
                .collect()
        };
        for (limits, piece) in [
            ([262_144, 261_120, 261_120, 1_019], LARGEST_PIECE),
            ([262_144, 261_120, 65_536, 0], 65_536),
            ([34_000, 0, 0, 0], PIECE),
            ([1, 1, 1, 1], PIECE),
            ([u64::MAX; 4], LARGEST_PIECE),
        ] {
            assert_eq!(read_piece(&said(limits)), piece, "{limits:?}");
        }
        assert_eq!(read_piece(b"short"), PIECE);
    }

    #[test]
    fn what_is_used_and_free_is_read_from_the_blocks() {
        let fields: Vec<u8> = [4096u64, 512, 1_000, 400, 300, 0, 0, 0, 0, 0, 255]
            .iter()
            .flat_map(|field| field.to_be_bytes())
            .collect();
        assert_eq!(read_space(&fields), Some((600 * 512, 300 * 512)));
        assert_eq!(read_space(&fields[..20]), None);
    }
}
