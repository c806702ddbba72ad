//! `standin serve`: the simulated cloud, until it is stopped.

use crate::common::Common;
use crate::lasting::{Unit, lasting};
use clap::Args;
use clap::Subcommand;
use std::fmt::Write as _;
use std::path::PathBuf;
use std::process::ExitCode;
use std::str::FromStr;
use std::sync::Arc;
use std::time::Duration;

use katabatic_engine::Error;
use katabatic_standin::{Config, FAULTS, Fault, Faults, GrantConfig, User, habits};
use serde_json::json;

use crate::app;
use crate::draw::{json, line};
use crate::signals::Signals;

/// `standin …`.
#[derive(Debug, Subcommand)]
pub enum StandinCommand {
    /// Serve until stopped with Ctrl-C; the first line is the address
    Serve(StandinServeArgs),
}

/// `standin serve`.
#[derive(Args, Debug)]
#[command(after_long_help = crate::commands::standin::faults_help())]
pub struct StandinServeArgs {
    /// Where the files lie, one folder a user
    #[arg(long, value_name = "DIR")]
    pub data: PathBuf,
    /// Where to listen; port 0 takes a free one
    #[arg(long, default_value = "127.0.0.1:0", value_name = "ADDRESS")]
    pub listen: std::net::SocketAddr,
    /// Somebody with an account [default: librarian:practice]
    #[arg(long = "user", value_name = "NAME:PASSWORD")]
    pub users: Vec<String>,
    /// This user signs in with a one-time code too
    #[arg(long = "second-step", value_name = "NAME")]
    pub second_steps: Vec<String>,
    /// A password of this user for one program, without a second step
    #[arg(long = "app-password", value_name = "NAME:PASSWORD")]
    pub app_passwords: Vec<String>,
    /// The account behind this user's sign-in is another one
    #[arg(long = "principal", value_name = "NAME:ACCOUNT")]
    pub principals: Vec<String>,
    /// Several users under one name
    #[arg(long = "group", value_name = "NAME=USER,USER")]
    pub groups: Vec<String>,
    /// A folder that several users see; `:read` after a name may look only
    #[arg(long = "share", value_name = "FOLDER=WHO,WHO:read")]
    pub shares: Vec<String>,
    /// Make each user's files and each shared folder a root of its own
    #[arg(long)]
    pub several_roots: bool,
    /// The most bytes a user may keep
    #[arg(long, value_name = "BYTES")]
    pub quota: Option<u64>,
    /// Speak TLS, with a certificate of its own making
    #[arg(long)]
    pub tls: bool,
    /// Offer no device grant: names and passwords only
    #[arg(long)]
    pub no_device_grant: bool,
    /// How long a code can be typed
    #[arg(long, default_value = "10m", value_name = "TIME", value_parser = lasting(Unit::Seconds, 1..=86_400))]
    pub code_lasts: u64,
    /// How long an access token is good
    #[arg(long, default_value = "1h", value_name = "TIME", value_parser = lasting(Unit::Seconds, 1..=31_536_000))]
    pub token_lasts: u64,
    /// Where to listen for changes of the faults, such as 127.0.0.1:0
    #[arg(long, value_name = "ADDRESS")]
    pub control: Option<std::net::SocketAddr>,
    /// A fault, such as busy=0.2 or hide-dots; --help lists all
    #[arg(long = "fault", value_name = "FAULT")]
    pub faults: Vec<String>,
    /// The seed the faults are drawn from
    #[arg(long, default_value_t = 1)]
    pub seed: u64,
}

pub fn standin(common: &Common, standin: &StandinCommand) -> Result<ExitCode, Error> {
    let StandinCommand::Serve(serve) = standin;
    let config = config(serve)?;
    let names: Vec<String> = config.users.iter().map(|user| user.name.clone()).collect();
    app::runtime()?.block_on(async {
        let mut signals = Signals::listen()
            .map_err(|why| Error::failed("starting the stand-in", why, "Try again."))?;
        let running = katabatic_standin::start(config).await.map_err(|why| {
            Error::failed(
                "starting the stand-in",
                why,
                "Choose another folder or address; port 0 takes a free one.",
            )
        })?;
        // Scripts read the first line for the address: it is printed only once the server listens.
        let files = |name: &String| running.files_of(name).display().to_string();
        let authority = running.authority().map(|file| file.display().to_string());
        if common.json {
            let users: Vec<_> = names
                .iter()
                .map(|name| json!({"name": name, "files": files(name)}))
                .collect();
            let answer = json!({
                "address": running.url(),
                "users": users,
                "control": running.control(),
                "authority": authority,
            });
            json::print(&answer);
        } else {
            line(running.url());
            names
                .iter()
                .for_each(|name| line(format!("{name} {}", files(name))));
            if let Some(control) = running.control() {
                line(format!("control {control}"));
            }
            if let Some(authority) = authority {
                line(format!("authority {authority}"));
            }
        }
        tokio::select! {
            () = running.wait() => {}
            () = signals.next() => {}
        }
        Ok(ExitCode::SUCCESS)
    })
}

/// All faults, for the help.
pub fn faults_help() -> String {
    let mut help = String::from("Faults (a SHARE of all requests is a number from 0 to 1):\n");
    let mut say = |fault: &str, meaning: &str| {
        let _ = if fault.len() > 24 {
            writeln!(help, "  {fault}\n{:28}{meaning}", "")
        } else {
            writeln!(help, "  {fault:<26}{meaning}")
        };
    };
    for (name, value, meaning) in FAULTS {
        say(&format!("{name}={value}"), meaning);
    }
    for (name, meaning) in habits() {
        say(name, meaning);
    }
    help
}

const NEXT: &str = "See katabatic standin serve --help.";

fn config(serve: &StandinServeArgs) -> Result<Config, Error> {
    let faults = parsed::<Fault>("the faults of the stand-in", &serve.faults)?;
    let data = std::path::absolute(&serve.data).unwrap_or_else(|_| serve.data.clone());
    Ok(Config {
        listen: serve.listen,
        users: users(serve)?,
        groups: parsed("the groups of the stand-in", &serve.groups)?,
        shares: parsed("the shared folders of the stand-in", &serve.shares)?,
        several_roots: serve.several_roots,
        quota: serve.quota,
        tls: serve.tls,
        grant: GrantConfig {
            offered: !serve.no_device_grant,
            code_lasts: Duration::from_secs(serve.code_lasts),
            token_lasts: Duration::from_secs(serve.token_lasts),
            ..GrantConfig::default()
        },
        control: serve.control,
        faults: Arc::new(Faults::new(faults, serve.seed)),
        ..Config::new(&data)
    })
}

fn parsed<T: FromStr<Err: std::fmt::Display>>(
    what: &str,
    typed: &[String],
) -> Result<Vec<T>, Error> {
    typed
        .iter()
        .map(|text| text.parse())
        .collect::<Result<_, _>>()
        .map_err(|why: T::Err| Error::usage(what, why.to_string(), NEXT))
}

fn users(serve: &StandinServeArgs) -> Result<Vec<User>, Error> {
    let what = "the users of the stand-in";
    // A password given here is one of the stand-in's own, made up for practice; it still is not repeated in errors.
    let mut users: Vec<User> = if serve.users.is_empty() {
        parsed(what, &["librarian:practice".to_owned()])?
    } else {
        parsed(what, &serve.users)?
    };
    let missing = |name: &str| Error::usage(what, format!("there is no user {name}"), NEXT);
    let split = |text: &str| {
        text.split_once(':')
            .map(|(name, rest)| (name.to_owned(), rest.to_owned()))
            .ok_or_else(|| Error::usage(what, "NAME: and more was expected", NEXT))
    };
    let mut change = |name: &str, change: &dyn Fn(User) -> User| {
        let user = users
            .iter_mut()
            .find(|user| user.name == name)
            .ok_or_else(|| missing(name))?;
        *user = change(user.clone());
        Ok::<_, Error>(())
    };
    for name in &serve.second_steps {
        change(name, &User::with_second_step)?;
    }
    for text in &serve.app_passwords {
        let (name, password) = split(text)?;
        change(&name, &|user| user.with_app_password(&password))?;
    }
    for text in &serve.principals {
        let (name, principal) = split(text)?;
        change(&name, &|user| user.with_principal(&principal))?;
    }
    Ok(users)
}
