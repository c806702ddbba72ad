//! Parsers meet what nobody meant to write: each has a target in the tests beside it, and a corpus in `corpus`.
//!
//! What is known to be right is bent in small and large ways, from a seed. An ordinary run of the tests bends each corpus
//! a few thousand times; `KATABATIC_FUZZ=1000000 cargo test --release --workspace --lib fuzz` does it for longer.

#![forbid(unsafe_code)]

use std::fs;
use std::path::Path;

/// As often a target runs in an ordinary run of the tests.
const USUAL: u64 = 3_000;

/// Pieces that parsers trip over.
const PIECES: [&[u8]; 24] = [
    b"..",
    b"/",
    b"//",
    b"%2f",
    b"%00",
    b"%",
    b"\0",
    b"\xff",
    b"\"",
    b"'",
    b"\\",
    b"<",
    b"</",
    b">",
    b"&",
    b"&#0;",
    b"<!--",
    b"]]>",
    b"18446744073709551616",
    b"-1",
    b"1e999",
    b"[",
    b"{",
    "\u{202e}\u{301}".as_bytes(),
];

struct Dice(u64);

impl Dice {
    fn below(&mut self, most: usize) -> usize {
        self.0 = self
            .0
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) as usize % most.max(1)
    }
}

/// Runs a target on its corpus, as it is and bent.
pub fn each(target: &str, mut run: impl FnMut(&[u8])) {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR"))
        .join("corpus")
        .join(target);
    let mut files: Vec<_> = fs::read_dir(folder)
        .expect("every target has a corpus")
        .map(|entry| entry.expect("it can be listed").path())
        .collect();
    files.sort();
    let corpus: Vec<Vec<u8>> = files
        .iter()
        .map(|file| fs::read(file).expect("it can be read"))
        .collect();
    assert!(!corpus.is_empty(), "the corpus of {target} is empty");
    corpus.iter().for_each(|text| run(text));
    let said = std::env::var("KATABATIC_FUZZ").ok();
    let runs = said.and_then(|text| text.parse().ok()).unwrap_or(USUAL);
    let mut dice = Dice(runs);
    for _ in 0..runs {
        let mut text = corpus[dice.below(corpus.len())].clone();
        for _ in 0..=dice.below(6) {
            bend(&mut text, &corpus, &mut dice);
        }
        run(&text);
    }
}

/// The same as text, where the target takes nothing else.
pub fn each_text(target: &str, mut run: impl FnMut(&str)) {
    each(target, |bytes| run(&String::from_utf8_lossy(bytes)));
}

fn bend(text: &mut Vec<u8>, corpus: &[Vec<u8>], dice: &mut Dice) {
    let at = dice.below(text.len() + 1);
    let end = (at + dice.below(24)).min(text.len());
    match dice.below(7) {
        0 if at < text.len() => text[at] ^= 1 << dice.below(8),
        1 => drop(text.splice(at..at, PIECES[dice.below(PIECES.len())].iter().copied())),
        2 => drop(text.drain(at..end)),
        3 => {
            let again: Vec<u8> = text[at..end].repeat(1 + dice.below(40));
            drop(text.splice(at..at, again));
        }
        4 => {
            let other = &corpus[dice.below(corpus.len())];
            let from = dice.below(other.len() + 1);
            text.truncate(at);
            text.extend_from_slice(&other[from..]);
        }
        5 => text.truncate(at),
        _ => drop(text.splice(at..end, PIECES[dice.below(PIECES.len())].iter().copied())),
    }
    text.truncate(64 * 1024);
}
