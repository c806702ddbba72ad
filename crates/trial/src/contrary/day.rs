//! A day's work of a lane: the first pass, edits, removals, a conflict, spares, stubs, an undo, deaths.

use std::collections::BTreeMap;
use std::fs;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use async_trait::async_trait;
use katabatic_core::{Agreement, RelPath, Side, WantedContents, Wish};
use katabatic_engine::seam::{Hook, Seam, SharedHook};
use katabatic_engine::settle::Keep;
use katabatic_engine::{settle, spares, undo};
use katabatic_ledger::{runs, spare_rows};
use tokio::sync::Notify;

use super::desk::{Broken, Desk, tree};
use super::draw::Draw;

/// How a day went.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Lived {
    /// As it should: so many paths were told as stuck on the way.
    Well {
        /// Paths that were told as stuck.
        stuck: usize,
    },
    /// Nothing can be carried there, which the message says.
    Impossible(String),
    /// A promise was broken, and which.
    Badly(String),
}

/// So many passes settle anything that can be settled.
const PASSES: usize = 6;

/// One more than a step, so that what is cut goes on.
const LARGE: usize = 17 * 1024 * 1024;

/// Lives through a day with this server.
///
/// # Errors
/// Where the trial itself could not go on.
pub async fn live(draw: &Draw) -> Result<Lived, Box<dyn std::error::Error + Send + Sync>> {
    let mut day = Day {
        desk: Desk::new(&draw.habits, draw.number).await?,
        draw,
        part: "the test of the account",
        stuck: 0,
    };
    Ok(match day.live().await {
        Ok(()) => Lived::Well { stuck: day.stuck },
        Err(Ended::Impossible(why)) => Lived::Impossible(why),
        Err(Ended::Badly(why)) => Lived::Badly(format!("{}: {why}", day.part)),
        Err(Ended::Broken(why)) => return Err(format!("{}: {why}", day.part).into()),
    })
}

enum Ended {
    Impossible(String),
    Badly(String),
    Broken(Broken),
}

impl<E: Into<Broken>> From<E> for Ended {
    fn from(why: E) -> Ended {
        Ended::Broken(why.into())
    }
}

struct Day<'d> {
    desk: Desk,
    draw: &'d Draw,
    part: &'static str,
    stuck: usize,
}

fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap_or_else(|_| RelPath::root())
}

/// What a person said yes to.
fn wish() -> Wish {
    Wish {
        by_hand: true,
        ..Wish::default()
    }
}

fn bad(why: impl std::fmt::Display) -> Ended {
    Ended::Badly(why.to_string())
}

impl Day<'_> {
    async fn live(&mut self) -> Result<(), Ended> {
        match self.desk.probe().await? {
            Ok(_) => {}
            Err(why) if self.draw.has("listings=none") && why.contains("Depth: 1") => {
                return Err(Ended::Impossible(why));
            }
            Err(why) => return Err(bad(why)),
        }
        self.first_pass().await?;
        self.edits().await?;
        self.removals().await?;
        self.conflict().await?;
        self.spares().await?;
        self.stubs().await?;
        self.undo().await?;
        self.deaths().await?;
        if self.draw.large {
            self.large().await?;
        }
        Ok(())
    }

    async fn first_pass(&mut self) -> Result<(), Ended> {
        self.part = "the first pass";
        for (at, content) in [
            ("Rota.csv", "rota, written here"),
            ("Season 1/Programme.txt", "the first programme"),
            ("Season 1/Parts/Violin 1.pdf", "violin one"),
            ("Season 1/Parts/Violin 2.pdf", "violin two"),
            ("Is it 100% sure? No; maybe.txt", "an odd name"),
            (".hidden", "a name with a dot"),
            ("empty.txt", ""),
        ] {
            self.desk.write(at, content.as_bytes())?;
        }
        fs::create_dir_all(self.desk.near.join("Nothing yet"))?;
        for folder in ["Tours", "Tours/Spring", "Tours/Empty"] {
            self.desk.elsewhere("MKCOL", folder, None).await?;
        }
        for (at, content) in [
            ("Guests.csv", &b"guests, written there"[..]),
            ("Tours/Spring/Hotels.txt", b"hotels"),
            ("Tours/Spring/Buses.txt", b"busses"),
            ("What? 5\\6.txt", b"odd over there"),
        ] {
            self.desk.elsewhere("PUT", at, Some(content)).await?;
        }
        self.settles().await
    }

    async fn edits(&mut self) -> Result<(), Ended> {
        self.part = "edits";
        self.desk.write("Rota.csv", b"rota, changed here")?;
        self.desk.write("Season 1/New.txt", b"new here")?;
        self.desk
            .elsewhere("PUT", "Guests.csv", Some(b"guests, changed there, longer"))
            .await?;
        // As long as the one before: only its tag, or its date, tells that it is another one.
        self.desk
            .elsewhere("PUT", "Tours/Spring/Buses.txt", Some(b"coache"))
            .await?;
        self.settles().await
    }

    async fn removals(&mut self) -> Result<(), Ended> {
        self.part = "removals and a move";
        fs::remove_file(self.desk.near.join("Season 1/New.txt"))?;
        self.desk
            .elsewhere("DELETE", "Tours/Spring/Hotels.txt", None)
            .await?;
        fs::rename(
            self.desk.near.join("Season 1/Parts"),
            self.desk.near.join("Parts of season 1"),
        )?;
        let _ = fs::remove_dir(self.desk.near.join("Nothing yet"));
        self.settles().await?;
        if self.desk.near.join("Season 1/New.txt").exists()
            || self.desk.near.join("Tours/Spring/Hotels.txt").exists()
        {
            return Err(bad("what was removed came back"));
        }
        Ok(())
    }

    async fn conflict(&mut self) -> Result<(), Ended> {
        self.part = "a conflict";
        self.desk.write("Rota.csv", b"rota, as it is here")?;
        self.desk
            .elsewhere("PUT", "Rota.csv", Some(b"rota, as it is over there"))
            .await?;
        self.carries(&wish()).await?;
        self.nothing_is_lost()?;
        let told = Desk::told(&self.desk.pass().await.map_err(bad)?)?;
        let Some((Agreement::Conflict, _)) = told.get("Rota.csv") else {
            return Err(bad(format!("no conflict is told: {told:?}")));
        };
        let pass = self.desk.pass().await?;
        let time = |_| String::new();
        settle::settle(&pass, &path("Rota.csv"), Keep::Side(Side::Far), &time)
            .await
            .map_err(bad)?;
        self.settles().await?;
        let kept = fs::read(self.desk.near.join("Rota.csv"))?;
        if kept != b"rota, as it is over there" {
            return Err(bad("the version that was to be kept is not there"));
        }
        Ok(())
    }

    async fn spares(&mut self) -> Result<(), Ended> {
        self.part = "spares";
        for (at, on) in [
            ("Season 1/New.txt", Side::Far),
            ("Tours/Spring/Hotels.txt", Side::Near),
        ] {
            let pass = self.desk.pass().await?;
            let all = pass
                .ledger
                .read(|connection| spare_rows::all(connection, None))?;
            let spare = all.into_iter().find(|spare| spare.path.as_str() == at);
            let spare = spare.ok_or_else(|| bad(format!("there is no spare of {at}")))?;
            spares::restore(&pass, &spare, on, None)
                .await
                .map_err(bad)?;
        }
        self.settles().await?;
        for at in ["Season 1/New.txt", "Tours/Spring/Hotels.txt"] {
            if !self.desk.near.join(at).exists() {
                return Err(bad(format!("{at} was restored, and did not come here")));
            }
        }
        Ok(())
    }

    async fn stubs(&mut self) -> Result<(), Ended> {
        self.part = "stubs";
        let about = |contents| Wish {
            scope: vec![path("Parts of season 1/Violin 1.pdf")],
            contents: Some(contents),
            ..wish()
        };
        self.carries(&about(WantedContents::Away)).await?;
        self.nothing_is_lost()?;
        self.carries(&about(WantedContents::Here)).await?;
        self.settles().await
    }

    async fn undo(&mut self) -> Result<(), Ended> {
        self.part = "an undo";
        self.desk
            .elsewhere("PUT", "Guests.csv", Some(b"guests, spoilt"))
            .await?;
        fs::remove_file(self.desk.near.join("Season 1/Programme.txt"))?;
        self.settles().await?;
        let pass = self.desk.pass().await?;
        let all = pass
            .ledger
            .read(|connection| runs::last(connection, None, 20))?;
        let took = all
            .into_iter()
            .find(|run| run.counts.removed + run.counts.replaced > 0);
        let took = took.ok_or_else(|| bad("no run took anything away"))?;
        let offer = undo::look(&pass, &took).await.map_err(bad)?;
        undo::take_back(&pass, &offer, &took).await.map_err(bad)?;
        self.settles().await?;
        if !self.desk.near.join("Season 1/Programme.txt").exists() {
            return Err(bad("what was taken back is not there"));
        }
        Ok(())
    }

    async fn deaths(&mut self) -> Result<(), Ended> {
        self.part = "deaths";
        for (number, seam) in [
            Seam::Staged,
            Seam::Intended,
            Seam::Captured,
            Seam::Placed,
            Seam::Recorded,
        ]
        .into_iter()
        .enumerate()
        {
            self.desk
                .write("Rota.csv", format!("rota, edition {number}").as_bytes())?;
            let content: &'static [u8] = [
                &b"guests, zero"[..],
                b"guests, one",
                b"guests, two",
                b"guests, three",
                b"guests, four",
            ][number];
            self.desk
                .elsewhere("PUT", "Guests.csv", Some(content))
                .await?;
            let death = Arc::new(Death {
                at: seam,
                left: AtomicUsize::new(number % 2),
                died: Notify::new(),
            });
            let pass = self.desk.pass_with(Arc::clone(&death) as SharedHook).await;
            let pass = pass.map_err(bad)?;
            let wish = wish();
            tokio::select! {
                done = pass.sync(&wish) => { done.map_err(bad)?; }
                () = death.died.notified() => {}
            }
            self.nothing_is_lost()?;
        }
        self.settles().await
    }

    async fn large(&mut self) -> Result<(), Ended> {
        self.part = "a large file";
        let mut content: Vec<u8> = (0..LARGE).map(|at| (at / 251) as u8).collect();
        self.desk.write("Recording.wav", &content)?;
        self.desk.also(&["cut=0.3"])?;
        for _ in 0..3 {
            // It may well be cut.
            let _ = self.desk.pass().await.map_err(bad)?.sync(&wish()).await;
        }
        self.desk.also(&[])?;
        self.settles().await?;
        self.part = "a large file that changed a little";
        content[5_000_000] ^= 1;
        self.desk.write("Recording.wav", &content)?;
        self.settles().await
    }

    /// A pass goes through.
    async fn carries(&self, wish: &Wish) -> Result<(), Ended> {
        let pass = self.desk.pass().await.map_err(bad)?;
        pass.sync(wish).await.map(drop).map_err(bad)
    }

    /// Passes until there is nothing to do; then both sides are equal but for what is told, and nothing is lost.
    async fn settles(&mut self) -> Result<(), Ended> {
        let mut pass = self.desk.pass().await.map_err(bad)?;
        let mut plan = None;
        for _ in 0..PASSES {
            pass.sync(&wish()).await.map_err(bad)?;
            pass = self.desk.pass().await.map_err(bad)?;
            let next = pass.plan(&wish()).await.map_err(bad)?;
            let is_last = !next.has_work();
            plan = Some(next);
            if is_last {
                break;
            }
        }
        self.nothing_is_lost()?;
        let told = Desk::told(&pass)?;
        let (near, far) = (tree(&self.desk.near)?, tree(&self.desk.far)?);
        let differ = differing(&near, &far);
        if self.draw.has("without-method=MOVE") {
            let says_so = told.values().any(|(_, why)| why.contains("MOVE"));
            if says_so {
                return Err(Ended::Impossible("nothing can be moved there".into()));
            }
        }
        for at in &differ {
            let is_told = |told_at: &String| {
                at == told_at
                    || at.starts_with(&format!("{told_at}/"))
                    || told_at.starts_with(&format!("{at}/"))
            };
            if !told.keys().any(is_told) {
                return Err(bad(format!(
                    "{at} is not the same on both sides, and nothing is told of it; told is {told:?}"
                )));
            }
        }
        if let Some(plan) = plan.filter(|plan| plan.has_work() && differ.is_empty()) {
            return Err(bad(format!(
                "{PASSES} passes left something to do: {:#?}",
                plan.steps
            )));
        }
        self.stuck = self.stuck.max(told.len());
        self.explained(&told)
    }

    /// Whatever is stuck is so by a habit that is known to make it so.
    fn explained(&self, told: &BTreeMap<String, (Agreement, String)>) -> Result<(), Ended> {
        for (at, (state, why)) in told {
            let name = at.rsplit('/').next().unwrap_or(at);
            let excused = self.draw.has("forbid-dots") && name.starts_with('.')
                || self.draw.habits.iter().any(|habit| {
                    habit
                        .strip_prefix("unserved=")
                        .is_some_and(|characters| name.contains(characters))
                })
                || self.draw.has("largest=300000") && name == "Recording.wav"
                // A request of a pass that died may come yet, and nothing there would keep it from doing harm.
                || self.draw.has("no-overwrite-check") && why.contains("nothing is done here for a day");
            if !excused {
                return Err(bad(format!("{at} is {state:?} for no good reason: {why}")));
            }
            if why.is_empty() {
                return Err(bad(format!("{at} is {state:?}, and no reason is given")));
            }
        }
        Ok(())
    }

    fn nothing_is_lost(&self) -> Result<(), Ended> {
        let lost = self.desk.lost()?;
        match lost.is_empty() {
            true => Ok(()),
            false => Err(bad(format!("versions are lost: {lost:?}"))),
        }
    }
}

fn differing(
    near: &BTreeMap<String, Option<Vec<u8>>>,
    far: &BTreeMap<String, Option<Vec<u8>>>,
) -> Vec<String> {
    let names = near.keys().chain(far.keys());
    let mut differ: Vec<String> = names
        .filter(|name| near.get(*name) != far.get(*name))
        .cloned()
        .collect();
    differ.sort();
    differ.dedup();
    differ
}

/// The process dies at a seam, at the time after so many that it is passed.
struct Death {
    at: Seam,
    left: AtomicUsize,
    died: Notify,
}

#[async_trait]
impl Hook for Death {
    async fn at(&self, seam: Seam, _: Option<Side>, _: Option<&RelPath>) {
        if seam == self.at && self.left.fetch_sub(1, Ordering::SeqCst) == 0 {
            self.died.notify_one();
            std::future::pending::<()>().await;
        }
    }
}
