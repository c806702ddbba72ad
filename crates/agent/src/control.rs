//! The agent's socket: one JSON object a line, asked and answered (docs/formats.md).
//!
//! It lies in the tool's own folder, which only its owner may enter, and whoever connects must be that owner: the
//! kernel says who it is.

use std::os::fd::AsRawFd;
use std::path::PathBuf;
use std::time::Duration;

use katabatic_core::EditTime;
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{UnixListener, UnixStream};
use tokio::sync::{mpsc, oneshot};

use super::let_in::OpeningsNow;
use super::state::LaneNow;
use katabatic_engine::{Class, Error, Home};

/// A question that is longer is none.
const LONGEST: u64 = 64 * 1024;

/// An answer that is longer is none either.
const LONGEST_ANSWER: u64 = 64 * 1024 * 1024;

/// After somebody could not be let in, the next one is after this.
const A_MOMENT: Duration = Duration::from_millis(100);

/// Who asks something of an agent waits for so long.
const PATIENCE: Duration = Duration::from_secs(10);

/// What can be asked.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "do", rename_all = "kebab-case", deny_unknown_fields)]
pub enum Ask {
    /// How things stand.
    Status,
    /// Leave a lane, or all, alone.
    Pause {
        /// The lane; all where none is named.
        lane: Option<String>,
        /// Until when, in nanoseconds since 1970; until somebody ends it where none is given.
        until: Option<i64>,
    },
    /// Go on.
    Resume {
        /// The lane; all where none is named.
        lane: Option<String>,
    },
    /// End the running pass of a lane.
    StopPass {
        /// The lane.
        lane: String,
    },
    /// End the agent.
    Stop,
}

/// What is answered.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Answer {
    /// The agent's process.
    pub process: u32,
    /// When it began, in nanoseconds since 1970.
    pub since: i64,
    /// The pause of all lanes, where there is one.
    pub paused: Option<Pause>,
    /// The lanes.
    pub lanes: Vec<LaneNow>,
    /// Why programs that open a stub are told "permission denied"; none where its content comes while they wait.
    #[serde(default)]
    pub stubs_stay_closed: Option<String>,
    /// Programs that opened stubs: what comes for them now, and which were kept out.
    #[serde(default)]
    pub openings: OpeningsNow,
    /// Whether what was asked for was done; a pass that does not run cannot be stopped.
    pub done: bool,
    /// What was wrong with the question, if anything.
    pub error: Option<String>,
}

/// A pause.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pause {
    /// Until when, in nanoseconds since 1970; until somebody ends it where that is none.
    pub until: Option<i64>,
}

/// A question, where its answer goes, and what tells that the answer was handed over.
pub(super) struct Asked {
    pub(super) ask: Ask,
    pub(super) reply: oneshot::Sender<Answer>,
    pub(super) handed_over: oneshot::Receiver<()>,
}

/// The path of the socket, short enough for the system: through the folder's open descriptor.
struct ShortPath {
    folder: std::fs::File,
}

const NAME: &str = "agent.sock";

impl ShortPath {
    fn of(home: &Home) -> std::io::Result<ShortPath> {
        let folder = std::fs::File::open(home.state())?;
        Ok(ShortPath { folder })
    }

    fn path(&self) -> PathBuf {
        format!("/proc/self/fd/{}/{NAME}", self.folder.as_raw_fd()).into()
    }
}

/// Listens; a socket that an agent of before left behind is taken away, since its lock is free.
///
/// # Errors
/// Where the socket cannot be made.
pub(super) fn listen(home: &Home) -> Result<UnixListener, Error> {
    let failed = |why: std::io::Error| {
        Error::failed(
            format!("making the socket {}", home.state().join(NAME).display()),
            why,
            "Look at the folder's rights and room.",
        )
    };
    let short = ShortPath::of(home).map_err(failed)?;
    match std::fs::remove_file(short.path()) {
        Err(why) if why.kind() != std::io::ErrorKind::NotFound => return Err(failed(why)),
        _ => {}
    }
    UnixListener::bind(short.path()).map_err(failed)
}

/// Takes the socket away, where it is still there.
pub(super) fn put_away(home: &Home) {
    // The next agent would take it away, too.
    let _ = std::fs::remove_file(home.state().join(NAME));
}

/// Answers whoever connects, each in turn of their own, until the listener is dropped.
pub(super) async fn serve(listener: UnixListener, asked: mpsc::UnboundedSender<Asked>) {
    loop {
        match listener.accept().await {
            Ok((stream, _)) => {
                let asked = asked.clone();
                tokio::spawn(async move {
                    if let Err(why) = converse(stream, asked).await {
                        tracing::debug!("somebody on the socket: {why}");
                    }
                });
            }
            // Too many open files, say, or one that was gone before it was answered: there is nothing to wait for but time.
            Err(why) => {
                tracing::debug!("the socket: {why}");
                tokio::time::sleep(A_MOMENT).await;
            }
        }
    }
}

async fn converse(stream: UnixStream, asked: mpsc::UnboundedSender<Asked>) -> std::io::Result<()> {
    let who = stream.peer_cred()?.uid();
    if who != rustix::process::getuid().as_raw() {
        return Err(std::io::Error::other(format!(
            "user {who} is not the owner"
        )));
    }
    let (reading, mut writing) = stream.into_split();
    let mut lines = BufReader::new(reading);
    loop {
        let mut line = String::new();
        if (&mut lines).take(LONGEST).read_line(&mut line).await? == 0 {
            return Ok(());
        }
        let (hands_over, handed_over) = oneshot::channel::<()>();
        let answer = match serde_json::from_str::<Ask>(&line) {
            Ok(ask) => {
                let (reply, answered) = oneshot::channel();
                let question = Asked {
                    ask,
                    reply,
                    handed_over,
                };
                if asked.send(question).is_err() {
                    return Ok(());
                }
                match answered.await {
                    Ok(answer) => serde_json::to_string(&answer)?,
                    Err(_) => return Ok(()),
                }
            }
            Err(why) => serde_json::json!({"done": false, "error": why.to_string()}).to_string(),
        };
        writing.write_all(answer.as_bytes()).await?;
        writing.write_all(b"\n").await?;
        drop(hands_over);
        // Half a question has no end that could be found again.
        if !line.ends_with('\n') {
            return Ok(());
        }
    }
}

/// When an agent of this home began that has ended without being told to: it was killed, or the computer went down. None
/// where one runs, and where the last one ended in order.
#[must_use]
pub fn died(home: &Home) -> Option<EditTime> {
    let short = ShortPath::of(home).ok()?;
    let left = std::fs::symlink_metadata(short.path()).ok()?;
    let refused = std::os::unix::net::UnixStream::connect(short.path())
        .is_err_and(|why| why.kind() == std::io::ErrorKind::ConnectionRefused);
    let began = left.modified().ok().filter(|_| refused)?;
    let since = began.duration_since(std::time::UNIX_EPOCH).ok()?;
    i64::try_from(since.as_nanos()).ok().map(EditTime)
}

/// Asks the agent of this home; none where no agent runs.
///
/// # Errors
/// Where an agent runs, and does not answer or does not understand.
pub async fn ask(home: &Home, ask: &Ask) -> Result<Option<Answer>, Error> {
    let failed = |why: String| {
        Error::new(
            Class::Failed,
            "asking the agent",
            why,
            "See what it is doing: katabatic agent status; or end it and start it again.",
        )
    };
    let Ok(short) = ShortPath::of(home) else {
        return Ok(None);
    };
    // Nobody listens: there is no socket, or an agent that was killed left it behind.
    let Ok(stream) = UnixStream::connect(short.path()).await else {
        return Ok(None);
    };
    let talking = async {
        let (reading, mut writing) = stream.into_split();
        let mut line = serde_json::to_string(ask).map_err(std::io::Error::other)?;
        line.push('\n');
        writing.write_all(line.as_bytes()).await?;
        let mut answer = String::new();
        let reading = BufReader::new(reading).take(LONGEST_ANSWER);
        tokio::pin!(reading);
        reading.read_line(&mut answer).await?;
        std::io::Result::Ok(answer)
    };
    let talked = tokio::time::timeout(PATIENCE, talking)
        .await
        .map_err(|_| failed(format!("it said nothing for {} s", PATIENCE.as_secs())))?;
    let answer = match talked {
        Ok(answer) if answer.is_empty() => return Ok(None),
        Ok(answer) => answer,
        // It ended while it was asked.
        Err(why) if ends_in_between(&why) => return Ok(None),
        Err(why) => return Err(failed(why.to_string())),
    };
    serde_json::from_str(&answer)
        .map(Some)
        .map_err(|why| failed(format!("its answer is not understood: {why}")))
}

fn ends_in_between(why: &std::io::Error) -> bool {
    use std::io::ErrorKind;
    matches!(
        why.kind(),
        ErrorKind::ConnectionReset | ErrorKind::BrokenPipe
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn fuzz_questions() {
        katabatic_fuzz::each_text("questions", |text| {
            if let Ok(ask) = serde_json::from_str::<Ask>(text) {
                let again = serde_json::to_string(&ask).unwrap();
                assert_eq!(serde_json::from_str::<Ask>(&again).unwrap(), ask);
            }
        });
    }
}
