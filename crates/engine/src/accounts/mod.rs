//! Accounts: understanding an address, signing in, and looking closely before anything is saved.

pub mod address;
pub mod device_grant;
pub mod find;
pub mod reach;
pub mod tokens;
