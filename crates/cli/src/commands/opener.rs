//! `opener`: the privileged part that makes programs wait while the content of a stub comes.

use std::process::ExitCode;

use katabatic_engine::Error;
use katabatic_engine::opener::Opener;
use tokio::signal::unix::{SignalKind, signal};

use crate::app;
use crate::args;

pub fn opener(typed: &args::Opener) -> Result<ExitCode, Error> {
    let opener = Opener::begin(&typed.socket)?;
    eprintln!(
        "katabatic: The opener listens at {}",
        typed.socket.display()
    );
    let failed = |why| Error::failed("listening for signals", why, "Try again.");
    app::runtime()?.block_on(async {
        let mut terminate = signal(SignalKind::terminate()).map_err(failed)?;
        tokio::select! {
            _ = terminate.recv() => {}
            _ = tokio::signal::ctrl_c() => {}
        }
        Ok(())
    })?;
    eprintln!("katabatic: Ending: the stubs of everybody lose their rights first.");
    opener.end();
    Ok(ExitCode::SUCCESS)
}
