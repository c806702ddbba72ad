//! The commands, one a file.

pub mod account;
pub mod audit;
pub mod by_hand;
pub mod choose;
pub mod conflicts;
pub mod copy;
pub mod cover;
pub mod demo;
pub mod doctor;
pub mod lane;
pub mod list;
pub mod make_folder;
pub mod move_place;
pub mod plan;
pub mod prune;
pub mod recover;
pub mod remove_place;
pub mod runs;
pub mod settle;
pub mod sizes;
pub mod spares;
pub mod standin;
pub mod status;
pub mod sync;
pub mod undo;
pub mod why;
