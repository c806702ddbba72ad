//! The agent's end: has its stubs marked, and is told of every program that opens one.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError, mpsc};

use rustix::net::{AddressFamily, SocketAddrUnix, SocketFlags, SocketType, connect, socket_with};
use tokio::sync::mpsc::{UnboundedReceiver, UnboundedSender, unbounded_channel};

use super::wire::{self, Order, Said, TOGETHER};

/// What the opener tells.
#[derive(Debug)]
pub enum Told {
    /// A program opens a marked file, and waits for the answer.
    Asks {
        /// The number of the question.
        question: u64,
        /// The program's process.
        process: i32,
        /// The file, open for reading and writing.
        file: OwnedFd,
    },
    /// The opener is about to end: the stubs are to lose their rights, and then it is told so.
    Ending,
    /// The opener is gone: everybody who opens a stub is let through.
    Gone,
}

/// A connection to the opener.
#[derive(Clone)]
pub struct Client {
    socket: Arc<OwnedFd>,
    marked: Arc<Mutex<mpsc::Receiver<Vec<Option<String>>>>>,
}

/// A socket to whoever listens there.
fn reach(to: &Path) -> io::Result<OwnedFd> {
    let socket = socket_with(
        AddressFamily::UNIX,
        SocketType::SEQPACKET,
        SocketFlags::CLOEXEC,
        None,
    )?;
    connect(&socket, &SocketAddrUnix::new(to)?)?;
    Ok(socket)
}

/// Whether an opener listens there.
///
/// # Errors
/// Why none does.
pub fn knock(to: &Path) -> io::Result<()> {
    reach(to).map(drop)
}

impl Client {
    /// Connects; what the opener tells comes out of the other end.
    ///
    /// # Errors
    /// Where none listens there.
    pub fn connect(to: &Path) -> io::Result<(Client, UnboundedReceiver<Told>)> {
        let socket = Arc::new(reach(to)?);
        let (marked, answers) = mpsc::channel();
        let (told, tells) = unbounded_channel();
        let listening = Arc::clone(&socket);
        std::thread::spawn(move || {
            if let Err(why) = listen(&listening, &marked, &told) {
                tracing::warn!("the opener: {why}");
            }
            // Nobody listens any more: the agent ends.
            let _ = told.send(Told::Gone);
        });
        let client = Client {
            socket,
            marked: Arc::new(Mutex::new(answers)),
        };
        Ok((client, tells))
    }

    /// Has files marked, by descriptors that need not be open for anything; an answer each.
    ///
    /// # Errors
    /// Where the opener is gone.
    pub fn mark(&self, files: &[OwnedFd]) -> io::Result<Vec<Option<String>>> {
        let answers = self.marked.lock().unwrap_or_else(PoisonError::into_inner);
        let mut all = Vec::with_capacity(files.len());
        for together in files.chunks(TOGETHER) {
            let together: Vec<BorrowedFd<'_>> = together.iter().map(AsFd::as_fd).collect();
            wire::send(self.socket.as_fd(), &Order::Mark, &together)?;
            let gone = |_| io::Error::other("the opener is gone");
            all.extend(answers.recv().map_err(gone)?);
        }
        Ok(all)
    }

    /// Lets a program go on; where the file is filled, nobody is asked about it any more.
    pub fn allow(&self, question: u64, filled: bool) {
        self.say(&Order::Allow { question, filled });
    }

    /// Does not let a program open the file.
    pub fn deny(&self, question: u64, forbidden: bool) {
        self.say(&Order::Deny {
            question,
            forbidden,
        });
    }

    /// Says that the content still comes; to be said more often than every [`super::SIGN_OF_LIFE`].
    pub fn coming(&self, question: u64) {
        self.say(&Order::Coming { question });
    }

    /// Says that the stubs have no rights any more.
    pub fn closed(&self) {
        self.say(&Order::Closed);
    }

    fn say(&self, order: &Order) {
        if let Err(why) = wire::send(self.socket.as_fd(), order, &[]) {
            tracing::warn!("the opener does not hear: {why}");
        }
    }
}

fn listen(
    socket: &OwnedFd,
    marked: &mpsc::Sender<Vec<Option<String>>>,
    told: &UnboundedSender<Told>,
) -> io::Result<()> {
    while let Some((said, with)) = wire::receive::<Said>(socket)? {
        let heard = match said {
            Said::Marked { failed } => marked.send(failed).is_ok(),
            Said::Asks { question, process } => match with.into_iter().next() {
                Some(file) => told
                    .send(Told::Asks {
                        question,
                        process,
                        file,
                    })
                    .is_ok(),
                None => true,
            },
            Said::Ending => told.send(Told::Ending).is_ok(),
        };
        if !heard {
            break;
        }
    }
    Ok(())
}
