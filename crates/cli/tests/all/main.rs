//! The built program, as people use it: in a temporary folder, with what comes back read.
//!
//! All in one program, since linking each file's own took longer than most of them run.
#![allow(
    clippy::unwrap_used,
    reason = "a test stops where its world cannot be made"
)]

mod accounts;
mod agent;
mod answers;
mod being_written;
mod beside;
mod by_hand;
mod choice;
mod clock;
mod cover;
mod damaged;
mod disk_faults;
mod doctor;
mod drives;
mod golden;
mod hand_over;
mod hostile;
mod killed;
mod late;
mod looking;
mod names;
mod names_that_bite;
mod one_way;
mod opener;
mod openings;
mod output;
mod pages;
mod places;
mod probe;
mod proxy;
mod recipes;
mod recover;
mod relocate;
mod report;
mod schema;
mod servers;
mod settle;
mod shared_root;
mod status;
mod stubs;
mod surroundings;
mod ticket;
mod two_accounts;
mod typing;
mod undo;
mod watch;
mod why;
mod worlds;
