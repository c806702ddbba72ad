//! The agent's end: has its stubs marked, and is told of every program that opens one.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError, mpsc};

use nix::sys::socket::{getsockopt, sockopt::PeerCredentials};
use rustix::net::{AddressFamily, SocketAddrUnix, SocketFlags, SocketType, connect, socket_with};

pub use crate::wire::NotMarked;
use crate::wire::{self, Order, Said, TOGETHER};

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
    marked: Arc<Mutex<mpsc::Receiver<Vec<Option<NotMarked>>>>>,
}

/// A socket to whoever listens there, if that is root.
fn reach(to: &Path) -> io::Result<OwnedFd> {
    let socket = socket_with(
        AddressFamily::UNIX,
        SocketType::SEQPACKET,
        SocketFlags::CLOEXEC,
        None,
    )?;
    connect(&socket, &SocketAddrUnix::new(to)?)?;
    // Whoever it is, it gets descriptors of stubs, and says who may read them.
    let listens = getsockopt(&socket, PeerCredentials)?.uid();
    if listens != 0 {
        return Err(io::Error::other(format!(
            "who listens there is not root, but the user with the number {listens}"
        )));
    }
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
    /// Connects. What the opener tells is handed to `told`, in a thread of its own, until that says that nobody listens
    /// any more.
    ///
    /// # Errors
    /// Where none of root's listens there.
    pub fn connect(
        to: &Path,
        mut told: impl FnMut(Told) -> bool + Send + 'static,
    ) -> io::Result<Client> {
        let socket = Arc::new(reach(to)?);
        let (marked, answers) = mpsc::channel();
        let listening = Arc::clone(&socket);
        let thread = std::thread::Builder::new().name("opener".into());
        thread.spawn(move || {
            if let Err(why) = listen(&listening, &marked, &mut told) {
                tracing::warn!("the opener: {why}");
            }
            // Where nobody listens, nobody needs to know.
            let _ = told(Told::Gone);
        })?;
        Ok(Client {
            socket,
            marked: Arc::new(Mutex::new(answers)),
        })
    }

    /// Has files marked, by descriptors that need not be open for anything; an answer each.
    ///
    /// # Errors
    /// Where the opener is gone.
    pub fn mark(&self, files: &[OwnedFd]) -> io::Result<Vec<Option<NotMarked>>> {
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

    /// Lets a program go on: the content of the file is here.
    pub fn allow(&self, question: u64) {
        self.say(&Order::Allow { question });
    }

    /// Does not let a program open the file.
    pub fn deny(&self, question: u64, forbidden: bool) {
        self.say(&Order::Deny {
            question,
            forbidden,
        });
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
    marked: &mpsc::Sender<Vec<Option<NotMarked>>>,
    told: &mut dyn FnMut(Told) -> bool,
) -> io::Result<()> {
    while let Some((said, with)) = wire::receive::<Said>(socket)? {
        let heard = match said {
            Said::Marked { failed } => marked.send(failed).is_ok(),
            Said::Asks { question, process } => match with.into_iter().next() {
                Some(file) => told(Told::Asks {
                    question,
                    process,
                    file,
                }),
                None => true,
            },
            Said::Ending => told(Told::Ending),
        };
        if !heard {
            break;
        }
    }
    Ok(())
}
