//! The opener: what makes a program that opens a stub wait until the content is here.
//!
//! The system asks before it lets a program open a marked file (fanotify(7)), and asks only whoever may administrate it.
//! So a small part runs with that right and does nothing else: it holds the marks and the questions, and hands each
//! question to an agent of the person whose file it is ([`client`]). It never looks into a file, knows of no lane and
//! no account, and trusts nobody who connects.
//!
//! - **A descriptor goes to the owner of that very file only.** Whose a file is is looked at before it is marked, and
//!   again right before its descriptor is sent. No table says it: who marked a file once has no right to it for that.
//! - **The whole content at the open.** Questions of single reads come too late for programs that ask a file for its
//!   holes first, as many that copy do.
//! - **Nobody ever reads zeros.** A program is let in only to a file without the label of a stub. A question that no agent
//!   answers is answered with an I/O error. The marks stay where they are without the agent, so that is so for the next
//!   reader, too, and for root.
//! - **Nobody waits for ever** ([`questions`]): content has to come in, block by block, and root and the system's own
//!   services are never held for more than a few seconds by somebody else's agent.
//! - **Nobody holds up anybody else.** Nothing is sent under a lock and nothing sent waits; what one person may have of
//!   connections, questions and marks has a limit; what may take long happens in the thread of the connection.
//! - **Where it is killed**, systemd keeps the group with the marks, and the next start answers what was open. Without
//!   systemd the system lets everybody through until the agents have taken the rights from their stubs, which they do
//!   within moments; until then a reader gets zeros.

pub mod client;
mod group;
mod keeper;
pub mod questions;
mod serve;
mod socket;
mod waiter;
mod wire;

pub use keeper::Kept;
pub use serve::{Error, Opener};

/// Where agents find it.
pub const DEFAULT_SOCKET: &str = "/run/katabatic/opener.sock";

/// A file with this attribute is a stub, or one whose content still comes: nobody is let in to it.
pub const STUB_LABEL: &str = "user.katabatic.stub";

/// What a program of ours calls itself to the system. It is let in to stubs at once, since it reads nothing of one. Who
/// calls another program so has it read zeros, and gains nothing.
pub const PROGRAM: &str = "katabatic";
