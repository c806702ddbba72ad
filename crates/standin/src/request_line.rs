//! Makes a request whose address holds a fragment an error.
//!
//! A fragment is the client's own business (RFC 9110 §7.1) and never belongs into a request. The HTTP library drops it
//! silently, and `DELETE /folder/#part` would then remove the folder: so the line is spoilt before the library reads it.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll};

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

/// No request line may hold this byte, and the library says so with 400.
const SPOILT: u8 = 1;

pub(crate) struct RequestLines<S> {
    stream: S,
    /// Whether the next byte that comes in is part of a request line.
    in_line: bool,
}

impl<S> RequestLines<S> {
    pub(crate) fn new(stream: S) -> RequestLines<S> {
        RequestLines {
            stream,
            in_line: true,
        }
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for RequestLines<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        buffer: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let before = buffer.filled().len();
        let polled = Pin::new(&mut self.stream).poll_read(context, buffer);
        for byte in &mut buffer.filled_mut()[before..] {
            if !self.in_line {
                break;
            }
            match byte {
                b'\n' => self.in_line = false,
                b'#' => *byte = SPOILT,
                _ => {}
            }
        }
        polled
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for RequestLines<S> {
    fn poll_write(
        mut self: Pin<&mut Self>,
        context: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        // An answer: what comes in next is another request. After `100 Continue` it is the body of the same one.
        self.in_line = !bytes.starts_with(b"HTTP/1.1 100");
        Pin::new(&mut self.stream).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    #[tokio::test]
    async fn only_request_lines_are_spoilt() {
        let (client, server) = tokio::io::duplex(1024);
        let (mut client, mut server) = (client, RequestLines::new(server));
        let mut said = async |text: &[u8]| {
            client.write_all(text).await.unwrap();
            let mut seen = vec![0; text.len()];
            server.read_exact(&mut seen).await.unwrap();
            if text.ends_with(b"!") {
                server
                    .write_all(b"HTTP/1.1 204 No Content\r\n\r\n")
                    .await
                    .unwrap();
            } else if text.ends_with(b"\r\n\r\n") {
                server
                    .write_all(b"HTTP/1.1 100 Continue\r\n\r\n")
                    .await
                    .unwrap();
            }
            seen
        };
        let spoilt = said(b"DELETE /a/#b HTTP/1.1\r\nx: #\r\n\r\n").await;
        assert_eq!(spoilt, b"DELETE /a/\x01b HTTP/1.1\r\nx: #\r\n\r\n");
        assert_eq!(said(b"# a body #!").await, b"# a body #!");
        assert_eq!(said(b"GET /#").await, b"GET /\x01", "the next request");
    }
}
