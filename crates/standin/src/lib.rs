//! A small simulated cloud for the demo, the tests and the training room.
//!
//! It is a real HTTP server that speaks WebDAV (RFC 4918), and keeps each user's files plainly in a folder, so that
//! anybody can look at what is "in the cloud" with a file manager. Its other half are its faults: asked for one by
//! one, drawn from a seed, and changeable while it runs. Whatever real servers were seen doing wrong, this one can do
//! on demand, so that the tool can be tried against it.
#![forbid(unsafe_code)]

mod conditions;
mod faults;
mod listing;
mod methods;
mod multistatus;
mod random;
mod serve;
mod sign_in;
mod store;

pub use faults::{Fault, FaultError, Faults};
pub use serve::{Config, Running, StandinError, start};
pub use sign_in::{User, UserError};
