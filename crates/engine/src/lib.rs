//! Does what the core decided: sides, the ledger, passes, spares.
//!
//! The heart is [`pass`], which reads as its four rooms: scan, plan, carry, record. Everything that touches a file on
//! either side goes through the [`sides::SideStore`] trait, and everything that replaces or removes one goes through
//! one primitive: capture, check, place, verify.
#![forbid(unsafe_code)]

pub mod account_book;
pub mod accounts;
pub mod agent;
pub mod answer;
pub mod audit;
pub mod certificate;
pub mod choose;
pub mod clock;
pub mod config;
pub mod cover;
pub mod desktop_trash;
pub mod differ;
pub mod doctor;
pub mod drives;
pub mod effort;
pub mod error;
pub mod failed_pass;
pub mod findings;
pub mod forget_runs;
#[cfg(test)]
mod fuzz;
pub mod hand;
pub mod home;
pub mod known_root;
pub mod lanes;
pub mod ledger;
pub mod local_time;
pub mod lock;
pub mod net;
pub mod open;
pub mod overlap;
pub mod partial;
pub mod pass;
pub mod place;
pub mod places;
pub mod principal;
pub mod private_files;
pub mod progress;
pub mod proof;
pub mod prune;
pub mod recover;
pub mod relocate;
mod rights;
pub mod room;
pub mod seam;
pub mod secret;
pub mod secrets;
pub mod self_opening;
pub mod session;
pub mod settle;
pub mod side_error;
pub mod sides;
pub mod space;
pub mod spares;
pub mod standing;
pub mod stop;
pub mod sweep;
pub mod undo;
pub mod why;

pub use error::{Class, Error};
pub use home::Home;
