//! The engine against the stand-in, with its faults on, and killed at every step.
//!
//! All in one program, since linking each file's own took longer than most of them run.
#![allow(
    clippy::unwrap_used,
    reason = "a test stops where its world cannot be made"
)]

mod heard;
mod local_side;
mod moves;
mod promises;
mod prune;
mod seams;
mod servers;
mod stubs;
mod tokens;
mod two_way;
mod undo;
mod ways;
mod webdav_side;
mod worlds;
