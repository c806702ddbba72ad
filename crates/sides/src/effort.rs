//! How much is tried at once, and how often: the same for all that carries, reads or looks.

/// So many files are on their way at once, where nobody says otherwise.
pub const IN_FLIGHT: usize = 8;

/// So often is tried what a cut line or a busy server may have spoilt.
pub const ATTEMPTS: u32 = 4;
