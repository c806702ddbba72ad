//! The commands, one a file.

pub mod account;
pub mod conflicts;
pub mod demo;
pub mod lane;
pub mod list;
pub mod plan;
pub mod runs;
pub mod settle;
pub mod sizes;
pub mod spares;
pub mod standin;
pub mod status;
pub mod sync;
