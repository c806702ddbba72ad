//! A file or folder that is open there, and what is asked of it by its handle.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Instant;

use bytes::Bytes;

use super::channel::{Channel, Pending};
use super::client::SftpClient;
use super::far_path::Path;
use super::line::Line;
use super::refusal::{Lost, odd, refused};
use super::wire::{Answer, Ask, Attributes, Packet, Status};
use crate::SideError;
use crate::net::REQUESTS;

/// Where a request goes that belongs to an open file.
#[derive(Clone)]
pub(super) struct Spot {
    pub(super) line: Arc<Line>,
    pub(super) channel: Arc<Channel>,
}

/// An open file or folder; it is closed when it is dropped.
pub(super) struct File {
    pub(super) client: SftpClient,
    pub(super) spot: Spot,
    pub(super) handle: Bytes,
    pub(super) path: Path,
    pub(super) opened: Instant,
    /// Bytes of content that went there, and that came back.
    pub(super) went: AtomicU64,
    pub(super) came: AtomicU64,
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

    pub(super) async fn ask(&self, packet: Packet) -> Result<Answer, Lost> {
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
