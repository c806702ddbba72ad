//! What an account says of itself, whatever is spoken with it.

use katabatic_core::principal::Principal;

/// Something at the top of an account.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Top {
    /// Its name.
    pub name: String,
    /// Whether it is a folder.
    pub folder: bool,
    /// Whether one may write there, where the server says so.
    pub may_write: Option<bool>,
    /// Who owns it, where that is somebody else.
    pub owner: Option<String>,
}

/// What an account says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Survey {
    /// Whose account it is, where the server says so.
    pub principal: Option<Principal>,
    /// Bytes used, where the server says so.
    pub used: Option<u64>,
    /// Bytes free, where the server says so.
    pub free: Option<u64>,
    /// Whether one may write at the top, where the server says so.
    pub may_write: Option<bool>,
    /// What lies at the top, in the order of names; empty where that was not asked.
    pub top: Vec<Top>,
    /// The server's software, as it calls itself.
    pub server: Option<String>,
    /// How far the server's clock is ahead, in nanoseconds, where the server says what it shows.
    pub clock_ahead: Option<i64>,
}
