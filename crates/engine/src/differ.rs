//! How two versions of one file differ, in what a person can tell them apart by: lines of a text, the size of a picture
//! in pixels, or where and how much of anything else.

use std::time::Duration;

use bytes::{Buf, Bytes};
use futures_util::StreamExt;
use katabatic_core::{Entry, Kind, RelPath, Side};
use similar::{Algorithm, TextDiff};

use crate::pass::Pass;
use katabatic_sides::Content;

/// Texts up to this many bytes are compared line by line.
const READABLE: u64 = 1 << 20;

/// Anything up to this many bytes is compared byte by byte; more would keep a person waiting for too long.
const COMPARABLE: u64 = 64 << 20;

/// A picture tells its size within so many bytes.
const HEAD: usize = 256 << 10;

/// After this long, the shortest way from one text to the other is no longer looked for.
const PATIENCE: Duration = Duration::from_secs(2);

/// Lines around a change that are shown with it.
const CONTEXT: usize = 2;

/// Width and height, in pixels.
pub type Pixels = (usize, usize);

/// How two versions differ.
#[derive(Clone, Debug, PartialEq)]
pub enum Difference {
    /// Both are texts.
    Text {
        /// The first line that differs, from 1.
        line: usize,
        /// That line here.
        near: String,
        /// That line there.
        far: String,
        /// All changes as a unified diff, from the near version to the far one.
        unified: String,
    },
    /// At least one is no text, or both are long.
    Bytes {
        /// The first byte that differs, from 0.
        first: u64,
        /// Bytes that are equal at the same place.
        same: u64,
        /// Bytes of the longer version.
        of: u64,
        /// The near version's size as a picture, where it is one.
        near_pixels: Option<Pixels>,
        /// The far version's.
        far_pixels: Option<Pixels>,
    },
}

/// Reads both versions and tells how they differ; none where they cannot be read, are too long, or are equal.
pub async fn differ(pass: &Pass, path: &RelPath, near: &Entry, far: &Entry) -> Option<Difference> {
    let longest = near.size.max(far.size);
    if near.kind != Kind::File || far.kind != Kind::File || longest > COMPARABLE {
        return None;
    }
    if longest <= READABLE
        && let (Some(near), Some(far)) = (
            text(pass, Side::Near, path, near).await,
            text(pass, Side::Far, path, far).await,
        )
    {
        return between_texts(&near, &far);
    }
    let near = pass.store(Side::Near).read(path, near).await.ok()?;
    let far = pass.store(Side::Far).read(path, far).await.ok()?;
    between_bytes(near.content, far.content).await
}

async fn text(pass: &Pass, side: Side, path: &RelPath, seen: &Entry) -> Option<String> {
    let mut source = pass.store(side).read(path, seen).await.ok()?;
    let mut whole = Vec::new();
    while let Some(chunk) = source.content.next().await {
        whole.extend_from_slice(&chunk.ok()?);
    }
    String::from_utf8(whole)
        .ok()
        .filter(|text| !text.contains('\0'))
}

fn between_texts(near: &str, far: &str) -> Option<Difference> {
    let mut lines = near.lines().zip(far.lines());
    let shorter = near.lines().count().min(far.lines().count());
    let line = lines.position(|(near, far)| near != far).unwrap_or(shorter) + 1;
    if near == far {
        return None;
    }
    let shown = |text: &str| {
        text.lines()
            .nth(line - 1)
            .unwrap_or("(the text ends here)")
            .to_owned()
    };
    let unified = TextDiff::configure()
        .algorithm(Algorithm::Myers)
        .timeout(PATIENCE)
        .diff_lines(near, far)
        .unified_diff()
        .context_radius(CONTEXT)
        .header("near", "far")
        .to_string();
    Some(Difference::Text {
        line,
        near: shown(near),
        far: shown(far),
        unified,
    })
}

/// One version as it comes in.
struct Reading {
    content: Content,
    arrived: Bytes,
    head: Vec<u8>,
    ended: bool,
}

impl Reading {
    fn new(content: Content) -> Reading {
        Reading {
            content,
            arrived: Bytes::new(),
            head: Vec::new(),
            ended: false,
        }
    }

    /// Makes sure that something is there, unless all has been.
    async fn fill(&mut self) -> Option<()> {
        while self.arrived.is_empty() && !self.ended {
            match self.content.next().await {
                None => self.ended = true,
                Some(chunk) => {
                    self.arrived = chunk.ok()?;
                    let room = HEAD.saturating_sub(self.head.len());
                    let more = &self.arrived[..self.arrived.len().min(room)];
                    self.head.extend_from_slice(more);
                }
            }
        }
        Some(())
    }

    fn pixels(&self) -> Option<Pixels> {
        let size = imagesize::blob_size(&self.head).ok()?;
        Some((size.width, size.height))
    }
}

async fn between_bytes(near: Content, far: Content) -> Option<Difference> {
    let (mut near, mut far) = (Reading::new(near), Reading::new(far));
    let (mut at, mut same, mut first) = (0, 0, None);
    loop {
        near.fill().await?;
        far.fill().await?;
        let both = near.arrived.len().min(far.arrived.len());
        if both == 0 {
            break;
        }
        let pairs = near.arrived[..both].iter().zip(&far.arrived[..both]);
        for (number, (near, far)) in pairs.enumerate() {
            match near == far {
                true => same += 1,
                false => {
                    first.get_or_insert(at + number as u64);
                }
            }
        }
        at += both as u64;
        near.arrived.advance(both);
        far.arrived.advance(both);
    }
    // One of them may go on where the other has ended.
    let mut of = at;
    for longer in [&mut near, &mut far] {
        loop {
            longer.fill().await?;
            if longer.arrived.is_empty() {
                break;
            }
            first.get_or_insert(at);
            of += longer.arrived.len() as u64;
            longer.arrived.clear();
        }
    }
    Some(Difference::Bytes {
        first: first?,
        same,
        of,
        near_pixels: near.pixels(),
        far_pixels: far.pixels(),
    })
}

#[cfg(test)]
mod tests {
    use futures_util::stream;

    use super::*;

    fn content(parts: &[&'static [u8]]) -> Content {
        let parts: Vec<_> = parts
            .iter()
            .map(|part| Ok(Bytes::from_static(part)))
            .collect();
        stream::iter(parts).boxed()
    }

    #[test]
    fn texts_differ_by_lines() {
        let Some(Difference::Text {
            line,
            near,
            far,
            unified,
        }) = between_texts("a\nb\nc\n", "a\nB\nc\nd\n")
        else {
            panic!("they differ");
        };
        assert_eq!((line, near.as_str(), far.as_str()), (2, "b", "B"));
        assert!(unified.contains("--- near\n+++ far\n"), "{unified}");
        assert!(unified.contains("-b\n+B\n"), "{unified}");
        assert_eq!(between_texts("a\n", "a\n"), None);
        let longer = between_texts("a\n", "a\nb\n");
        assert!(matches!(longer, Some(Difference::Text { line: 2, .. })));
        // Only the line's end differs.
        assert!(between_texts("a", "a\n").is_some());
    }

    #[tokio::test]
    async fn bytes_differ_by_place_and_share_however_they_come_in() {
        let near = content(&[b"abc", b"def", b"g"]);
        let far = content(&[b"ab", b"", b"XdefgHI"]);
        let difference = between_bytes(near, far).await;
        let wanted = Difference::Bytes {
            first: 2,
            same: 6,
            of: 9,
            near_pixels: None,
            far_pixels: None,
        };
        assert_eq!(difference, Some(wanted));
        let (one, other) = (content(&[b"abc"]), content(&[b"a", b"bc"]));
        assert_eq!(between_bytes(one, other).await, None);
    }

    #[tokio::test]
    async fn pictures_tell_their_size() {
        // A GIF of 3 by 2 pixels, and one of 4 by 2.
        let near = content(&[b"GIF89a\x03\x00\x02\x00\x00\x00\x00"]);
        let far = content(&[b"GIF89a\x04\x00\x02\x00\x00\x00\x00"]);
        let difference = between_bytes(near, far).await;
        assert!(
            matches!(
                difference,
                Some(Difference::Bytes {
                    first: 6,
                    near_pixels: Some((3, 2)),
                    far_pixels: Some((4, 2)),
                    ..
                })
            ),
            "{difference:?}"
        );
    }
}
