//! `watch`: a live view of what all lanes do, for somebody who sits in front of it.
//!
//! `model` is what is to be seen, made of what agent and ledger say; `view` draws it; this one turns the wheel. The
//! terminal is given back as it was on every way out, a panic included.

mod model;
mod view;

use std::io::IsTerminal;
use std::process::{Command, ExitCode, Stdio};
use std::time::{Duration, Instant};

use katabatic_agent::{self as agent, Ask};
use katabatic_core::RelPath;
use katabatic_engine::{Class, Error};
use katabatic_ledger::{rows, runs};
use ratatui::DefaultTerminal;
use ratatui::crossterm::event::{self, Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use tokio::signal::unix::{SignalKind, signal};

use crate::app::App;
use crate::draw::line;
use crate::exit;
use model::{Heard, Model};

/// What is shown is no older than this.
const EVERY: Duration = Duration::from_millis(500);

/// Nothing happens for a second at most after somebody asked to end by a signal.
const TURN: Duration = Duration::from_millis(100);

/// After a signal, it ends by itself within this time, or is ended.
const ENDS_WITHIN: Duration = Duration::from_secs(2);

/// So many of a lane's open paths are kept for the list.
const LISTED: usize = 200;

/// So many of the last happenings.
const HAPPENED: usize = 40;

pub fn watch(app: &App) -> Result<ExitCode, Error> {
    if !(std::io::stdout().is_terminal() && std::io::stdin().is_terminal()) || app.common.json {
        return Err(Error::usage(
            "watching",
            "there is no terminal to draw on",
            "For scripts: katabatic agent status --json, katabatic status --lines",
        ));
    }
    end_in_order(app)?;
    let mut model = Model::new(app.config.lanes.iter().map(|lane| lane.name.clone()));
    let mut terminal = ratatui::try_init().map_err(|why| drawing_failed(&why))?;
    let ended = turn(app, &mut model, &mut terminal);
    ratatui::restore();
    ended.map(|()| ExitCode::SUCCESS)
}

/// A signal that would end the program ends the view first.
fn end_in_order(app: &App) -> Result<(), Error> {
    let stop = app.stop.clone();
    app.run(async {
        for kind in [SignalKind::terminate(), SignalKind::hangup()] {
            let mut signal = signal(kind).map_err(|why| drawing_failed(&why))?;
            let stop = stop.clone();
            tokio::spawn(async move {
                signal.recv().await;
                stop.ask();
                // Where the terminal itself is gone, the library goes on reading from it for ever.
                tokio::time::sleep(ENDS_WITHIN).await;
                ratatui::restore();
                std::process::exit(exit::number(Class::Stopped).into());
            });
        }
        Ok(())
    })
}

fn drawing_failed(why: &std::io::Error) -> Error {
    Error::new(
        Class::Failed,
        "drawing on the terminal",
        why.to_string(),
        "See it without: katabatic status",
    )
}

fn turn(app: &App, model: &mut Model, terminal: &mut DefaultTerminal) -> Result<(), Error> {
    let mut next_look = Instant::now();
    while !app.stop.asked() {
        if Instant::now() >= next_look {
            model.hear(heard(app, model)?);
            next_look = Instant::now() + EVERY;
        }
        terminal
            .draw(|frame| view::draw(frame, model, app.style))
            .map_err(|why| drawing_failed(&why))?;
        let wait = next_look
            .saturating_duration_since(Instant::now())
            .min(TURN);
        if !event::poll(wait).map_err(|why| drawing_failed(&why))? {
            continue;
        }
        let event = event::read().map_err(|why| drawing_failed(&why))?;
        if let Event::Key(key) = event
            && key.kind == KeyEventKind::Press
        {
            match meant(app, model, key) {
                Meant::Nothing => {}
                Meant::Leave => return Ok(()),
                Meant::PauseOrGoOn => {
                    pause_or_go_on(app, model)?;
                    next_look = Instant::now();
                }
                Meant::Run(arguments) => {
                    ratatui::restore();
                    run_beside(app, &arguments)?;
                    *terminal = ratatui::try_init().map_err(|why| drawing_failed(&why))?;
                    next_look = Instant::now();
                }
            }
        }
    }
    Ok(())
}

/// What agent and ledger say now.
fn heard(app: &App, model: &Model) -> Result<Heard, Error> {
    let agent = app.run(agent::ask(&app.home, &Ask::Status)).ok().flatten();
    let mut open = Vec::new();
    for lane in &app.config.lanes {
        let found = app
            .ledger
            .read(|connection| rows::open_for_people(connection, &lane.id, LISTED))?;
        open.push((lane.name.clone(), found));
    }
    let last = app.ledger.read(|connection| {
        model
            .lanes()
            .map(|lane| {
                Ok((
                    lane.to_owned(),
                    runs::last(connection, Some(lane), 1)?.pop(),
                ))
            })
            .collect::<Result<Vec<_>, _>>()
    })?;
    let happened = app
        .ledger
        .read(|connection| runs::last_items(connection, HAPPENED))?;
    Ok(Heard {
        now: app.now(),
        at: Instant::now(),
        agent,
        open,
        last,
        happened,
    })
}

/// What a key means.
enum Meant {
    Nothing,
    Leave,
    PauseOrGoOn,
    /// Another command, with the terminal to itself.
    Run(Vec<String>),
}

fn meant(app: &App, model: &mut Model, key: KeyEvent) -> Meant {
    if key.modifiers.contains(KeyModifiers::CONTROL) {
        return match key.code {
            KeyCode::Char('c') => Meant::Leave,
            _ => Meant::Nothing,
        };
    }
    match key.code {
        KeyCode::Char('q') | KeyCode::Esc => return Meant::Leave,
        KeyCode::Up | KeyCode::Char('k') => model.up(),
        KeyCode::Down | KeyCode::Char('j') => model.down(),
        KeyCode::Tab => model.other_list(),
        KeyCode::Char('p') => return Meant::PauseOrGoOn,
        KeyCode::Char('w') => {
            if let Some((lane, path)) = model.chosen_path() {
                return Meant::Run(vec!["why".into(), place_of(app, &lane, &path)]);
            }
            if let Some(lane) = model.chosen_lane() {
                return Meant::Run(vec!["status".into(), lane]);
            }
        }
        KeyCode::Char('s') => {
            let about = match model.chosen_path() {
                Some((lane, path)) => Some(place_of(app, &lane, &path)),
                None => model.chosen_lane(),
            };
            if let Some(about) = about {
                return Meant::Run(vec!["settle".into(), about, "--ask".into()]);
            }
        }
        _ => {}
    }
    Meant::Nothing
}

/// A path of a lane as commands take it.
fn place_of(app: &App, lane: &str, path: &RelPath) -> String {
    let lane = app.config.lanes.iter().find(|known| known.name == lane);
    lane.map_or_else(|| path.to_string(), |lane| lane.near.join(path).to_string())
}

fn pause_or_go_on(app: &App, model: &mut Model) -> Result<(), Error> {
    let Some(lane) = model.chosen_lane() else {
        return Ok(());
    };
    let ask = if model.is_paused(&lane) {
        Ask::Resume { lane: Some(lane) }
    } else {
        Ask::Pause {
            lane: Some(lane),
            until: None,
        }
    };
    let answer = app.run(agent::ask(&app.home, &ask))?;
    if answer.is_none() {
        model.say("No agent runs, so nothing runs by itself. To start it: katabatic agent start");
    }
    Ok(())
}

/// Runs another command of this program on the terminal, and waits until somebody has read what it says.
fn run_beside(app: &App, arguments: &[String]) -> Result<(), Error> {
    let failed = |why: std::io::Error| {
        Error::failed(
            format!("running katabatic {}", arguments.join(" ")),
            why,
            "Run it yourself.",
        )
    };
    let program = std::env::current_exe().map_err(failed)?;
    let mut command = Command::new(program);
    if let Some(home) = &app.common.home {
        command.arg("--home").arg(home);
    }
    if app.common.plain {
        command.arg("--plain");
    }
    line(format!("$ katabatic {}", arguments.join(" ")));
    command
        .args(arguments)
        .stdin(Stdio::inherit())
        .status()
        .map_err(failed)?;
    line("Enter goes back.");
    let mut enter = String::new();
    std::io::stdin().read_line(&mut enter).map_err(failed)?;
    Ok(())
}
