//! The seeded randomness behind the faults: the same seed gives the same faults again.

/// A xorshift generator; good enough to choose victims, and the same everywhere.
#[derive(Debug)]
pub(crate) struct Random(u64);

impl Random {
    pub(crate) fn new(seed: u64) -> Random {
        // Zero is the one state that xorshift never leaves.
        Random(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1)
    }

    pub(crate) fn next(&mut self) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0
    }

    /// Whether an event of this probability (0 to 1) happens now.
    pub(crate) fn happens(&mut self, probability: f64) -> bool {
        let draw = (self.next() >> 11) as f64 / (1u64 << 53) as f64;
        draw < probability
    }
}
