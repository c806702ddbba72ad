//! The opener: what makes a program that opens a stub wait until the content is here.
//!
//! The system asks before it lets a program open a marked file (fanotify(7)), and asks only whoever may administrate it.
//! So a small part runs with that right and does nothing else: it holds the marks and the questions, and hands each
//! question to the agent of the person whose file it is ([`client`]). It never looks into a file, knows of no lane and
//! no account, and a person can only have their own files marked.
//!
//! - **The whole content at the open.** Questions of single reads come too late for programs that ask a file for its
//!   holes first, as many that copy do.
//! - **Nobody ever reads zeros.** A question that no agent answers, because it has gone or went away in the middle, is
//!   answered with an I/O error. The marks stay where they are without the agent, so that is so for the next reader, too,
//!   and for root.
//! - **Nobody waits for ever.** An agent that hangs gives no sign of life, and then its questions are answered so, too.
//! - **What remains**: where this part itself is killed, the system lets everybody through who waits or comes later. The
//!   agents notice within moments, and take the rights from their stubs; until then a reader gets zeros.

pub mod client;
mod group;
mod missing;
mod serve;
mod wire;

/// An agent says so often that content still comes; of one that says nothing for three times as long, nobody waits for it.
pub const SIGN_OF_LIFE: std::time::Duration = std::time::Duration::from_secs(10);

pub use missing::missing;
pub use serve::{DEFAULT_SOCKET, Opener};
