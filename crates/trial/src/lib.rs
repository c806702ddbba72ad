//! Trial by simulation: passes of the engine as it is, against a disk, a cloud and a clock that a seed drives.
//!
//! What the promises are worth is not shown by examples that somebody thought of. Here people and other computers
//! write, rename and remove on both sides at any moment, also between any two steps of a pass; lines break, answers get
//! lost, listings are short, tags say little, disks run full; and the process dies anywhere and comes back. After each
//! world has settled, every version that anybody wrote must be on a side or in the spares, unless the person who wrote
//! over it destroyed its last copy; both sides must be equal but for what waits for a person; and a second pass must
//! have nothing to do.
//!
//! The seam is the engine's own trait of a side: [`side`] has one in memory, and everything above it is the code of
//! the program. A world is a [`script`] of a few dozen acts made from one number; a script that fails is made smaller by
//! leaving acts out, and what is left runs exactly the same again.
#![forbid(unsafe_code)]

pub mod contrary;
pub mod fate;
pub mod mischief;
pub mod script;
pub mod shared;
pub mod side;
pub mod tally;
pub mod trial;
pub mod world;
