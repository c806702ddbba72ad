//! Which parts of a large file a new version changes: hashes of blocks of the last version, beside those of the new.
//!
//! Blocks lie at fixed places, because a server can only be told to write bytes at a place: it has no way to shift
//! what lies behind an insertion. So what was changed in place, or added at the end, costs its own blocks; a byte put
//! in at the front changes every block behind it, and then the whole file is carried.

/// In what pieces large files are looked at and carried, in bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Grain {
    /// A block; the last one of a file may be shorter.
    pub block: u64,
    /// Files below this are always carried whole.
    pub worth_patching: u64,
    /// What has arrived of a larger file than this is kept in steps, whatever happens to the rest; a multiple of a block.
    pub step: u64,
}

impl Grain {
    /// What all sides take. A trial takes a smaller one, so that its small files are large.
    pub const USUAL: Grain = Grain {
        block: BLOCK,
        worth_patching: 8 * 1024 * 1024,
        step: 16 * 1024 * 1024,
    };
}

const BLOCK: u64 = 128 * 1024;

/// Some bytes of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stretch {
    /// The first byte.
    pub from: u64,
    /// Bytes; at least one.
    pub length: u64,
}

/// The BLAKE3 of each block of a version, in order.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Blocks(Vec<[u8; 32]>);

impl Blocks {
    /// One after another, 32 bytes each.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        self.0.concat()
    }

    /// What [`Blocks::to_bytes`] gave; none where the length is odd.
    #[must_use]
    pub fn from_bytes(bytes: &[u8]) -> Option<Blocks> {
        let hashes = bytes.chunks(32).map(|hash| hash.try_into().ok());
        hashes.collect::<Option<Vec<_>>>().map(Blocks)
    }

    /// The hashes of the blocks of a stretch that begins where a block does; blocks are of so many bytes.
    #[must_use]
    pub fn of(&self, stretch: Stretch, block: u64) -> Blocks {
        let first = (stretch.from / block) as usize;
        let count = stretch.length.div_ceil(block) as usize;
        let end = (first + count).min(self.0.len());
        Blocks(self.0.get(first..end).unwrap_or_default().to_vec())
    }

    /// The whole blocks that are the same in a new version, in order, by number.
    #[must_use]
    pub fn kept(&self, new: &Blocks, size: u64, block: u64) -> Vec<u64> {
        let whole = (size / block) as usize;
        let both = self.0.iter().zip(&new.0).take(whole).enumerate();
        both.filter(|(_, (old, new))| old == new)
            .map(|(number, _)| number as u64)
            .collect()
    }

    /// What a new version of `size` bytes changes in the one with these blocks, in order; neighbours are joined, up to
    /// a step.
    #[must_use]
    pub fn changes(&self, new: &Blocks, size: u64, grain: Grain) -> Vec<Stretch> {
        let mut stretches: Vec<Stretch> = Vec::new();
        for (number, hash) in new.0.iter().enumerate() {
            if self.0.get(number) == Some(hash) {
                continue;
            }
            let from = number as u64 * grain.block;
            let length = grain.block.min(size.saturating_sub(from));
            match stretches.last_mut() {
                Some(last) if last.from + last.length == from && last.length < grain.step => {
                    last.length += length;
                }
                _ => stretches.push(Stretch { from, length }),
            }
        }
        stretches
    }
}

/// Hashes a version block by block as it goes by.
pub struct BlockHasher {
    block: u64,
    done: Vec<[u8; 32]>,
    open: blake3::Hasher,
    in_open: u64,
}

impl BlockHasher {
    /// With blocks of so many bytes.
    #[must_use]
    pub fn new(block: u64) -> BlockHasher {
        BlockHasher {
            block,
            done: Vec::new(),
            open: blake3::Hasher::new(),
            in_open: 0,
        }
    }

    /// Takes the next bytes.
    pub fn update(&mut self, mut bytes: &[u8]) {
        while !bytes.is_empty() {
            let room = (self.block - self.in_open).min(bytes.len() as u64) as usize;
            let (now, later) = bytes.split_at(room);
            self.open.update(now);
            self.in_open += room as u64;
            if self.in_open == self.block {
                self.close();
            }
            bytes = later;
        }
    }

    fn close(&mut self) {
        self.done.push(*self.open.finalize().as_bytes());
        self.open.reset();
        self.in_open = 0;
    }

    /// The blocks of all that went by; what comes then is another version.
    #[must_use]
    pub fn take(&mut self) -> Blocks {
        if self.in_open > 0 {
            self.close();
        }
        Blocks(std::mem::take(&mut self.done))
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn blocks(content: &[u8], pieces: usize) -> Blocks {
        let mut hasher = BlockHasher::new(BLOCK);
        for piece in content.chunks(pieces) {
            hasher.update(piece);
        }
        hasher.take()
    }

    fn up_to(step: u64) -> Grain {
        Grain {
            step,
            ..Grain::USUAL
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        /// The old version with the changes written into it is the new version.
        #[test]
        fn a_patched_version_is_the_new_one(
            length in 0..6 * BLOCK as usize,
            grown in 0..2 * BLOCK as usize,
            edits in prop::collection::vec((0..6 * BLOCK as usize, 1..5000usize), 0..4),
            longest in 1..4u64,
        ) {
            let old: Vec<u8> = (0..length).map(|at| (at * 31 / 7) as u8).collect();
            let mut new = old.clone();
            new.extend((0..grown).map(|at| at as u8));
            for (at, count) in edits {
                for byte in new.iter_mut().skip(at).take(count) {
                    *byte ^= 0x55;
                }
            }
            let (before, after) = (blocks(&old, 70_000), blocks(&new, 4096));
            prop_assert_eq!(Blocks::from_bytes(&after.to_bytes()), Some(after.clone()));
            let mut left = old.clone();
            for number in before.kept(&after, length.min(new.len()) as u64, BLOCK) {
                let block = (number * BLOCK) as usize..((number + 1) * BLOCK) as usize;
                prop_assert_eq!(&left[block.clone()], &new[block.clone()]);
                left[block].fill(0);
            }
            let mut patched = old;
            patched.resize(new.len(), 0);
            for Stretch { from, length } in before.changes(&after, new.len() as u64, up_to(longest * BLOCK)) {
                let stretch = from as usize..(from + length) as usize;
                prop_assert_eq!(
                    after.of(Stretch { from, length }, BLOCK),
                    blocks(&new[stretch.clone()], 1000)
                );
                patched[stretch.clone()].copy_from_slice(&new[stretch]);
            }
            prop_assert!(patched == new);
        }
    }

    #[test]
    fn what_did_not_change_costs_nothing_and_an_insertion_costs_all_behind_it() {
        let old: Vec<u8> = (0..10 * BLOCK).map(|at| (at / 3) as u8).collect();
        let before = blocks(&old, 1 << 16);
        assert!(before.changes(&before, 10 * BLOCK, up_to(BLOCK)).is_empty());
        let mut edited = old.clone();
        edited[5 * BLOCK as usize] ^= 1;
        let changes = before.changes(&blocks(&edited, 1 << 16), 10 * BLOCK, up_to(BLOCK));
        assert_eq!(
            changes,
            [Stretch {
                from: 5 * BLOCK,
                length: BLOCK
            }]
        );
        let mut shifted = vec![0xAA];
        shifted.extend(&old);
        let changes = before.changes(
            &blocks(&shifted, 1 << 16),
            10 * BLOCK + 1,
            up_to(64 * BLOCK),
        );
        assert_eq!(
            changes,
            [Stretch {
                from: 0,
                length: 10 * BLOCK + 1
            }]
        );
    }
}
