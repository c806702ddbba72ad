//! One SFTP channel: packets out, packets in, and who waits for which.
//!
//! Many requests are on their way at once, each known by its number. A channel that ends leaves all of them without an
//! answer, and nobody knows which of them were still done.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use bytes::{Bytes, BytesMut};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::sync::{mpsc, oneshot};

use super::wire::{self, Answer, Packet};

/// So many packets wait to be sent; whoever has more waits, too.
const QUEUE: usize = 64;

/// Small packets go together up to this size.
const TOGETHER: usize = 32 * 1024;

/// One channel of a connection.
pub(super) struct Channel {
    out: mpsc::Sender<Bytes>,
    waiting: Arc<Mutex<Waiting>>,
    /// What the server can do beyond version 3, by name.
    pub(super) extensions: Vec<(String, Bytes)>,
}

#[derive(Default)]
struct Waiting {
    ended: bool,
    last: u32,
    answers: HashMap<u32, oneshot::Sender<Answer>>,
}

/// A request that was handed over, and has no answer yet.
pub(super) type Pending = oneshot::Receiver<Answer>;

/// The channel had ended before a request was handed over.
#[derive(Clone, Copy, Debug)]
pub(super) struct NotSent;

fn locked(waiting: &Mutex<Waiting>) -> MutexGuard<'_, Waiting> {
    waiting.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Channel {
    /// Begins to speak over a stream of bytes (§4).
    ///
    /// # Errors
    /// What answers does not speak SFTP, or not this version, or was cut.
    pub(super) async fn begin(
        stream: impl AsyncRead + AsyncWrite + Send + 'static,
    ) -> Result<Channel, String> {
        let (mut from, mut to) = tokio::io::split(stream);
        to.write_all(&Packet::first())
            .await
            .map_err(|why| why.to_string())?;
        let first = next_packet(&mut from)
            .await
            .ok_or("it ended the channel at once; is SFTP allowed there?")?;
        let (version, extensions) = wire::read_first(first).map_err(|why| why.to_string())?;
        if version < wire::VERSION {
            return Err(format!("it speaks version {version} of SFTP, and not 3"));
        }
        let waiting = Arc::new(Mutex::new(Waiting::default()));
        let (out, mut queue) = mpsc::channel::<Bytes>(QUEUE);
        tokio::spawn(async move {
            while let Some(first) = queue.recv().await {
                let mut together = BytesMut::from(&first[..]);
                while together.len() < TOGETHER
                    && let Ok(next) = queue.try_recv()
                {
                    together.extend_from_slice(&next);
                }
                if to.write_all(&together).await.is_err() {
                    break;
                }
            }
            // Whoever reads the other half learns that nothing more comes.
            let _ = to.shutdown().await;
        });
        let answers = Arc::clone(&waiting);
        tokio::spawn(async move {
            while let Some(packet) = next_packet(&mut from).await {
                let Ok((number, answer)) = wire::read_answer(packet) else {
                    break;
                };
                let waits = locked(&answers).answers.remove(&number);
                if let Some(waits) = waits {
                    // Who gave up waiting has no use for it.
                    let _ = waits.send(answer);
                }
            }
            let mut answers = locked(&answers);
            answers.ended = true;
            answers.answers.clear();
        });
        Ok(Channel {
            out,
            waiting,
            extensions,
        })
    }

    /// Hands a request over; its answer can be waited for.
    pub(super) async fn send(&self, packet: Packet) -> Result<Pending, NotSent> {
        let (answers, pending) = oneshot::channel();
        let number = {
            let mut waiting = locked(&self.waiting);
            if waiting.ended {
                return Err(NotSent);
            }
            waiting.last = waiting.last.wrapping_add(1);
            let number = waiting.last;
            waiting.answers.insert(number, answers);
            number
        };
        match self.out.send(packet.numbered(number)).await {
            Ok(()) => Ok(pending),
            Err(_) => {
                locked(&self.waiting).answers.remove(&number);
                Err(NotSent)
            }
        }
    }

    /// Sends what nobody waits for, where there is room for it now.
    pub(super) fn send_and_forget(&self, packet: Packet) {
        let number = {
            let mut waiting = locked(&self.waiting);
            waiting.last = waiting.last.wrapping_add(1);
            waiting.last
        };
        let _ = self.out.try_send(packet.numbered(number));
    }

    pub(super) fn has_ended(&self) -> bool {
        locked(&self.waiting).ended || self.out.is_closed()
    }

    /// How many requests wait for an answer.
    pub(super) fn waits(&self) -> usize {
        locked(&self.waiting).answers.len()
    }
}

/// The next packet without its length; none where the stream ended, or holds none.
async fn next_packet(from: &mut (impl AsyncRead + Unpin)) -> Option<Bytes> {
    let length = from.read_u32().await.ok()? as usize;
    if length == 0 || length > wire::LONGEST {
        return None;
    }
    let mut packet = vec![0; length];
    from.read_exact(&mut packet).await.ok()?;
    Some(packet.into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use wire::{Ask, Status};

    async fn says(server: &mut (impl AsyncWrite + Unpin), packet: &[u8]) {
        server.write_u32(packet.len() as u32).await.unwrap();
        server.write_all(packet).await.unwrap();
    }

    #[tokio::test]
    async fn answers_come_to_whoever_asked_and_an_end_leaves_nobody_waiting() {
        let (ours, mut server) = tokio::io::duplex(4096);
        let begun = tokio::spawn(Channel::begin(ours));
        assert_eq!(
            next_packet(&mut server).await.unwrap()[..],
            *b"\x01\0\0\0\x03"
        );
        says(&mut server, b"\x02\0\0\0\x03\0\0\0\x01x\0\0\0\x011").await;
        let channel = begun.await.unwrap().unwrap();
        assert_eq!(channel.extensions[0].0, "x");
        let ask = |name: &str| channel.send(Packet::new(Ask::LinkStat).text(name.as_bytes()));
        let (first, second) = (ask("a").await.unwrap(), ask("b").await.unwrap());
        let third = ask("c").await.unwrap();
        // The second is answered before the first.
        says(&mut server, b"\x65\0\0\0\x02\0\0\0\x02").await;
        says(&mut server, b"\x65\0\0\0\x01\0\0\0\x03").await;
        let status = |answer| match answer {
            Answer::Status(status, _) => status,
            other => panic!("{other:?}"),
        };
        assert_eq!(status(second.await.unwrap()), Status::NoSuchFile);
        assert_eq!(status(first.await.unwrap()), Status::NotAllowed);
        drop(server);
        assert!(third.await.is_err());
        assert!(channel.has_ended());
        assert!(ask("d").await.is_err());
    }

    #[tokio::test]
    async fn what_does_not_speak_it_is_told() {
        for (said, why) in [
            (&b"\x02\0\0\0\x02"[..], "version 2"),
            (b"\x63nonsense", "no SFTP"),
        ] {
            let (ours, mut server) = tokio::io::duplex(4096);
            says(&mut server, said).await;
            let error = Channel::begin(ours).await.err().unwrap();
            assert!(error.contains(why), "{error}");
        }
    }
}
