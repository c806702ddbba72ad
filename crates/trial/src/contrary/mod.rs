//! The contrary server: a day's work of a lane against a real server over HTTP that has, of all the habits that servers
//! were seen to have or that the standards allow, some drawn by lot.
//!
//! After each part of the day both sides must be equal but for what is told as stuck, every version that anybody wrote must
//! be somewhere, and a second pass must have nothing to do. Where a draw makes carrying impossible, the message must say
//! so. A draw is known by its number; one that fails is made smaller, to the fewest habits with which it still does.

mod day;
mod desk;
mod draw;

pub use day::{Lived, live};
pub use draw::{Draw, shrink};
