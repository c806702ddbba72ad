//! A lane in a temporary folder, tied to a stand-in with habits; and somebody else who writes in the same account.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::{fs, io};

use katabatic_core::findings::Findings;
use katabatic_core::place::Place;
use katabatic_core::{Agreement, RelPath};
use katabatic_engine::config::{AccountConfig, Config, LaneConfig};
use katabatic_engine::open::{connection_of, open_lane};
use katabatic_engine::pass::{Pass, Progress, ReadFiles};
use katabatic_engine::seam::{NoHook, SharedHook};
use katabatic_engine::{Error, Home, secrets};
use katabatic_ledger::{account_rows, rows};
use katabatic_sides::clock::{Clock, SystemClock};
use katabatic_sides::is_own;
use katabatic_sides::probe::{Probed, probe};
use katabatic_sides::secret::{Keeping, Secret};
use katabatic_sides::stop::Stop;
use katabatic_sides::webdav::{Client, survey};
use katabatic_standin::{Config as Standin, Fault, Faults, Running, User, start};

/// Whatever ended the trial that is not the program's fault.
pub(super) type Broken = Box<dyn std::error::Error + Send + Sync>;

const FOLDER: &str = "Scores";

/// So often is a version looked for before it counts as lost.
const LOOKS: u32 = 5;

pub(super) struct Desk {
    room: tempfile::TempDir,
    pub(super) near: PathBuf,
    /// The same folder as the server has it on its disk.
    pub(super) far: PathBuf,
    faults: Arc<Faults>,
    habits: Vec<Fault>,
    _standin: Running,
    home: Home,
    config: Config,
    /// Somebody else, who meets no habit.
    stranger: Client,
    /// Every version that anybody wrote.
    written: BTreeSet<Vec<u8>>,
}

impl Desk {
    pub(super) async fn new(habits: &[&str], seed: u64) -> Result<Desk, Broken> {
        let room = tempfile::tempdir()?;
        let near = room.path().join("near");
        let data = room.path().join("cloud");
        let far = data.join("librarian").join(FOLDER);
        fs::create_dir_all(&near)?;
        fs::create_dir_all(&far)?;
        let faults = Arc::new(Faults::new(Vec::new(), seed));
        let standin = start(Standin {
            users: vec![User::new("librarian", "secret")?],
            faults: Arc::clone(&faults),
            ..Standin::new(&data)
        })
        .await?;
        let home = Home::under(&room.path().join("home"))?;
        let mut config = Config::read(&home)?;
        secrets::keep(
            &home,
            "office",
            Keeping::File,
            &Secret::new("secret".into()),
        )?;
        config.add_account(AccountConfig::new("office", &standin.url(), "librarian"))?;
        config.add_lane(LaneConfig::new(
            "scores",
            "1234567890abcdef",
            Place::Local(near.canonicalize()?),
            Place::Far {
                account: "office".into(),
                path: RelPath::parse(FOLDER)?,
            },
        ))?;
        let stranger = Client::new(connection_of(&home, &config.accounts[0])?, Stop::default())?;
        let habits = habits
            .iter()
            .map(|habit| habit.parse())
            .collect::<Result<Vec<Fault>, _>>()?;
        faults.set(habits.clone());
        Ok(Desk {
            room,
            near,
            far,
            faults,
            habits,
            _standin: standin,
            home,
            config,
            stranger,
            written: BTreeSet::new(),
        })
    }

    /// What adding the account finds out; the words of why not, where it does not.
    pub(super) async fn probe(&self) -> Result<Result<Option<Findings>, String>, Broken> {
        let account = &self.config.accounts[0];
        let connection = connection_of(&self.home, account)?;
        let client = Client::new(connection.clone(), Stop::default())?;
        let survey = match survey(&client, false).await {
            Ok(survey) => survey,
            Err(why) => return Ok(Err(why.to_string())),
        };
        let mut findings = None;
        // Where nothing may be made at the top, somebody names a folder.
        for within in [RelPath::root(), RelPath::parse(FOLDER)?] {
            let (name, address) = (&account.name, &connection.address);
            match probe(name, address, &client, &survey, &within).await {
                Ok(Probed::Found(found)) => findings = Some(*found),
                Ok(Probed::NotWritable(_)) => continue,
                Err(why) => return Ok(Err(why.why)),
            }
            break;
        }
        let (kept, now) = (findings.clone(), SystemClock.now());
        self.home
            .open_ledger()?
            .write(move |connection| {
                account_rows::set_findings(connection, "office", now, kept.as_ref())
            })
            .await?;
        Ok(Ok(findings))
    }

    pub(super) async fn pass_with(&self, hook: SharedHook) -> Result<Pass, Error> {
        let ledger = self.home.open_ledger()?;
        let stop = Stop::default();
        let lane = &self.config.lanes[0];
        let lane = open_lane(&self.home, &self.config, &ledger, lane, &stop).await?;
        Ok(Pass {
            lane,
            ledger,
            clock: Arc::new(SystemClock),
            hook,
            stop,
            progress: Arc::new(Progress::default()),
            read: ReadFiles::default(),
        })
    }

    pub(super) async fn pass(&self) -> Result<Pass, Error> {
        self.pass_with(Arc::new(NoHook)).await
    }

    /// Other faults come to the habits, or none.
    pub(super) fn also(&self, faults: &[&str]) -> Result<(), Broken> {
        let mut all = self.habits.clone();
        for fault in faults {
            all.push(fault.parse()?);
        }
        self.faults.set(all);
        Ok(())
    }

    /// The person here writes a file.
    pub(super) fn write(&mut self, at: &str, content: &[u8]) -> Result<(), Broken> {
        let file = self.near.join(at);
        if let Some(above) = file.parent() {
            fs::create_dir_all(above)?;
        }
        let before = fs::read(&file).ok();
        fs::write(file, content)?;
        self.written.insert(content.to_vec());
        self.wrote_over(before)
    }

    /// Somebody else does something in the account, without meeting a habit.
    pub(super) async fn elsewhere(
        &mut self,
        method: &str,
        at: &str,
        content: Option<&'static [u8]>,
    ) -> Result<(), Broken> {
        let before = fs::read(self.far.join(at)).ok();
        self.faults.set(Vec::new());
        let path = RelPath::parse(&format!("{FOLDER}/{at}"))?;
        let url = self.stranger.url(&path, method == "MKCOL");
        let done = self.stranger.expect(method, url, content).await;
        self.faults.set(self.habits.clone());
        done?;
        self.written.extend(content.map(<[u8]>::to_vec));
        self.wrote_over(before)
    }

    /// What somebody destroyed by writing over its last copy is nobody else's loss.
    fn wrote_over(&mut self, before: Option<Vec<u8>>) -> Result<(), Broken> {
        if let Some(before) = before
            && !self.there()?.contains(&before)
        {
            self.written.remove(&before);
        }
        Ok(())
    }

    /// Every version that is anywhere.
    fn there(&self) -> Result<BTreeSet<Vec<u8>>, Broken> {
        let mut there = BTreeSet::new();
        collect(self.room.path(), &mut |content| {
            there.insert(content);
        })?;
        Ok(there)
    }

    /// The paths that are told to need somebody, and what is said of each.
    pub(super) fn told(pass: &Pass) -> Result<BTreeMap<String, (Agreement, String)>, Broken> {
        let mut told = BTreeMap::new();
        pass.ledger.read(|connection| {
            rows::each_row(connection, pass.lane.row.key, &RelPath::root(), |row| {
                if let Some((state, why)) = row.open {
                    told.insert(row.path.to_string(), (state, why));
                }
                true
            })
        })?;
        Ok(told)
    }

    /// Versions that somebody wrote and that are nowhere any more.
    ///
    /// A request of a pass that died may move a file while it is looked for: from a folder that is not read yet into one
    /// that was. So what is missed is looked for again, and only what no look finds is lost.
    pub(super) fn lost(&self) -> Result<Vec<String>, Broken> {
        let mut lost: Vec<&Vec<u8>> = self.written.iter().collect();
        for _ in 0..LOOKS {
            let there = self.there()?;
            lost.retain(|content| !there.contains(*content));
            if lost.is_empty() {
                break;
            }
        }
        Ok(lost
            .into_iter()
            .map(|content| {
                let shown = &content[..content.len().min(40)];
                String::from_utf8_lossy(shown).into_owned()
            })
            .collect())
    }
}

fn collect(folder: &Path, each: &mut dyn FnMut(Vec<u8>)) -> io::Result<()> {
    // The ledger's own files come and go.
    let gone = |error: &io::Error| error.kind() == io::ErrorKind::NotFound;
    let entries = match fs::read_dir(folder) {
        Err(error) if gone(&error) => return Ok(()),
        entries => entries?,
    };
    for entry in entries {
        let entry = entry?;
        let kind = match entry.file_type() {
            Err(error) if gone(&error) => continue,
            kind => kind?,
        };
        // What is on its way is no version that anybody could have back.
        if kind.is_dir() && entry.file_name() == "staging" {
            continue;
        }
        if kind.is_dir() {
            collect(&entry.path(), each)?;
        } else if kind.is_file() {
            match fs::read(entry.path()) {
                Ok(content) => each(content),
                // A stub of root's.
                Err(error) if gone(&error) || error.kind() == io::ErrorKind::PermissionDenied => {}
                Err(error) => return Err(error),
            }
        }
    }
    Ok(())
}

/// What lies below a root, folders as none, the tool's own folders left out.
pub(super) fn tree(root: &Path) -> io::Result<BTreeMap<String, Option<Vec<u8>>>> {
    let mut found = BTreeMap::new();
    let mut folders = vec![root.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder)? {
            let entry = entry?;
            if entry.file_name().to_str().is_some_and(is_own) {
                continue;
            }
            let path = entry.path();
            let name = path.strip_prefix(root).unwrap_or(&path);
            let name = name.to_string_lossy().into_owned();
            if entry.file_type()?.is_dir() {
                found.insert(name, None);
                folders.push(path);
            } else {
                found.insert(name, Some(fs::read(&path)?));
            }
        }
    }
    Ok(found)
}
