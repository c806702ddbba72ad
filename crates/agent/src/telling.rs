//! Tells people what happened: on their desktop, by a program, by a request, by a mail laid into a folder.
//!
//! What is told, and when, is the core's to decide (`telling`); here it goes out. A way that does not work is no reason
//! to stop: it is noted in the log, and `agent status` goes on to say what is wrong.

use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

use jiff::Zoned;
use katabatic_core::telling::{Kind, Message, Messenger};
use katabatic_core::words;
use serde_json::json;
use tokio::io::AsyncWriteExt;
use tokio::sync::mpsc;
use url::Url;

use super::surroundings::show_on_desktop;
use katabatic_engine::config::TellConfig;
use katabatic_sides::net::Line;

/// A program or a server that takes longer than this to be told is left.
const PATIENCE: Duration = Duration::from_secs(30);

/// What is to be told.
#[derive(Debug)]
pub(super) enum Word {
    /// This happened.
    Happened(Message),
    /// People are told otherwise from now on.
    Config(Box<TellConfig>),
}

/// One way of telling.
#[derive(Clone)]
enum Way {
    Desktop,
    Program(std::path::PathBuf),
    Address(Url),
    Mail(std::path::PathBuf),
}

struct Ways(Vec<(Way, Messenger)>);

impl Ways {
    fn of(config: &TellConfig) -> Ways {
        let quiet = config.quiet_hours;
        let mut ways = Vec::new();
        let mut add = |way: Way, kinds: &[_]| {
            ways.push((way, Messenger::new(kinds.to_vec(), quiet)));
        };
        if let Some(way) = &config.desktop {
            add(Way::Desktop, &way.kinds);
        }
        if let Some(way) = &config.program {
            add(Way::Program(way.to.clone()), &way.kinds);
        }
        if let Some(way) = &config.address {
            add(Way::Address(way.to.clone()), &way.kinds);
        }
        if let Some(way) = &config.mail_folder {
            add(Way::Mail(way.to.clone()), &way.kinds);
        }
        Ways(ways)
    }

    async fn tell_what_is_due(&mut self) {
        let now = Zoned::now();
        for (way, messenger) in &mut self.0 {
            if let Some(message) = messenger.take(&now)
                && let Err(why) = send(way, &message).await
            {
                tracing::warn!("{way} could not be told {:?}: {why}", message.title);
            }
        }
    }

    fn due(&self, now: &Zoned) -> Option<Duration> {
        let due = self
            .0
            .iter()
            .filter_map(|(_, messenger)| messenger.due(now));
        let left = due.min()?.duration_since(now);
        Some(Duration::try_from(left).unwrap_or_default())
    }
}

/// Tells for as long as anything may happen.
pub(super) async fn tell(config: TellConfig, mut words: mpsc::UnboundedReceiver<Word>) {
    let mut ways = Ways::of(&config);
    loop {
        let waits = ways.due(&Zoned::now());
        let due = async {
            match waits {
                Some(left) => tokio::time::sleep(left).await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            word = words.recv() => match word {
                Some(Word::Happened(message)) => {
                    for (_, messenger) in &mut ways.0 {
                        messenger.hear(message.clone());
                    }
                }
                Some(Word::Config(config)) => ways = Ways::of(&config),
                // What may be told now is told; the rest stands in the runs.
                None => return ways.tell_what_is_due().await,
            },
            () = due => ways.tell_what_is_due().await,
        }
    }
}

/// Tells something at once over every way that is set, as a test; how each went.
pub async fn try_telling(config: &TellConfig) -> Vec<(String, Result<(), String>)> {
    let message = Message {
        kind: Kind::Success,
        lane: String::new(),
        title: "katabatic: a test".into(),
        text: "This way of telling works.".into(),
    };
    let mut tried = Vec::new();
    for (way, _) in Ways::of(config).0 {
        tried.push((way.to_string(), send(&way, &message).await));
    }
    tried
}

impl std::fmt::Display for Way {
    fn fmt(&self, out: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Way::Desktop => out.write_str("the desktop"),
            Way::Program(program) => write!(out, "{}", program.display()),
            // What is after the host of such an address is often a secret.
            Way::Address(address) => out.write_str(address.host_str().unwrap_or("the address")),
            Way::Mail(folder) => write!(out, "{}", folder.display()),
        }
    }
}

async fn send(way: &Way, message: &Message) -> Result<(), String> {
    let urgent = message.kind == Kind::Problem;
    // A name is part of it, and nothing in one acts on what shows it.
    let message = &Message {
        lane: words::harmless(&message.lane),
        title: words::harmless(&message.title),
        text: words::harmless_lines(&message.text),
        ..message.clone()
    };
    let sending = async {
        match way {
            Way::Desktop => show_on_desktop(&message.title, &message.text, urgent)
                .await
                .map_err(|why| why.to_string()),
            Way::Program(program) => run(program, message).await,
            Way::Address(address) => post(address, message).await,
            Way::Mail(folder) => lay_down(folder, message).map_err(|why| why.to_string()),
        }
    };
    match tokio::time::timeout(PATIENCE, sending).await {
        Ok(sent) => sent,
        Err(_) => Err(format!("it took longer than {} s", PATIENCE.as_secs())),
    }
}

fn as_json(message: &Message) -> String {
    json!({
        "kind": message.kind.word(),
        "lane": message.lane,
        "title": message.title,
        "text": message.text,
        "at": Zoned::now().timestamp().to_string(),
    })
    .to_string()
}

/// The message goes to the program's standard input; nothing of it is ever part of a command line.
async fn run(program: &Path, message: &Message) -> Result<(), String> {
    let failed = |why: std::io::Error| why.to_string();
    let mut command = tokio::process::Command::new(program);
    // Nothing of the terminal that the agent, or root, was started from is its own.
    katabatic_child::alone(command.as_std_mut());
    let mut child = command
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .kill_on_drop(true)
        .spawn()
        .map_err(failed)?;
    if let Some(mut stdin) = child.stdin.take() {
        // A program that does not read it is told by being run.
        let _ = stdin.write_all(as_json(message).as_bytes()).await;
    }
    let ended = child.wait().await.map_err(failed)?;
    match ended.success() {
        true => Ok(()),
        false => Err(ended.to_string()),
    }
}

async fn post(address: &Url, message: &Message) -> Result<(), String> {
    let http = Line::default().http(address)?;
    let request = http
        .client
        .post(address.clone())
        .header("content-type", "application/json")
        .body(as_json(message));
    let answer = request
        .send()
        .await
        .map_err(|why| why.without_url().to_string())?;
    match answer.status().is_success() {
        true => Ok(()),
        false => Err(answer.status().to_string()),
    }
}

/// A mail (RFC 5322) without sender and receiver, which whoever sends it on knows; it has its name only once it is whole.
fn lay_down(folder: &Path, message: &Message) -> std::io::Result<()> {
    let now = Zoned::now();
    let name = format!(
        "{}-{}.eml",
        now.strftime("%Y-%m-%dT%H-%M-%S%.f"),
        message.kind.word()
    );
    let mail = format!(
        "Date: {}\r\nSubject: =?utf-8?B?{}?=\r\nMIME-Version: 1.0\r\nContent-Type: text/plain; charset=utf-8\r\n\
         Content-Transfer-Encoding: 8bit\r\nX-Katabatic-Kind: {}\r\nX-Katabatic-Lane: {}\r\n\r\n{}\r\n\r\n{}\r\n",
        now.strftime("%a, %d %b %Y %H:%M:%S %z"),
        base64(&message.title),
        message.kind.word(),
        message.lane,
        message.title,
        message.text.replace('\n', "\r\n"),
    );
    let part = folder.join(format!(".{name}.part"));
    std::fs::write(&part, mail)?;
    std::fs::rename(part, folder.join(name))
}

fn base64(text: &str) -> String {
    use base64::Engine;
    base64::engine::general_purpose::STANDARD.encode(text)
}
