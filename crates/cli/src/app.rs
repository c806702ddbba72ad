//! What all commands share: home, config, ledger, a runtime, and a way to stop.

use crate::common::Common;
use std::sync::Arc;

use katabatic_core::EditTime;
use katabatic_engine::config::{Config, LaneConfig};
use katabatic_engine::open::{OpenLane, open_lane, open_lane_to_look};
use katabatic_engine::pass::{Pass, Progress, ReadFiles};
use katabatic_engine::seam::NoHook;
use katabatic_engine::{Class, Error, Home};
use katabatic_ledger::Ledger;
use katabatic_sides::clock::{Clock, SystemClock};
use katabatic_sides::stop::Stop;
use tokio::runtime::Runtime;

use crate::draw::Style;
use crate::exit;
use crate::passphrase;
use crate::signals::Signals;

/// A command's surroundings.
pub struct App {
    /// The common options.
    pub common: Common,
    /// How to draw.
    pub style: Style,
    /// The tool's own folders.
    pub home: Home,
    /// The config as it was when the command began.
    pub config: Config,
    /// The ledger.
    pub ledger: Ledger,
    /// Asked for by Ctrl-C, or by any other signal that ends a program.
    pub stop: Stop,
    runtime: Runtime,
}

impl App {
    /// Reads config and ledger, and listens for Ctrl-C.
    pub fn start(common: &Common) -> Result<App, Error> {
        let home = match &common.home {
            Some(dir) => Home::under(dir)?,
            None => Home::of_person()?,
        }
        .asking(Arc::new(passphrase::ask))
        .asking_steps(Arc::new(passphrase::ask_step));
        let config = Config::read(&home)?;
        katabatic_bus_error::end_with_words(format!(
            "katabatic: the ledger {}\n  why   the disk that it lies on is full, or fails\n  next  Free some room on that disk, and do the same again. Nothing is lost: what was under way is cleared up first.\n",
            home.ledger_file().display()
        ));
        let ledger = home.open_ledger()?;
        for mended in &ledger.mended {
            crate::draw::say(format!("katabatic: {mended}"));
        }
        let runtime = runtime()?;
        let stop = Stop::default();
        runtime.spawn(listen(stop.clone()));
        Ok(App {
            common: common.clone(),
            style: Style::of(common),
            home,
            config,
            ledger,
            stop,
            runtime,
        })
    }

    /// Runs something to its end.
    pub fn run<T>(&self, future: impl Future<Output = T>) -> T {
        self.runtime.block_on(future)
    }

    /// Now.
    pub fn now(&self) -> EditTime {
        SystemClock.now()
    }

    /// A pass over a lane.
    pub async fn pass(&self, lane: &LaneConfig, progress: Arc<Progress>) -> Result<Pass, Error> {
        let lane = open_lane(&self.home, &self.config, &self.ledger, lane, &self.stop).await?;
        Ok(self.pass_over(lane, progress))
    }

    /// The same to tell how a lane stands, also where its far drive is not plugged in.
    pub async fn look(&self, lane: &LaneConfig, progress: Arc<Progress>) -> Result<Pass, Error> {
        let Self {
            home,
            config,
            ledger,
            stop,
            ..
        } = self;
        let lane = open_lane_to_look(home, config, ledger, lane, stop).await?;
        Ok(self.pass_over(lane, progress))
    }

    fn pass_over(&self, lane: OpenLane, progress: Arc<Progress>) -> Pass {
        if let Some(notice) = &lane.notice {
            crate::draw::say(format!("katabatic: {notice}"));
        }
        if let Some(behind) = lane.clock_is_behind(self.now()) {
            crate::draw::say(format!("katabatic: {behind}"));
        }
        Pass {
            lane,
            ledger: self.ledger.clone(),
            clock: Arc::new(SystemClock),
            hook: Arc::new(NoHook),
            stop: self.stop.clone(),
            progress,
            read: ReadFiles::default(),
        }
    }
}

/// A runtime for a command.
pub fn runtime() -> Result<Runtime, Error> {
    tokio::runtime::Builder::new_multi_thread()
        .enable_all()
        .build()
        .map_err(|why| Error::failed("starting", why, "Try again; the system gave no threads."))
}

/// The first of Ctrl-C, SIGTERM and SIGHUP asks everything to stop in order; the second does not wait.
async fn listen(stop: Stop) {
    let Ok(mut signals) = Signals::listen() else {
        return;
    };
    signals.next().await;
    stop.ask();
    crate::draw::say(
        "Stopping: what is being placed is finished, the rest is set down. Ctrl-C again stops at once.",
    );
    signals.next().await;
    std::process::exit(exit::number(Class::Stopped).into());
}
