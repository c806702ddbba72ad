//! A small simulated cloud for the demo, the tests and the training room.
//!
//! It is a real HTTP server that speaks WebDAV (RFC 4918), and keeps each user's files plainly in a folder, so that
//! anybody can look at what is "in the cloud" with a file manager. Its other half are its faults: asked for one by
//! one, drawn from a seed, and changeable while it runs. Whatever real servers were seen doing wrong, this one can do
//! on demand, so that the tool can be tried against it.
#![forbid(unsafe_code)]

mod births;
mod changes;
mod cloud;
mod conditions;
mod contrary;
mod control;
mod device_grant;
mod digests;
mod faults;
mod habits;
mod if_header;
mod listing;
mod locks;
mod methods;
mod multistatus;
mod one_time_code;
mod pages;
mod people;
mod properties;
mod quota;
mod random;
mod request_line;
mod serve;
mod sign_in;
mod sign_in_pages;
mod store;
mod tls;
mod xml_names;

pub use device_grant::GrantConfig;
pub use faults::{FAULTS, Fault, FaultError, Faults, habits};
pub use people::{Group, PeopleError, Share, User};
pub use serve::{Config, Running, StandinError, start};
