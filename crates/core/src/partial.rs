//! How far a large file came that was cut.

use crate::Digest;

/// How far a large file was staged.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Partial {
    /// Its name in the side's staging.
    pub slot: String,
    /// Bytes that lie there for sure.
    pub done: u64,
    /// Their BLAKE3.
    pub prefix: Digest,
}
