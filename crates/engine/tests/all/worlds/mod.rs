//! A whole lane in a temporary folder in one line: a stand-in, an account, a near folder, and passes over them.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use async_trait::async_trait;
use katabatic_core::place::Place;
use katabatic_core::{RelPath, Side};
use katabatic_engine::config::{AccountConfig, Config, LaneConfig};
use katabatic_engine::open::{connection_of, open_lane};
use katabatic_engine::pass::{Pass, Plan, Progress, ReadFiles, Report, Wish};
use katabatic_engine::seam::{Hook, NoHook, Seam, SharedHook};
use katabatic_engine::secrets;
use katabatic_engine::{Error, Home};
use katabatic_ledger::account_rows;
use katabatic_sides::clock::{Clock, SystemClock};
use katabatic_sides::probe::{Findings, Probed, probe};
use katabatic_sides::secret::Keeping;
use katabatic_sides::secret::Secret;
use katabatic_sides::stop::Stop;
use katabatic_sides::webdav::{Client, survey};
use katabatic_standin::{Config as Standin, Fault, Faults, Running, User, start};
use tokio::sync::{Notify, OnceCell};

pub struct World {
    pub dir: tempfile::TempDir,
    pub near: PathBuf,
    pub far: PathBuf,
    pub faults: Arc<Faults>,
    /// Serves for as long as it is kept.
    _standin: Running,
    pub home: Home,
    pub config: Config,
}

pub fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

impl World {
    pub async fn new() -> World {
        World::with_seed(1).await
    }

    pub async fn with_seed(seed: u64) -> World {
        let dir = tempfile::tempdir().unwrap();
        let near = dir.path().join("near");
        let data = dir.path().join("cloud");
        let far = data.join("librarian/Scores");
        fs::create_dir_all(&near).unwrap();
        fs::create_dir_all(&far).unwrap();
        let faults = Arc::new(Faults::new(Vec::new(), seed));
        let standin = start(Standin {
            users: ["librarian", "archive"]
                .map(|name| User::new(name, "secret").unwrap())
                .into(),
            faults: Arc::clone(&faults),
            ..Standin::new(&data)
        })
        .await
        .unwrap();
        let home = Home::under(&dir.path().join("home")).unwrap();
        let mut config = Config::read(&home).unwrap();
        for (account, user) in [("office", "librarian"), ("archive", "archive")] {
            let secret = Secret::new("secret".into());
            secrets::keep(&home, account, Keeping::File, &secret).unwrap();
            config
                .add_account(AccountConfig::new(account, &standin.url(), user))
                .unwrap();
        }
        config
            .add_lane(LaneConfig::new(
                "scores",
                "1234567890abcdef",
                Place::Local(near.canonicalize().unwrap()),
                Place::Far {
                    account: "office".into(),
                    path: path("Scores"),
                },
            ))
            .unwrap();
        World {
            dir,
            near,
            far,
            faults,
            _standin: standin,
            home,
            config,
        }
    }

    /// The lane's far side becomes a folder of this computer, the very one the stand-in keeps.
    pub fn far_is_here(&mut self) {
        let mut lane = self.config.lanes[0].clone();
        lane.far = Place::Local(self.far.canonicalize().unwrap());
        self.config.change_lane(lane).unwrap();
    }

    /// The lane's near side becomes a folder of another account.
    pub fn near_is_an_account(&mut self) {
        self.near = self.dir.path().join("cloud/archive/Scores");
        fs::create_dir_all(&self.near).unwrap();
        let mut lane = self.config.lanes[0].clone();
        lane.near = Place::Far {
            account: "archive".into(),
            path: path("Scores"),
        };
        self.config.change_lane(lane).unwrap();
    }

    pub fn fault(&self, faults: &[&str]) {
        self.faults.set(
            faults
                .iter()
                .map(|fault| fault.parse::<Fault>().unwrap())
                .collect(),
        );
    }

    pub async fn pass_with(&self, hook: SharedHook, clock: Arc<dyn Clock>) -> Result<Pass, Error> {
        let ledger = self.home.open_ledger()?;
        let stop = Stop::default();
        let lane = open_lane(
            &self.home,
            &self.config,
            &ledger,
            &self.config.lanes[0],
            &stop,
        )
        .await?;
        Ok(Pass {
            lane,
            ledger,
            clock,
            hook,
            stop,
            progress: Arc::new(Progress::default()),
            read: ReadFiles::default(),
        })
    }

    pub async fn pass(&self) -> Result<Pass, Error> {
        self.pass_with(Arc::new(NoHook), Arc::new(SystemClock))
            .await
    }

    pub async fn sync(&self) -> Result<Report, Error> {
        self.pass().await?.sync(&Wish::default()).await
    }

    pub async fn plan(&self) -> Result<Plan, Error> {
        self.pass().await?.plan(&Wish::default()).await
    }

    /// Finds out what the server can do, as adding an account does.
    pub async fn probe(&self) {
        self.knows(self.find().await).await;
    }

    /// Knows what a stand-in without faults can do; that is found out once for all worlds of a test program.
    pub async fn knows_the_stand_in(&self) {
        static FOUND: OnceCell<Findings> = OnceCell::const_new();
        let findings = FOUND.get_or_init(|| self.find()).await;
        self.knows(findings.clone()).await;
    }

    async fn find(&self) -> Findings {
        let account = &self.config.accounts[0];
        let connection = connection_of(&self.home, account).unwrap();
        let client = Client::new(connection.clone(), Stop::default()).unwrap();
        let survey = survey(&client, false).await.unwrap();
        let found = probe(
            &account.name,
            &connection.address,
            &client,
            &survey,
            &RelPath::root(),
        )
        .await;
        let Probed::Found(findings) = found.unwrap() else {
            panic!("it can be written to");
        };
        *findings
    }

    async fn knows(&self, findings: Findings) {
        let now = SystemClock.now();
        self.home
            .open_ledger()
            .unwrap()
            .write(move |connection| {
                account_rows::set_findings(connection, "archive", now, Some(&findings))?;
                account_rows::set_findings(connection, "office", now, Some(&findings))
            })
            .await
            .unwrap();
    }

    /// Syncs until nothing is left to do, at most a few times.
    pub async fn settle_down(&self) {
        for _ in 0..6 {
            self.sync().await.unwrap();
            if !self.plan().await.unwrap().has_work() {
                return;
            }
        }
        panic!(
            "six passes did not settle it: {:#?}",
            self.plan().await.unwrap().steps
        );
    }

    /// Every file's content anywhere: on both sides, in the near spares and the far ones.
    pub fn every_version(&self) -> BTreeSet<Vec<u8>> {
        let mut all = BTreeSet::new();
        for root in [
            &self.near,
            &self.far,
            &self.dir.path().join("home/lanes/1234567890abcdef/spares"),
            &self
                .dir
                .path()
                .join("home/lanes/1234567890abcdef/far/spares"),
        ] {
            collect(root, &mut |_, content| {
                all.insert(content);
            });
        }
        all
    }
}

/// A pass dies at a seam, at the time after so many that it is passed.
pub struct Death {
    at: Seam,
    countdown: AtomicUsize,
    died: Notify,
}

impl Death {
    pub fn at(at: Seam, time: usize) -> Arc<Death> {
        Arc::new(Death {
            at,
            countdown: AtomicUsize::new(time),
            died: Notify::new(),
        })
    }

    /// Runs a pass; whether it died.
    pub async fn meets(self: Arc<Death>, world: &World, wish: &Wish) -> bool {
        let hook = Arc::clone(&self) as SharedHook;
        self.is_met_by(world, hook, wish).await
    }

    /// The same, of a pass that tells its seams to a hook that tells this.
    pub async fn is_met_by(&self, world: &World, hook: SharedHook, wish: &Wish) -> bool {
        let pass = world.pass_with(hook, Arc::new(SystemClock)).await.unwrap();
        tokio::select! {
            result = pass.sync(wish) => { result.unwrap(); false }
            () = self.died.notified() => true,
        }
    }
}

#[async_trait]
impl Hook for Death {
    async fn at(&self, seam: Seam, _: Option<Side>, _: Option<&RelPath>) {
        if seam == self.at && self.countdown.fetch_sub(1, Ordering::SeqCst) == 0 {
            self.died.notify_one();
            std::future::pending::<()>().await;
        }
    }
}

pub fn write(root: &Path, at: &str, content: &str) {
    let file = root.join(at);
    fs::create_dir_all(file.parent().unwrap()).unwrap();
    fs::write(file, content).unwrap();
}

fn collect(root: &Path, each: &mut dyn FnMut(&Path, Vec<u8>)) {
    let Ok(entries) = fs::read_dir(root) else {
        return;
    };
    for entry in entries {
        let entry = entry.unwrap();
        let kind = entry.file_type().unwrap();
        if kind.is_dir() {
            collect(&entry.path(), each);
        } else if kind.is_file() {
            each(&entry.path(), fs::read(entry.path()).unwrap());
        }
    }
}

/// What lies below a root, folders as none, the tool's own folder left out.
pub fn tree(root: &Path) -> BTreeMap<String, Option<String>> {
    let mut found = BTreeMap::new();
    let mut folders = vec![root.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder).unwrap() {
            let entry = entry.unwrap();
            let name = entry
                .path()
                .strip_prefix(root)
                .unwrap()
                .to_string_lossy()
                .into_owned();
            if entry.file_name() == ".katabatic" {
                continue;
            }
            if entry.file_type().unwrap().is_dir() {
                found.insert(name, None);
                folders.push(entry.path());
            } else {
                let content = fs::read(entry.path()).unwrap();
                found.insert(name, Some(String::from_utf8_lossy(&content).into_owned()));
            }
        }
    }
    found
}
