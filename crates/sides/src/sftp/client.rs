//! Asks an SFTP server: one connection for all that a program asks of an account, over a few channels, made again where it
//! was cut.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use bytes::Bytes;
use url::Url;

use super::channel::Pending;
use super::far_path::Path;
use super::line::{LIMITS, Line, PIECE, open_channel, read_piece};
use super::open_file::{File, Spot};
use super::refusal::{Lost, odd, only_read, refused};
use super::sign_in::{AskStep, WayIn};
use super::ssh::{self, Goal, Reached};
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

/// Asks an account for things.
#[derive(Clone)]
pub struct SftpClient {
    connection: Arc<Connection>,
    pub(crate) stop: Stop,
    shared: SftpShared,
    pub(super) up: Paces,
    pub(super) down: Paces,
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
    pub(super) async fn awaited(
        &self,
        line: &Line,
        pending: Option<Pending>,
    ) -> Result<Answer, Lost> {
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
    fn what_is_used_and_free_is_read_from_the_blocks() {
        let fields: Vec<u8> = [4096u64, 512, 1_000, 400, 300, 0, 0, 0, 0, 0, 255]
            .iter()
            .flat_map(|field| field.to_be_bytes())
            .collect();
        assert_eq!(read_space(&fields), Some((600 * 512, 300 * 512)));
        assert_eq!(read_space(&fields[..20]), None);
    }
}
