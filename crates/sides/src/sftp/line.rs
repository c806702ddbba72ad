//! A connection that is signed in over, with the channels that are open in it.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use super::channel::Channel;
use super::refusal::odd;
use super::ssh::SshLine;
use crate::SideError;

/// As many channels are opened at the most.
const CHANNELS: usize = 4;

/// A channel on which so many requests wait gets another one beside it.
const BUSY: usize = 8;

/// So many bytes are asked for or sent at once; every server takes as much (draft-ietf-secsh-filexfer-02 §3).
pub(super) const PIECE: usize = 32 * 1024;

/// And so many where the server says that it takes them.
const LARGEST_PIECE: usize = 128 * 1024;

/// `limits@openssh.com` (OpenSSH's PROTOCOL §4.8).
pub(super) const LIMITS: &str = "limits@openssh.com";

/// A connection that is signed in over.
pub(super) struct Line {
    pub(super) ssh: SshLine,
    pub(super) channels: Mutex<Vec<Arc<Channel>>>,
    /// Held by whoever opens another channel: who comes meanwhile takes one that is there.
    pub(super) opening: tokio::sync::Mutex<()>,
    /// The server opens no more channels, over this connection or another one: some end it where they are asked to.
    pub(super) full: Arc<AtomicBool>,
    /// Nothing is asked over it any more.
    pub(super) given_up: AtomicBool,
    /// Where the account's folder lies, as the server names it.
    pub(super) base: Vec<u8>,
    pub(super) piece: usize,
}

impl Line {
    pub(super) fn is_good(&self) -> bool {
        !self.given_up.load(Ordering::Relaxed)
            && !self.ssh.handle.is_closed()
            && self.channels().iter().all(|channel| !channel.has_ended())
    }

    pub(super) fn channels(&self) -> Vec<Arc<Channel>> {
        self.channels
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .clone()
    }

    /// The channel with the least to do; another one is opened where all have much.
    pub(super) async fn channel(&self) -> Result<Arc<Channel>, SideError> {
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

pub(super) async fn open_channel(ssh: &SshLine) -> Result<Channel, SideError> {
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

/// How many bytes go in a piece by these limits.
pub(super) fn read_piece(fields: &[u8]) -> usize {
    let field = |at: usize| {
        let bytes = fields.get(at * 8..at * 8 + 8)?;
        usize::try_from(u64::from_be_bytes(bytes.try_into().ok()?)).ok()
    };
    // No limit that the server names is 0.
    let most = |at| field(at).filter(|most| *most > 0).unwrap_or(PIECE);
    most(1).min(most(2)).clamp(PIECE, LARGEST_PIECE)
}

#[cfg(test)]
mod tests {
    use super::*;

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
}
