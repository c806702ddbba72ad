//! `tell`: whom the agent tells what happened, and how.

use clap::Args;
use std::path::PathBuf;
use std::process::ExitCode;

use katabatic_agent as agent;
use katabatic_core::telling::{Kind, QuietHours};
use katabatic_engine::config::{TellConfig, Way};
use katabatic_engine::{Class, Error};
use serde_json::{Value, json};
use url::Url;

use crate::app::App;
use crate::draw::{field, json, line, shown_text};

/// `tell`.
#[derive(Args, Debug, Default, PartialEq)]
pub struct TellArgs {
    /// On the desktop of the person: of success, changes, problem, with commas between them; none for no more
    #[arg(long, value_name = "KINDS|none", value_delimiter = ',')]
    pub desktop: Vec<String>,
    /// By a program, which gets the message as JSON on its standard input
    #[arg(long, value_name = "FILE|none")]
    pub program: Option<String>,
    /// What the program is told of
    #[arg(long, value_name = "KINDS", value_delimiter = ',')]
    pub program_for: Vec<String>,
    /// By a request to an address, with the message as JSON
    #[arg(long, value_name = "URL|none")]
    pub address: Option<String>,
    /// What the address is told of
    #[arg(long, value_name = "KINDS", value_delimiter = ',')]
    pub address_for: Vec<String>,
    /// By a mail that is laid into a folder, for whatever sends mails to send it on
    #[arg(long, value_name = "DIR|none")]
    pub mail_folder: Option<String>,
    /// What mails are about
    #[arg(long, value_name = "KINDS", value_delimiter = ',')]
    pub mail_for: Vec<String>,
    /// When nothing is told; what happens then is told when they end
    #[arg(long, value_name = "HH:MM-HH:MM|none")]
    pub quiet_hours: Option<String>,
    /// Tell something now over every way that is set
    #[arg(long)]
    pub test: bool,
}

pub fn tell(app: &App, typed: &TellArgs) -> Result<ExitCode, Error> {
    let mut config = app.config.clone();
    let tell = meant(typed, &config.tell)?;
    if tell != config.tell {
        config.set_tell(tell.clone())?;
    }
    let tried = match typed.test {
        true => app.run(agent::try_telling(&tell)),
        false => Vec::new(),
    };
    if app.common.json {
        let tried = tried.iter().map(
            |(way, told)| json!({"way": way, "told": told.is_ok(), "why": told.as_ref().err()}),
        );
        json::print(&json!({"tell": described(&tell), "tried": tried.collect::<Vec<_>>()}));
    } else {
        say(app, &tell);
        for (way, told) in &tried {
            match told {
                Ok(()) => field(app.style, "told", way),
                Err(why) => field(
                    app.style,
                    "NOT told",
                    &format!("{way}: {}", shown_text(why)),
                ),
            }
        }
    }
    match tried.iter().all(|(_, told)| told.is_ok()) {
        true => Ok(ExitCode::SUCCESS),
        false => Err(Error::new(
            Class::Failed,
            "telling something as a test",
            "not every way worked, as said above",
            "Mend it, and try again: katabatic tell --test",
        )),
    }
}

fn kinds(option: &str, typed: &[String]) -> Result<Vec<Kind>, Error> {
    let read = |word: &String| {
        Kind::parse(word.trim()).ok_or_else(|| {
            Error::usage(
                format!("{option} {word}"),
                "that is nothing that is told",
                "There are success, changes and problem, with commas between them.",
            )
        })
    };
    typed.iter().map(read).collect()
}

/// One way as it was typed over what was so far.
fn way<T: Clone + PartialEq>(
    option: &str,
    (to, typed): (Option<&String>, &[String]),
    so_far: &Option<Way<T>>,
    read: impl Fn(&str) -> Result<T, Error>,
) -> Result<Option<Way<T>>, Error> {
    let to = match to.map(String::as_str) {
        Some("none") => return Ok(None),
        Some(text) => Some(read(text)?),
        None => so_far.as_ref().map(|way| way.to.clone()),
    };
    let Some(to) = to else {
        return match typed.is_empty() {
            true => Ok(None),
            false => Err(Error::usage(
                format!("{option}-for"),
                format!("there is no {option} yet"),
                format!("Say it, too: {option} …"),
            )),
        };
    };
    let kinds = match (typed.is_empty(), so_far) {
        (false, _) => kinds(&format!("{option}-for"), typed)?,
        (true, Some(way)) => way.kinds.clone(),
        (true, None) => vec![Kind::Problem],
    };
    Ok(Some(Way { to, kinds }))
}

fn meant(typed: &TellArgs, so_far: &TellConfig) -> Result<TellConfig, Error> {
    let desktop = match typed.desktop.as_slice() {
        [] => so_far.desktop.clone(),
        [none] if none == "none" => None,
        words => Some(Way {
            to: (),
            kinds: kinds("--desktop", words)?,
        }),
    };
    let path = |text: &str| {
        let path = PathBuf::from(text);
        std::path::absolute(&path)
            .ok()
            .filter(|path| path.exists())
            .ok_or_else(|| Error::usage(text, "it is not there", "Make it first."))
    };
    let url = |text: &str| {
        Url::parse(text)
            .ok()
            .filter(|url| matches!(url.scheme(), "http" | "https"))
            .ok_or_else(|| {
                Error::usage(
                    format!("the address {text}"),
                    "it is none",
                    "Write it as https://…",
                )
            })
    };
    Ok(TellConfig {
        desktop,
        program: way(
            "--program",
            (typed.program.as_ref(), &typed.program_for),
            &so_far.program,
            path,
        )?,
        address: way(
            "--address",
            (typed.address.as_ref(), &typed.address_for),
            &so_far.address,
            url,
        )?,
        mail_folder: way(
            "--mail-folder",
            (typed.mail_folder.as_ref(), &typed.mail_for),
            &so_far.mail_folder,
            path,
        )?,
        quiet_hours: match typed.quiet_hours.as_deref() {
            None => so_far.quiet_hours,
            Some("none") => None,
            Some(text) => Some(
                QuietHours::parse(text)
                    .map_err(|why| Error::usage("--quiet-hours", why, "`none` lifts them."))?,
            ),
        },
    })
}

fn words(kinds: &[Kind]) -> String {
    let words: Vec<&str> = kinds.iter().map(|kind| kind.word()).collect();
    words.join(", ")
}

fn say(app: &App, tell: &TellConfig) {
    let none = TellConfig {
        quiet_hours: tell.quiet_hours,
        ..TellConfig::default()
    };
    if *tell == none {
        line("Nobody is told what happens; katabatic status and katabatic watch show it.");
        line("  Next: katabatic tell --desktop problem, or --program, --address, --mail-folder");
        return;
    }
    line("The agent tells what happens, at most four times an hour each way, the rest as one:");
    let way = |name: &str, to: &str, kinds: &[Kind]| {
        let to = match to {
            "" => String::new(),
            to => format!("{}, ", shown_text(to)),
        };
        field(app.style, name, &format!("{to}of {}", words(kinds)));
    };
    if let Some(desktop) = &tell.desktop {
        way("desktop", "", &desktop.kinds);
    }
    if let Some(program) = &tell.program {
        way("program", &program.to.display().to_string(), &program.kinds);
    }
    if let Some(address) = &tell.address {
        way("address", host(&address.to), &address.kinds);
    }
    if let Some(mail) = &tell.mail_folder {
        way("mail", &mail.to.display().to_string(), &mail.kinds);
    }
    if let Some(hours) = tell.quiet_hours {
        field(
            app.style,
            "quiet",
            &format!("{hours}; what happens then is told when they end"),
        );
    }
    if tell.desktop.is_some() || tell.program.is_some() {
        line("To see that it works: katabatic tell --test");
    }
}

/// What is after the host of such an address is often a secret.
fn host(address: &Url) -> &str {
    address.host_str().unwrap_or_default()
}

fn described(tell: &TellConfig) -> Value {
    let words = |kinds: &[Kind]| kinds.iter().map(|kind| kind.word()).collect::<Vec<_>>();
    json!({
        "desktop": tell.desktop.as_ref().map(|way| json!({"for": words(&way.kinds)})),
        "program": tell.program.as_ref().map(|way| json!({"file": way.to.display().to_string(), "for": words(&way.kinds)})),
        "address": tell.address.as_ref().map(|way| json!({"host": host(&way.to), "for": words(&way.kinds)})),
        "mail": tell.mail_folder.as_ref().map(|way| json!({"folder": way.to.display().to_string(), "for": words(&way.kinds)})),
        "quiet_hours": tell.quiet_hours.map(|hours| hours.to_string()),
    })
}
