//! Does what the core decided: passes, spares, what is done by hand.
//!
//! The heart is [`pass`], which reads as its four rooms: scan, plan, carry, record. Everything that touches a file on
//! either side goes through the [`katabatic_sides::SideStore`] trait, and everything that replaces or removes one goes through
//! one primitive: capture, check, place, verify.
#![forbid(unsafe_code)]

pub mod account_book;
pub mod accounts;
pub mod answer;
pub mod audit;
pub mod choose;
pub mod config;
pub mod cover;
pub mod desktop_trash;
pub mod differ;
pub mod doctor;
pub mod drives;
pub mod failed_pass;
pub mod forecast;
pub mod forget_runs;
pub mod hand;
pub mod hand_over;
pub mod home;
mod keep_beside;
pub mod lanes;
pub mod local_time;
pub mod lock;
pub mod names;
pub mod open;
pub mod overlap;
pub mod pass;
pub mod places;
pub mod progress;
pub mod proof;
pub mod prune;
pub mod recover;
pub mod relocate;
mod rights;
pub mod room;
pub mod room_there;
pub mod seam;
pub mod secrets;
pub mod self_opening;
pub mod session;
pub mod settle;
pub mod space;
pub mod spares;
pub mod standing;
pub mod sweep;
pub mod undo;
pub mod versions;
pub mod why;

pub use home::Home;
pub use katabatic_core::{Class, Error};
