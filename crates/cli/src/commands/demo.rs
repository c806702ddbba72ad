//! `demo`: a full example on sample data. It runs the program itself, as a technician would type it.

use std::io::{BufRead, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitCode, Stdio};

use katabatic_core::words::typed as quoted;
use katabatic_engine::Error;
use katabatic_engine::home::write_private;

use crate::args::{self, Common};
use crate::draw::line;
use crate::sample;

const PASSWORD: &str = "practice";

pub fn demo(common: &Common, typed: &args::Demo) -> Result<ExitCode, Error> {
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
        write_private(
            &dir.join("password.txt"),
            format!("{PASSWORD}\n").as_bytes(),
        )
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
            ])
            .current_dir(&dir)
            .stdout(Stdio::piped())
            .spawn()
            .map_err(|why| failed("starting the stand-in", why))?;
        let mut address = String::new();
        if let Some(out) = standin.stdout.take() {
            BufReader::new(out)
                .read_line(&mut address)
                .map_err(|why| failed("starting the stand-in", why))?;
        }
        let address = address.trim().to_owned();
        let demo = Demo {
            dir,
            program,
            standin,
            address,
        };
        if demo.address.is_empty() {
            return Err(failed("starting the stand-in", "it gave no address"));
        }
        Ok(demo)
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

        self.say("First the account: it is reached and signed in to before anything is saved.");
        let address = self.address.clone();
        self.run(
            &[
                "account",
                "add",
                "office",
                "--address",
                &address,
                "--user",
                "librarian",
                "--password-file",
                "password.txt",
            ],
            0,
        )?;
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
        self.say("Meanwhile a part was edited and one was added here; there the rota grew and the trumpet part was removed.");
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
        self.run(&["spares", "list"], 0)
    }

    fn say(&self, text: &str) {
        line("");
        line(format!("# {text}"));
    }

    fn run(&self, arguments: &[&str], expected: i32) -> Result<(), Error> {
        let typed: Vec<String> = arguments.iter().map(|argument| quoted(argument)).collect();
        line(format!("$ katabatic {}", typed.join(" ")));
        let status = Command::new(&self.program)
            .args(arguments)
            .current_dir(&self.dir)
            .env("KATABATIC_HOME", "home")
            .stdin(Stdio::null())
            .status()
            .map_err(|why| failed("running the program itself", why))?;
        if status.code() != Some(expected) {
            return Err(failed(
                &format!("the example's step `katabatic {}`", typed.join(" ")),
                format!("it ended with {status}, and {expected} was expected"),
            ));
        }
        Ok(())
    }

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
        line(format!("cd {}", quoted(&self.dir.to_string_lossy())));
        line(format!(
            "katabatic standin serve --data cloud --listen 127.0.0.1:{port} --user librarian:{PASSWORD}"
        ));
        line("# and in another:");
        line(format!("cd {}", quoted(&self.dir.to_string_lossy())));
        line("katabatic --home home status");
        line(format!("# katabatic here is {}", self.program.display()));
    }
}
