//! Looks at a computer, its accounts and its lanes for what usually goes wrong, and says what mends it.
//!
//! Each look answers one question with a sentence, good or bad, so that "nothing was found" can be told from "nothing
//! was looked at". Nothing is changed.

use std::path::Path;

use katabatic_core::{Agreement, EditTime, RunClass, Side, words};

use crate::Error;
use crate::Home;
use crate::accounts::device_grant::Tokens;
use crate::accounts::reach;
use crate::config::{AccountConfig, Config, LaneConfig, SignIn};
use crate::local_time::in_words;
use crate::open::{OpenLane, account_client, address_of, open_lane, side_failed};
use crate::rights;
use crate::secrets;
use crate::self_opening;
use katabatic_core::place::Place;
use katabatic_ledger::Ledger;
use katabatic_ledger::rows;
use katabatic_ledger::runs;
use katabatic_ledger::spare_rows;
use katabatic_sides::explain::explain;
use katabatic_sides::stop::Stop;

const SECOND: i64 = 1_000_000_000;
const DAY: i64 = 86_400 * SECOND;

/// Less free room than this, in bytes, is trouble soon.
const LITTLE_ROOM: u64 = 1_000_000_000;

/// A server's clock may differ by so much before dates mislead people.
const CLOCKS_DIFFER: i64 = 300 * SECOND;

/// A lane that no pass ran over for so long is one that nobody runs.
const LONG_AGO: i64 = 7 * DAY;

/// What ends sooner than this, a certificate or a sign-in, is trouble soon.
const ENDS_SOON: i64 = 21 * DAY;

/// Fewer open files than this leave none to spare for a pass.
const FEW_OPEN_FILES: u64 = 256;

/// What one look found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Check {
    /// What was looked at: `this computer`, `account office`, `lane scores`.
    pub about: String,
    /// What was asked, in a word or two.
    pub asked: &'static str,
    /// Whether all is well.
    pub fine: bool,
    /// What was found, in a sentence.
    pub found: String,
    /// What mends it, where something is wrong.
    pub mend: Option<String>,
}

/// An agent that runs for the home.
#[derive(Clone, Debug)]
pub struct RunningAgent {
    /// Why programs that open a stub are told "permission denied"; none where its content comes while they wait.
    pub stubs_stay_closed: Option<String>,
}

/// What is looked at, and with what.
pub struct Doctor<'d> {
    /// The agent, where one runs.
    pub agent: Option<RunningAgent>,
    /// When an agent began that has ended without being told to.
    pub agent_died: Option<EditTime>,
    /// The tool's own folders.
    pub home: &'d Home,
    /// The config.
    pub config: &'d Config,
    /// The ledger.
    pub ledger: &'d Ledger,
    /// Whether somebody asked to stop.
    pub stop: &'d Stop,
    /// Now, by this computer's clock.
    pub now: EditTime,
}

/// Collects what is found about one thing.
struct About {
    about: String,
    checks: Vec<Check>,
}

impl About {
    fn new(about: String) -> About {
        let checks = Vec::new();
        About { about, checks }
    }

    fn fine(&mut self, asked: &'static str, found: impl Into<String>) {
        self.add(asked, true, found.into(), None);
    }

    fn wrong(&mut self, asked: &'static str, found: impl Into<String>, mend: impl Into<String>) {
        self.add(asked, false, found.into(), Some(mend.into()));
    }

    fn add(&mut self, asked: &'static str, fine: bool, found: String, mend: Option<String>) {
        self.checks.push(Check {
            about: self.about.clone(),
            asked,
            fine,
            found,
            mend,
        });
    }

    fn failed(&mut self, asked: &'static str, error: &Error) {
        self.wrong(asked, format!("{}: {}", error.what, error.why), &error.next);
    }
}

impl Doctor<'_> {
    /// Looks at everything.
    ///
    /// # Errors
    /// Where the ledger cannot be read; all else that fails is a finding.
    pub async fn look(&self) -> Result<Vec<Check>, Error> {
        let mut checks = self.computer()?;
        for account in &self.config.accounts {
            checks.extend(self.account(account).await);
        }
        for lane in &self.config.lanes {
            checks.extend(self.lane(lane).await?);
        }
        Ok(checks)
    }

    fn computer(&self) -> Result<Vec<Check>, Error> {
        let mut about = About::new("this computer".into());
        let sound: String = self.ledger.read(|connection| {
            connection.query_row("PRAGMA quick_check(1)", [], |row| row.get(0))
        })?;
        match sound.as_str() {
            "ok" => about.fine("ledger", "it is sound"),
            odd => about.wrong(
                "ledger",
                format!("it is damaged: {odd}"),
                format!(
                    "put {} aside; the next pass of each lane compares both sides and removes nothing",
                    self.home.ledger_file().display()
                ),
            ),
        }
        match self.home.is_another_computer()? {
            Some(name) => about.wrong(
                "name",
                format!("config and ledger were made on another computer, {name}: this is a copy, or a home that moved"),
                "katabatic sync: it gets a name of its own; and sync on one of the two only, until then",
            ),
            None => about.fine("name", format!("it is known there as {}", self.home.computer()?)),
        }
        match (&self.agent, self.agent_died) {
            (Some(_), _) => about.fine("agent", "it runs"),
            (None, None) => about.fine("agent", "none runs: lanes are synced by hand alone"),
            (None, Some(began)) => about.wrong(
                "agent",
                format!(
                    "the one that began at {} was killed, or the computer went down: nothing is carried by itself",
                    in_words(began)
                ),
                "katabatic agent start; to have it start with the computer: katabatic agent install",
            ),
        }
        match room(self.home.state()) {
            Some(free) if free < LITTLE_ROOM => about.wrong(
                "room",
                format!(
                    "{} are free where ledger and spares lie",
                    words::bytes(free)
                ),
                "katabatic spares prune, or make room on that disk",
            ),
            Some(free) => about.fine("room", format!("{} are free", words::bytes(free))),
            None => {}
        }
        let limit = rustix::process::getrlimit(rustix::process::Resource::Nofile).current;
        match limit {
            Some(few) if few < FEW_OPEN_FILES => about.wrong(
                "open files",
                format!("this user may have {few} files open at a time"),
                "raise it: ulimit -n 4096, or nofile in /etc/security/limits.conf",
            ),
            limit => about.fine(
                "open files",
                limit.map_or_else(
                    || "as many as are needed".to_owned(),
                    |limit| format!("{} at a time", words::grouped(limit)),
                ),
            ),
        }
        let folders = self.ledger.read(rows::folders)?;
        let watches = std::fs::read_to_string("/proc/sys/fs/inotify/max_user_watches");
        if let Some(most) = watches
            .ok()
            .and_then(|text| text.trim().parse::<u64>().ok())
        {
            match folders > most {
                true => about.wrong(
                    "watches",
                    format!(
                        "the lanes hold {} folders, and this user may watch {}",
                        words::grouped(folders),
                        words::grouped(most)
                    ),
                    format!("sysctl fs.inotify.max_user_watches={}", folders * 2),
                ),
                false => about.fine(
                    "watches",
                    format!(
                        "{} of {} folders that may be watched",
                        words::grouped(folders),
                        words::grouped(most)
                    ),
                ),
            }
        }
        let spares = self
            .ledger
            .read(|connection| spare_rows::all(connection, None))?;
        let bytes: u64 = spares.iter().map(|spare| spare.size).sum();
        about.fine(
            "spares",
            format!(
                "{}, {}",
                words::count(spares.len() as u64, "version", "versions"),
                words::bytes(bytes)
            ),
        );
        Ok(about.checks)
    }

    async fn account(&self, account: &AccountConfig) -> Vec<Check> {
        let mut about = About::new(format!("account {}", account.name));
        let name = &account.name;
        let client = match account_client(self.home, account, self.stop) {
            Ok(client) => client,
            Err(error) => {
                about.failed("sign-in", &error);
                return about.checks;
            }
        };
        let found = match client.survey(false).await {
            Ok(found) => found,
            Err(error) => {
                let error = match address_of(account) {
                    Ok(address) => explain(name, &address, &error),
                    Err(error) => error,
                };
                about.failed("reached", &error);
                return about.checks;
            }
        };
        let who = found
            .principal
            .as_ref()
            .map_or_else(|| account.user.clone(), |who| who.name.clone());
        about.fine("reached", format!("it answers, signed in as {who}"));
        match found.free {
            Some(free) if free < LITTLE_ROOM => about.wrong(
                "room",
                format!("{} are free in the account", words::bytes(free)),
                format!("see what takes it: katabatic room @{name}"),
            ),
            Some(free) => about.fine("room", format!("{} are free", words::bytes(free))),
            None => about.fine("room", "the server does not say how much is free"),
        }
        match found.clock_ahead {
            Some(ahead) if ahead.abs() > CLOCKS_DIFFER => about.wrong(
                "clock",
                format!(
                    "the server's clock is {} minutes {} this computer's",
                    ahead.abs() / SECOND / 60,
                    if ahead > 0 { "ahead of" } else { "behind" }
                ),
                "set this computer's clock, for example with timedatectl set-ntp true",
            ),
            Some(_) => about.fine("clock", "both clocks agree"),
            // By SFTP; a pass reads it off what it writes there.
            None => about.fine("clock", "the server does not say what its clock shows"),
        }
        self.what_ends(&mut about, account).await;
        about.checks
    }

    /// The certificate and the sign-in, neither of which lasts for ever.
    async fn what_ends(&self, about: &mut About, account: &AccountConfig) {
        let name = &account.name;
        let line = account.line();
        if !account.is_sftp()
            && let Ok(address) = address_of(account)
            && let Ok(proxy) = line.proxy.used_for(&address)
            && let Ok(knocked) = reach::knock(name, &address, &line, &proxy).await
            && let Some(certificate) = knocked.certificate
        {
            let mend = format!(
                "ask whoever runs the server for a new one; a pinned one is changed with katabatic account sign-in {name} --trust"
            );
            self.ends(about, "certificate", certificate.until, &mend);
        }
        let endless = match account.sign_in {
            SignIn::Basic => "by name and password, which have no end that is known",
            SignIn::Key => "by a key, which has no end that is known",
            SignIn::Agent => {
                "by a key of the SSH agent: where none runs, such as for a service, nobody signs in"
            }
            SignIn::Device => "",
        };
        if !endless.is_empty() {
            return about.fine("sign-in", endless);
        }
        let tokens = secrets::recall(self.home, name, account.keeping)
            .ok()
            .and_then(|secret| Tokens::from_secret(&secret));
        match tokens {
            Some(tokens) if tokens.refresh.is_some() => {
                about.fine("sign-in", "it is renewed by itself");
            }
            Some(tokens) => {
                let mend = format!("katabatic account sign-in {name}");
                self.ends(about, "sign-in", tokens.until, &mend);
            }
            None => {}
        }
    }

    /// `until` in seconds since 1970.
    fn ends(&self, about: &mut About, asked: &'static str, until: i64, mend: &str) {
        let left = until.saturating_mul(SECOND).saturating_sub(self.now.0);
        let days = words::count((left / DAY).unsigned_abs(), "day", "days");
        match left {
            past if past <= 0 => about.wrong(asked, format!("it ended {days} ago"), mend),
            soon if soon < ENDS_SOON => about.wrong(asked, format!("it ends in {days}"), mend),
            _ => about.fine(asked, format!("it is good for {days} more")),
        }
    }

    async fn lane(&self, lane: &LaneConfig) -> Result<Vec<Check>, Error> {
        let mut about = About::new(format!("lane {}", lane.name));
        let name = &lane.name;
        let opened = open_lane(self.home, self.config, self.ledger, lane, self.stop).await;
        let opened = match opened {
            Ok(opened) => opened,
            Err(error) => {
                about.failed("both sides", &error);
                return Ok(about.checks);
            }
        };
        for side in [Side::Near, Side::Far] {
            let asked = match side {
                Side::Near => "here",
                Side::Far => "there",
            };
            let store = opened.store(side);
            if let Err(error) = store.root().await {
                about.failed(asked, &side_failed(lane, side, &error));
                continue;
            }
            let place = match side {
                Side::Near => lane.near.to_string(),
                Side::Far => lane.far_place().to_string(),
            };
            match (store.free().await, store.is_read_only()) {
                (_, true) if lane.terms.direction.source() != Some(side) => about.wrong(
                    asked,
                    format!("{place} may only be read"),
                    format!(
                        "let it be written to, or: katabatic lane change {name} --direction {}",
                        side.other().towards()
                    ),
                ),
                (Some(free), _) if free < LITTLE_ROOM && lane.account(side).is_none() => {
                    about.wrong(
                        asked,
                        format!("{place} is there, with {} free", words::bytes(free)),
                        format!("katabatic choose {name}, katabatic spares prune, or another disk: katabatic lane relocate {name}"),
                    );
                }
                _ => about.fine(asked, format!("{place} is there")),
            }
        }
        match (&opened.row.failed, opened.row.seen_at) {
            (Some(failed), _) => about.wrong(
                "passes",
                format!("the last one failed: {}", failed.why),
                failed.next.clone(),
            ),
            (None, None) => about.wrong(
                "passes",
                "no pass over the whole lane has ended yet",
                format!("katabatic plan {name}, then katabatic sync {name}"),
            ),
            (None, Some(at)) if at > self.now => about.wrong(
                "passes",
                "the last pass was later than now, by this clock",
                "set the clock",
            ),
            (None, Some(at)) if self.now.0 - at.0 > LONG_AGO => about.wrong(
                "passes",
                format!(
                    "the last one was {} ago",
                    words::count(((self.now.0 - at.0) / DAY).unsigned_abs(), "day", "days")
                ),
                format!("katabatic sync {name}"),
            ),
            (None, Some(_)) => about.fine("passes", "the last one was within a week"),
        }
        rights(&mut about, lane, &opened).await;
        others(&mut about, lane, &opened).await;
        self.what_is_open(&mut about, lane, &opened.row)?;
        self.stubs(&mut about, lane, &opened.row).await?;
        if let Place::Local(_) = lane.near
            && let Some(lacks) = opened.near.shortcomings().await
        {
            about.fine(
                "disk",
                format!(
                    "{} lacks some things: {}",
                    lacks.place,
                    lacks.said.join(" ")
                ),
            );
        }
        Ok(about.checks)
    }

    /// Whether stubs open by themselves, and what is missing where they do not.
    async fn stubs(
        &self,
        about: &mut About,
        lane: &LaneConfig,
        row: &rows::LaneRow,
    ) -> Result<(), Error> {
        let (stubs, bytes) = self
            .ledger
            .read(|connection| rows::stubs(connection, row.key))?;
        let Some(folder) = lane.near.local().filter(|_| stubs > 0) else {
            return Ok(());
        };
        let here = format!(
            "{} of {} here without content",
            words::count(stubs, "file", "files"),
            words::bytes(bytes)
        );
        if self
            .agent
            .as_ref()
            .is_some_and(|agent| agent.stubs_stay_closed.is_none())
        {
            about.fine(
                "stubs",
                format!("{here}; a program that opens one waits while it comes"),
            );
            return Ok(());
        }
        let mut missing = self_opening::missing(folder, katabatic_opener::DEFAULT_SOCKET.as_ref());
        match &self.agent {
            None => missing.push("an agent that runs: katabatic agent start".into()),
            Some(agent) if missing.is_empty() => missing.extend(agent.stubs_stay_closed.clone()),
            Some(_) => {}
        }
        about.fine(
            "stubs",
            format!(
                "{here}; a program that opens one is told \"permission denied\" (by hand: katabatic fetch PATH); one that runs as root, as some backups do, reads zeros, so stubs ask to be left out of backups. For them to open by themselves this is missing: {}",
                missing.join("; ")
            ),
        );
        Ok(())
    }

    fn what_is_open(
        &self,
        about: &mut About,
        lane: &LaneConfig,
        row: &rows::LaneRow,
    ) -> Result<(), Error> {
        let name = &lane.name;
        let (files, left_out, any_open, cut_off) = self.ledger.read(|connection| {
            let (files, _) = rows::agreed_files(connection, row.key)?;
            let left_out: u64 = rows::left_out(connection, row.key)?
                .iter()
                .map(|(_, tally)| tally.files)
                .sum();
            let last = runs::last(connection, Some(name), 1)?;
            let cut_off = last.first().is_some_and(|run| {
                run.class() == RunClass::CutOff && !run.is_completed_by(row.seen_at)
            });
            let any_open = rows::any_open(connection, row.key)?;
            Ok((files, left_out, any_open, cut_off))
        })?;
        match (files, left_out) {
            (0, 0) if !any_open => {
                about.fine("files", "both sides are empty, or nothing was carried yet")
            }
            (0, left_out) if !any_open => about.wrong(
                "files",
                format!(
                    "rules or the choice leave out all there is: {}",
                    words::count(left_out, "file", "files")
                ),
                format!("katabatic lane show {name}"),
            ),
            (files, _) => about.fine(
                "files",
                format!(
                    "{} that both sides hold",
                    words::count(files, "file", "files")
                ),
            ),
        }
        if cut_off {
            about.wrong(
                "leftovers",
                "the last pass was cut off in the middle",
                format!("katabatic sync {name}"),
            );
        }
        for (state, what, next) in [
            (
                Agreement::Conflict,
                "in conflict",
                format!("katabatic conflicts {name}"),
            ),
            (
                Agreement::Stuck,
                "stuck",
                format!("katabatic status {name} --state stuck"),
            ),
            (
                Agreement::KeptBack,
                "kept back: somebody else changed the other side, and the version that was saved is not there",
                format!("katabatic status {name} --state kept-back"),
            ),
            (
                Agreement::Asking(Side::Near),
                "gone there; removing them here waits for a yes",
                format!("katabatic status {name} --state asking"),
            ),
            (
                Agreement::Asking(Side::Far),
                "gone here; removing them there waits for a yes",
                format!("katabatic status {name} --state asking"),
            ),
        ] {
            let count = self
                .ledger
                .read(|connection| rows::in_state(connection, row.key, state))?
                .len() as u64;
            if count > 0 {
                about.wrong(
                    "open",
                    format!("{} {what}", words::count(count, "path is", "paths are")),
                    next,
                );
            }
        }
        Ok(())
    }
}

/// Whether all may be read, and written where the lane writes.
async fn rights(about: &mut About, lane: &LaneConfig, opened: &OpenLane) {
    let name = &lane.name;
    let mut fine = Vec::new();
    for side in [Side::Near, Side::Far] {
        let writes = lane.terms.direction.source() != Some(side);
        let at = lane.side_names().at(side);
        match lane.place(side) {
            Place::Local(root) => {
                let barred = rights::look(root, writes);
                if barred.unread + barred.unwritten == 0 {
                    fine.push(at);
                    continue;
                }
                let some: Vec<String> = barred
                    .some
                    .iter()
                    .map(|path| words::typed(&path.display().to_string()))
                    .collect();
                let mut counts = Vec::new();
                if barred.unread > 0 {
                    counts.push(format!(
                        "{} not be read",
                        words::count(barred.unread, "thing may", "things may")
                    ));
                }
                if barred.unwritten > 0 {
                    counts.push(format!(
                        "{} not be written to",
                        words::count(barred.unwritten, "folder may", "folders may")
                    ));
                }
                about.wrong(
                    "rights",
                    format!("{at}: {}: {}", counts.join(" and "), some.join(", ")),
                    format!("chmod u+rwX {}, or leave it out: katabatic lane change {name} --leave-out RULE", some[0]),
                );
            }
            Place::Far { .. } => {
                let shared = opened.store(side).shared().await;
                let only_read: Vec<String> = shared
                    .iter()
                    .filter(|folder| writes && folder.may_write == Some(false))
                    .map(|folder| format!("{}, shared by {}", folder.name, folder.owner))
                    .collect();
                match only_read.is_empty() {
                    true => fine.push(at),
                    false => about.wrong(
                        "rights",
                        format!("{at}: may only be read: {}", only_read.join("; ")),
                        format!("ask its owner for the right to write; or skip it: katabatic choose {name} --skip FOLDER"),
                    ),
                }
            }
        }
    }
    if !fine.is_empty() {
        about.fine(
            "rights",
            format!("all that the lane needs, {}", fine.join(" and ")),
        );
    }
}

/// Whether other computers are tied to the same folder.
async fn others(about: &mut About, lane: &LaneConfig, opened: &OpenLane) {
    let others = opened.far.other_computers().await;
    if others.is_empty() {
        return;
    }
    let found = format!(
        "{} tied to {}, too: {}",
        words::count(
            others.len() as u64,
            "other computer is or was",
            "other computers are or were"
        ),
        lane.far_place(),
        others.join(", ")
    );
    // What both send there, each finds as changed by somebody else; most often two that chose one name.
    match lane.terms.direction.source() == Some(Side::Near) {
        true => about.wrong(
            "computers",
            found,
            format!("a folder of its own for each: katabatic lane change {} --far; for a standard folder, katabatic cover --as NAME", lane.name),
        ),
        false => about.fine("computers", found),
    }
}

/// What is free on the disk of a folder.
fn room(folder: &Path) -> Option<u64> {
    let stat = rustix::fs::statvfs(folder).ok()?;
    (stat.f_blocks > 0).then(|| stat.f_bavail.saturating_mul(stat.f_frsize))
}
