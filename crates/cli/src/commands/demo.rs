//! `demo`: a full example on sample data. It runs the program itself, as a technician would type it.

use crate::common::Common;
use clap::Args;
use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitCode, ExitStatus, Stdio};

use katabatic_core::words::{quoted, typed as typed_path};
use katabatic_engine::Error;

use crate::draw::line;
use crate::{sample, sample_person};

/// `demo`.
#[derive(Args, Debug)]
pub struct DemoArgs {
    /// Make the sample folders here; it must be empty or not exist
    #[arg(long, value_name = "DIR")]
    pub into: Option<PathBuf>,
}

const PASSWORD: &str = "practice";

pub fn demo(common: &Common, typed: &DemoArgs) -> Result<ExitCode, Error> {
    if common.json {
        return Err(Error::usage(
            "demo",
            "an example for people has no JSON",
            "Leave --json out.",
        ));
    }
    let dir = folder(typed.into.as_deref())?;
    let demo = Demo::prepare(dir)?;
    match demo.play() {
        Ok(()) => {
            demo.farewell();
            Ok(ExitCode::SUCCESS)
        }
        Err(error) => Err(error),
    }
}

/// The folder that was asked for, if it is empty; or a new one beside where we are.
fn folder(into: Option<&Path>) -> Result<PathBuf, Error> {
    let refused = |dir: &Path, why: String| {
        Error::usage(
            format!("making the example in {}", dir.display()),
            why,
            "Name another with --into DIR.",
        )
    };
    let empty = |dir: &Path| match std::fs::read_dir(dir) {
        Ok(mut entries) => Ok(entries.next().is_none()),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(true),
        Err(error) => Err(refused(dir, error.to_string())),
    };
    let dir = match into {
        Some(dir) if !empty(dir)? => return Err(refused(dir, "it exists and is not empty".into())),
        Some(dir) => dir.to_owned(),
        None => {
            let names = std::iter::once("katabatic-demo".to_owned())
                .chain((2..).map(|n| format!("katabatic-demo-{n}")));
            let mut free = names
                .take(1000)
                .map(PathBuf::from)
                .filter(|dir| !dir.exists());
            free.next().ok_or_else(|| {
                refused(
                    Path::new("katabatic-demo"),
                    "too many examples lie here".into(),
                )
            })?
        }
    };
    std::fs::create_dir_all(&dir).map_err(|why| refused(&dir, why.to_string()))?;
    dir.canonicalize()
        .map_err(|why| refused(&dir, why.to_string()))
}

struct Demo {
    dir: PathBuf,
    program: PathBuf,
    standin: Child,
    address: String,
    control: String,
}

impl Drop for Demo {
    fn drop(&mut self) {
        // It may have ended by itself already.
        let _ = self.standin.kill();
        let _ = self.standin.wait();
    }
}

fn failed(what: &str, why: impl std::fmt::Display) -> Error {
    Error::failed(what, why, "The folder is left as it is, to look at.")
}

impl Demo {
    fn prepare(dir: PathBuf) -> Result<Demo, Error> {
        let what = "preparing the example";
        sample::make(&dir.join("librarian"), &dir.join("cloud/librarian"))
            .map_err(|why| failed(what, why))?;
        let program = std::env::current_exe().map_err(|why| failed(what, why))?;
        let mut standin = Command::new(&program)
            .args([
                "standin",
                "serve",
                "--data",
                "cloud",
                "--user",
                &format!("librarian:{PASSWORD}"),
                "--second-step",
                "librarian",
                "--quota",
                "2000000000",
                "--control",
                "127.0.0.1:0",
            ])
            .current_dir(&dir)
            .stdout(Stdio::piped())
            .spawn()
            .map_err(|why| failed("starting the stand-in", why))?;
        let mut said = standin
            .stdout
            .take()
            .map(|out| BufReader::new(out).lines().map_while(Result::ok))
            .into_iter()
            .flatten();
        let address = said.next();
        let control = said.find_map(|line| Some(line.strip_prefix("control ")?.to_owned()));
        let (Some(address), Some(control)) = (address, control) else {
            return Err(failed("starting the stand-in", "it gave no address"));
        };
        Ok(Demo {
            dir,
            program,
            standin,
            address,
            control,
        })
    }

    fn play(&self) -> Result<(), Error> {
        let (computer, cloud) = (self.dir.join("librarian"), self.dir.join("cloud/librarian"));
        let what = "changing the sample files";
        line(format!(
            "The music office of a made-up orchestra, in {}:",
            self.dir.display()
        ));
        line(
            "  librarian/  is the computer of the librarian, cloud/ is what lies in the cloud, home/ is the tool's own.",
        );
        line(format!(
            "  A stand-in for the cloud answers at {}.",
            self.address
        ));

        self.say("First the account. The librarian signs in with a second step, so the technician gets a code and no password.");
        self.sign_in(&[
            "account",
            "add",
            "office",
            "--address",
            &self.address,
            "--secrets",
            "file",
        ])?;
        self.say("Is it really the right one, and does everything work?");
        self.run(&["account", "test", "office"], 0)?;
        self.say("Now the folder Scores is tied to the folder Scores in the cloud. Nothing is carried yet.");
        self.run(
            &[
                "lane",
                "add",
                "scores",
                "--near",
                "librarian/Scores",
                "--far",
                "@office/Scores",
            ],
            0,
        )?;
        self.say("What would the first pass do? One piece lies on both sides and is compared, not carried.");
        self.run(&["plan", "scores"], 0)?;
        self.say("The first pass.");
        self.run(&["sync", "scores"], 0)?;
        self.say("Where do the files stand?");
        self.run(&["status", "scores"], 0)?;

        sample::change(&computer, &cloud).map_err(|why| failed(what, why))?;
        self.say("Meanwhile a part was edited and one was added on the computer; in the cloud the rota grew and the trumpet part was removed.");
        self.run(&["plan", "scores"], 0)?;
        self.say("The pass carries that both ways. What it removes or replaces goes to the spares first.");
        self.run(&["sync", "scores"], 0)?;

        sample::clash(&computer, &cloud).map_err(|why| failed(what, why))?;
        self.say("Now the cello part was edited on both sides. The pass touches neither, and ends with exit code 3.");
        self.run(&["sync", "scores"], 3)?;
        self.say("Both versions, and the first line in which they differ.");
        self.run(&["conflicts", "scores"], 3)?;
        self.say("The cellos win. The other version is kept in the spares.");
        self.run(
            &[
                "settle",
                "librarian/Scores/Harbour Suite/Cello.txt",
                "--keep",
                "near",
            ],
            0,
        )?;
        self.say("All settled again; the same for one file, on both sides.");
        self.run(&["status", "scores"], 0)?;
        self.run(&["status", "librarian/Scores/Harbour Suite/Cello.txt"], 0)?;
        self.say("What the passes did.");
        self.run(&["runs", "scores"], 0)?;
        self.say("And what they removed or replaced, ready to be brought back.");
        self.run(&["spares", "list"], 0)?;
        self.choosing()?;
        self.covering()?;
        self.second_drive()?;
        self.braking(&computer)
    }

    fn choosing(&self) -> Result<(), Error> {
        self.say("The past seasons are for reading only: a lane that carries down, and never writes to the cloud.");
        self.run(
            &[
                "lane",
                "add",
                "archive",
                "--near",
                "librarian/Archive",
                "--far",
                "@office/Past seasons",
                "--make",
                "--direction",
                "down",
            ],
            0,
        )?;
        self.run(&["sync", "archive"], 0)?;
        self.say("\"My disk is full.\" Which folders come down, and how large are they?");
        self.run(&["choose", "archive"], 0)?;
        self.say("The first season is dropped from the computer. Every file of it is proven to be in the cloud before it goes.");
        self.run(&["choose", "archive", "--skip", "Season 1", "--yes"], 0)?;
        self.run(&["choose", "archive"], 0)?;
        self.run(&["lane", "show", "archive"], 0)
    }

    fn covering(&self) -> Result<(), Error> {
        self.say("\"Is it all in the cloud?\" The standard folders of the librarian.");
        self.run(&["cover"], 0)?;
        self.say("Three of them get a lane each, below a folder of this computer's own.");
        self.run(
            &[
                "cover",
                "desktop",
                "documents",
                "pictures",
                "--as",
                "music-desk",
                "--under",
                "Computers",
                "--yes",
            ],
            0,
        )?;
        self.run(&["sync", "desktop", "documents", "pictures"], 0)?;
        self.run(&["cover"], 0)
    }

    fn second_drive(&self) -> Result<(), Error> {
        self.say("The recordings go to a second drive as well. What is removed on the computer stays on the drive.");
        self.run(
            &[
                "lane",
                "add",
                "stick",
                "--near",
                "librarian/Recordings",
                "--far",
                "stick/Recordings",
                "--make",
                "--direction",
                "up",
            ],
            0,
        )?;
        self.run(&["sync", "stick"], 0)
    }

    fn braking(&self, computer: &Path) -> Result<(), Error> {
        let what = "moving the sample files";
        sample::misplace(computer).map_err(|why| failed(what, why))?;
        self.say("Somebody drags two pieces out of Scores, by mistake. The brake stops the pass before anything is removed.");
        self.run(&["sync", "scores"], 4)?;
        sample::put_back(computer).map_err(|why| failed(what, why))?;
        self.say("They are put back, and nothing has to be carried.");
        self.run(&["sync", "scores"], 0)
    }

    fn say(&self, text: &str) {
        line("");
        line(format!("# {text}"));
    }

    fn command(&self, arguments: &[&str]) -> Command {
        let typed: Vec<String> = arguments.iter().map(|argument| quoted(argument)).collect();
        line(format!("$ katabatic {}", typed.join(" ")));
        let mut command = Command::new(&self.program);
        command
            .args(arguments)
            .current_dir(&self.dir)
            .env("KATABATIC_HOME", "home")
            .env("HOME", self.dir.join("librarian"))
            .env_remove("XDG_CONFIG_HOME")
            .stdin(Stdio::null());
        command
    }

    /// Runs a command that shows a code to type, and types it on the other device.
    fn sign_in(&self, arguments: &[&str]) -> Result<(), Error> {
        let what = "signing in to the example's account";
        let mut child = self
            .command(arguments)
            .stdout(Stdio::piped())
            .spawn()
            .map_err(|why| failed("running the program itself", why))?;
        let said = child.stdout.take().map(BufReader::new);
        for said in said.into_iter().flat_map(BufRead::lines) {
            let said = said.map_err(|why| failed(what, why))?;
            line(&said);
            let Some(code) = said.trim().strip_prefix("type  ") else {
                continue;
            };
            sample_person::let_in(&self.address, &self.control, code, "librarian", PASSWORD)
                .map_err(|why| failed(what, why))?;
        }
        let status = child.wait().map_err(|why| failed(what, why))?;
        check(arguments, status, 0)
    }

    fn run(&self, arguments: &[&str], expected: i32) -> Result<(), Error> {
        let status = self
            .command(arguments)
            .status()
            .map_err(|why| failed("running the program itself", why))?;
        check(arguments, status, expected)
    }
}

fn check(arguments: &[&str], status: ExitStatus, expected: i32) -> Result<(), Error> {
    if status.code() != Some(expected) {
        return Err(failed(
            &format!("the example's step `katabatic {}`", arguments.join(" ")),
            format!("it ended with {status}, and {expected} was expected"),
        ));
    }
    Ok(())
}

impl Demo {
    fn farewell(&self) {
        let port = self
            .address
            .trim_end_matches('/')
            .rsplit(':')
            .next()
            .unwrap_or("0")
            .to_owned();
        line("");
        line(
            "# Every step ended as it should. To go on by hand, in one terminal start the stand-in again:",
        );
        line(format!("cd {}", typed_path(&self.dir.to_string_lossy())));
        line(format!(
            "katabatic standin serve --data cloud --listen 127.0.0.1:{port} --user librarian:{PASSWORD} --second-step librarian"
        ));
        line("# and in another:");
        line(format!("cd {}", typed_path(&self.dir.to_string_lossy())));
        line("katabatic --home home status");
        line(format!("# katabatic here is {}", self.program.display()));
    }
}
