//! `settle --ask`: each conflict is shown, then asked about, then settled, and the next one comes.

use crate::commands::settle::KeepTyped;
use crate::commands::settle::SettleArgs;
use std::io::IsTerminal;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_core::RelPath;
use katabatic_engine::Error;
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::Progress;
use katabatic_engine::settle::{self, Conflict};

use super::conflicts::describe;
use super::settle::{meant, one, place};
use crate::app::App;
use crate::draw::{error, line};
use crate::exit;

enum Answer {
    Keep(KeepTyped),
    Skip,
    Quit,
}

pub fn settle(app: &App, typed: &SettleArgs) -> Result<ExitCode, Error> {
    if !(app.style.terminal && std::io::stdin().is_terminal()) {
        return Err(Error::usage(
            "settling one by one",
            "there is no terminal to ask on",
            "Say which version to keep: katabatic settle PATH --keep near|far|both|newest",
        ));
    }
    let wanted: Vec<(LaneConfig, RelPath)> = match typed.paths.is_empty() {
        true => {
            let lanes = app.config.lanes.iter();
            lanes.map(|lane| (lane.clone(), RelPath::root())).collect()
        }
        false => {
            let places = typed.paths.iter().map(|text| place(app, text));
            places.collect::<Result<_, _>>()?
        }
    };
    let (mut code, mut met) = (0, 0);
    for (lane, within) in wanted {
        let open = app.run(async {
            let pass = app.pass(&lane, Arc::new(Progress::default())).await?;
            settle::open_conflicts(&pass)
        })?;
        for row in open.into_iter().filter(|row| row.path.is_within(&within)) {
            met += 1;
            // Looked at now: it may be long since the list was made.
            let conflict = app.run(async {
                let pass = app.pass(&lane, Arc::new(Progress::default())).await?;
                settle::show(&pass, &row).await
            })?;
            match ask(app, &lane, &conflict)? {
                Answer::Keep(keep) => {
                    let (keep, will) = meant(keep, lane.side_names());
                    code = exit::worse(code, settled(app, &lane, &row.path, keep, &will));
                }
                Answer::Skip => code = exit::worse(code, exit::NEEDS_A_PERSON),
                Answer::Quit => {
                    return Ok(ExitCode::from(exit::worse(code, exit::NEEDS_A_PERSON)));
                }
            }
        }
    }
    if met == 0 {
        line("No conflicts were found by the last pass.");
    }
    Ok(ExitCode::from(code))
}

/// One that cannot be settled does not keep the others waiting.
fn settled(app: &App, lane: &LaneConfig, path: &RelPath, keep: settle::Keep, will: &str) -> u8 {
    match one(app, lane, path, keep, will) {
        Ok((code, _)) => code,
        Err(failed) => {
            error::error(&failed, false);
            exit::number(failed.class)
        }
    }
}

fn ask(app: &App, lane: &LaneConfig, conflict: &Conflict) -> Result<Answer, Error> {
    describe(app, lane, conflict);
    loop {
        crate::draw::ask(
            "Keep near (n), far (f), both (b), the newest (w)? Leave it (l), end (e): ",
        );
        let mut answer = String::new();
        let read = std::io::stdin()
            .read_line(&mut answer)
            .map_err(|why| Error::usage("asking", why.to_string(), "Say --keep."))?;
        return Ok(match answer.trim().to_lowercase().as_str() {
            "n" | "near" => Answer::Keep(KeepTyped::Near),
            "f" | "far" => Answer::Keep(KeepTyped::Far),
            "b" | "both" => Answer::Keep(KeepTyped::Both),
            "w" | "newest" => Answer::Keep(KeepTyped::Newest),
            "l" | "leave" => Answer::Skip,
            "e" | "end" => Answer::Quit,
            _ if read == 0 => Answer::Quit,
            _ => continue,
        });
    }
}
