//! The `katabatic` program: what was typed is understood here, done by the engine, and drawn.
#![forbid(unsafe_code)]

mod about;
mod app;
mod args;
mod commands;
mod common;
mod draw;
mod examples;
mod exit;
mod lane_paths;
mod lasting;
mod limits;
mod log;
mod older_words;
mod other_user;
mod output;
mod pager;
mod passphrase;
mod proof_words;
mod sample;
mod sample_person;
mod setup;
mod several;
mod signals;
mod typed_choice;
mod typed_state;
mod unit;

use crate::args::Command;
use crate::args::Typed;
use crate::common::Common;
use std::process::ExitCode;

use clap::FromArgMatches;
use clap::error::ErrorKind;
use katabatic_engine::{Error, forget_runs};

use crate::app::App;

fn main() -> ExitCode {
    keep_to_ourselves();
    commands::completions::complete_where_asked(args::command);
    let typed = match args::command().try_get_matches() {
        Ok(matches) => Typed::from_arg_matches(&matches),
        Err(told) => Err(told),
    };
    let typed = match typed {
        Ok(typed) => typed,
        Err(told) => return output::ended(misunderstood(&told)),
    };
    let common = typed.common.clone();
    draw::look::decide(common.color, common.plain);
    // Root writes into no file that somebody else may have put in its way: the log is begun once root is that user.
    let file = common.log.as_deref().filter(|_| common.for_user.is_none());
    if let Err(error) = log::start(common.verbose, file) {
        draw::error::error(&error, common.json);
        return output::ended(exit::code(error.class));
    }
    if let Some(user) = &common.for_user {
        if let Command::Agent(agent) = &typed.command
            && let Some(done) = commands::agent::by_root(&common, user, agent)
        {
            return ended(done, &common);
        }
        let arguments = std::env::args_os().collect();
        return ended(other_user::work_as(user, arguments), &common);
    }
    let arguments: Vec<String> = std::env::args_os()
        .map(|argument| argument.to_string_lossy().into_owned())
        .collect();
    for hint in older_words::hints(&arguments) {
        draw::say(format!("katabatic: {hint}"));
    }
    if common.quiet && !common.json && !typed.command.shows_what_was_asked() {
        output::hold();
    }
    if typed.command.is_read_by_pages() && !common.json && !common.no_pager {
        pager::begin();
    }
    if let Err(error) = open_files_allowed() {
        draw::error::error(&error, common.json);
        return exit::code(error.class);
    }
    let result = match typed.command {
        Command::Demo(demo) => commands::demo::demo(&common, &demo),
        Command::Standin(standin) => commands::standin::standin(&common, &standin),
        Command::Opener(typed) => commands::opener::opener(&common, &typed),
        Command::Completions(typed) => commands::completions::completions(&typed),
        Command::Man(typed) => commands::man::man(&common, &typed, args::command()),
        command => App::start(&common).and_then(|app| dispatch(&app, command)),
    };
    ended(result, &common)
}

/// A name that is no UTF-8 is asked for, which no lane can carry.
fn not_utf8() -> ExitCode {
    let odd = std::env::args_os().find(|argument| argument.to_str().is_none());
    let shown = odd.map_or_else(String::new, |odd| {
        odd.as_encoded_bytes().escape_ascii().to_string()
    });
    let why = "it is no valid UTF-8, and no lane carries such a name: it is left out, and told by katabatic status";
    let next = "Rename it: katabatic names shows a name that would do. The folder it lies in can be asked for as ever.";
    draw::error::error(&Error::usage(shown, why, next), false);
    exit::code(katabatic_engine::Class::Usage)
}

/// What was asked for by `--help`, or what is wrong with what was typed; in JSON where that was asked for.
fn misunderstood(told: &clap::Error) -> ExitCode {
    if told.kind() == ErrorKind::InvalidUtf8 {
        return not_utf8();
    }
    let as_json = std::env::args_os()
        .take_while(|argument| argument != "--")
        .any(|argument| argument == "--json");
    if as_json && told.use_stderr() {
        let text = told.render().to_string();
        let (why, next) = text.split_once("\n\n").unwrap_or((&text, ""));
        let words = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
        // The word that all of them begin with says nothing.
        let why = words(why.trim_start_matches("error:"));
        draw::error::error(
            &Error::usage("reading what was typed", why, words(next)),
            true,
        );
    } else if let (Err(why), false) = (told.print(), told.use_stderr()) {
        output::lost(why);
    }
    match u8::try_from(told.exit_code()) {
        Ok(code) => ExitCode::from(code),
        Err(_) => ExitCode::FAILURE,
    }
}

fn ended(result: Result<ExitCode, Error>, common: &Common) -> ExitCode {
    output::ended(result.unwrap_or_else(|error| {
        draw::error::error(&error, common.json);
        exit::code(error.class)
    }))
}

/// Passwords and keys are in the memory of this process: no other process of the same person looks into it, and no core
/// of it is left behind.
fn keep_to_ourselves() {
    use rustix::process::{DumpableBehavior, Resource, Rlimit, set_dumpable_behavior, setrlimit};
    let none = Rlimit {
        current: Some(0),
        maximum: Some(0),
    };
    // The opener knows us by it, however we were started: `--for` starts us by a descriptor, which has no name.
    let _ = nix::sys::prctl::set_name(c"katabatic");
    // A system that does not know either has nothing to be kept from.
    let _ = set_dumpable_behavior(DumpableBehavior::NotDumpable);
    let _ = setrlimit(Resource::Core, none);
}

/// Without so many open files at a time not even the runtime can start.
const FEWEST_FILES: u64 = 64;

/// Takes as many open files as the system lets this program have.
fn open_files_allowed() -> Result<(), Error> {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let limit = getrlimit(Resource::Nofile);
    let raised = Rlimit {
        current: limit.maximum,
        ..limit
    };
    // Where it may not be raised, the usual one does.
    let now = match setrlimit(Resource::Nofile, raised) {
        Ok(()) => limit.maximum,
        Err(_) => limit.current,
    };
    match now {
        Some(files) if files < FEWEST_FILES => Err(Error::failed(
            "starting",
            format!(
                "the system allows this program {files} open files at a time, and it needs {FEWEST_FILES}"
            ),
            "Raise the limit (ulimit -n), and try again. Nothing was changed.",
        )),
        _ => Ok(()),
    }
}

fn dispatch(app: &App, command: Command) -> Result<ExitCode, Error> {
    let ended = run(app, command);
    // What nobody waited for, such as why an account was not reached, is to be there for the next command. A ledger that
    // cannot be written has told so where it mattered.
    let _ = app.run(app.ledger.flush());
    ended
}

fn run(app: &App, command: Command) -> Result<ExitCode, Error> {
    match command {
        Command::Account(account) => commands::account::account(app, &account),
        Command::Lane(lane) => commands::lane::lane(app, &lane),
        Command::Watch => commands::watch::watch(app),
        Command::Tell(typed) => commands::tell::tell(app, &typed),
        Command::Limits(typed) => commands::limits::limits(app, &typed),
        Command::Openings(typed) => commands::openings::openings(app, &typed),
        Command::Cover(typed) => commands::cover::cover(app, &typed),
        Command::Choose(typed) => commands::choose::choose(app, &typed),
        Command::Plan(plan) => commands::plan::plan(app, &plan),
        Command::Sync(sync) => {
            let code = commands::sync::sync(app, &sync)?;
            // What cannot be forgotten now can be forgotten after the next pass.
            let days = app.config.keep_runs_days;
            let _ = app.run(forget_runs::forget_by_itself(&app.ledger, app.now(), days));
            Ok(code)
        }
        Command::Agent(agent) => commands::agent::agent(app, &agent),
        Command::Audit(audit) => commands::audit::audit(app, &audit),
        Command::Recover(recover) => commands::recover::recover(app, &recover),
        Command::Report(report) => commands::report::report(app, &report),
        Command::Doctor => commands::doctor::doctor(app),
        Command::Names(typed) => commands::names::names(app, &typed),
        Command::Why(why) => commands::why::why(app, &why),
        Command::Fetch(typed) => commands::fetch::fetch(app, &typed),
        Command::Shed(typed) => commands::shed::shed(app, &typed),
        Command::Hold(typed) => commands::hold::hold(app, &typed),
        Command::Room(typed) => commands::room::room(app, &typed),
        Command::Status(status) => commands::status::status(app, &status),
        Command::Conflicts(conflicts) => commands::conflicts::conflicts(app, &conflicts),
        Command::Settle(settle) => commands::settle::settle(app, &settle),
        Command::Runs(runs) => commands::runs::runs(app, &runs),
        Command::Undo(undo) => commands::undo::undo(app, &undo),
        Command::Spares(spares) => commands::spares::spares(app, &spares),
        Command::HandOver(typed) => commands::hand_over::hand_over(app, &typed),
        Command::Find(find) => commands::find::find(app, &find),
        Command::List(list) => commands::list::list(app, &list),
        Command::Sizes(sizes) => commands::sizes::sizes(app, &sizes),
        Command::MakeFolder(typed) => commands::make_folder::make_folder(app, &typed),
        Command::Copy(typed) => commands::copy::copy(app, &typed),
        Command::Move(typed) => commands::move_place::move_place(app, &typed),
        Command::Remove(typed) => commands::remove_place::remove(app, &typed),
        Command::Demo(demo) => commands::demo::demo(&app.common, &demo),
        Command::Standin(standin) => commands::standin::standin(&app.common, &standin),
        Command::Opener(typed) => commands::opener::opener(&app.common, &typed),
        Command::Completions(typed) => commands::completions::completions(&typed),
        Command::Man(typed) => commands::man::man(&app.common, &typed, args::command()),
    }
}
