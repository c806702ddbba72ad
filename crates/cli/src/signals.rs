//! The signals that ask this program to end: Ctrl-C, a terminal that is closed, a service manager or `kill`.

use tokio::signal::unix::{Signal, SignalKind, signal};

/// Listens for all of them.
pub struct Signals {
    interrupt: Signal,
    terminate: Signal,
    hang_up: Option<Signal>,
}

impl Signals {
    /// Begins to listen; from now on none of them ends the program by itself.
    ///
    /// # Errors
    ///
    /// Where the system gives no way to listen.
    pub fn listen() -> std::io::Result<Signals> {
        Ok(Signals {
            interrupt: signal(SignalKind::interrupt())?,
            terminate: signal(SignalKind::terminate())?,
            hang_up: match hang_up_is_ignored() {
                true => None,
                false => Some(signal(SignalKind::hangup())?),
            },
        })
    }

    /// Waits for the next of them.
    pub async fn next(&mut self) {
        let hang_up = async {
            match &mut self.hang_up {
                Some(signal) => signal.recv().await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            _ = self.interrupt.recv() => {}
            _ = self.terminate.recv() => {}
            _ = hang_up => {}
        }
    }
}

/// Whether this program was started so that a closed terminal does not end it, as `nohup` does.
fn hang_up_is_ignored() -> bool {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    status
        .lines()
        .find_map(|line| line.strip_prefix("SigIgn:"))
        .and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok())
        // Signal 1 is the lowest bit.
        .is_some_and(|mask| mask & 1 == 1)
}
