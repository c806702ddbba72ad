//! `status`: where files stand, and why.

use crate::draw::run_words::did;
use crate::draw::run_words::outcome;
use crate::draw::urgency::urgency;
use clap::Args;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_agent::{self as agent, Answer, Ask};
use katabatic_core::{
    Agreement, EditTime, Entry, FileState, Kind, Lies, RelPath, RunClass, Side, SideNames, Step,
    View, words,
};
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::Progress;
use katabatic_engine::standing::{self, LaneStanding, Standing};
use katabatic_engine::{Class, Error};
use serde_json::{Value, json};

use super::agent::{by_itself, died_words};
use super::lanes_table;
use super::openings::under_way_words;
use crate::about::{About, understand};
use crate::app::App;
use crate::draw::folder_listing::{self, Member, Reasons};
use crate::draw::listing::Item;
use crate::draw::look::{Drawn, Look};
use crate::draw::state_tree::StateTree;
use crate::draw::table::Rows;
use crate::draw::{self, json, line, listing, progress, shown, shown_text, time};
use crate::exit;
use crate::lane_paths::{LanePath, open_paths, settled_state};
use crate::typed_state::StateTyped;

/// `status`.
#[derive(Args, Debug)]
pub struct StatusArgs {
    /// Lanes, or files and folders in them; all lanes where none is named
    #[arg(value_name = "LANE|PATH")]
    pub about: Vec<String>,
    /// Name only what stands so; several with commas between them
    #[arg(long, value_enum, value_delimiter = ',', value_name = "STATE")]
    pub state: Vec<StateTyped>,
    /// Name every path that is not settled, however many there are; with --json the settled ones, too
    #[arg(long)]
    pub all: bool,
    /// Ask the far side too, instead of telling what the last pass saw there
    #[arg(long)]
    pub fresh: bool,
    /// Draw the folders as a tree, each with all that is in it
    #[arg(long, conflicts_with_all = ["json", "lines", "state", "all"])]
    pub tree: bool,
    /// So many levels of folders are drawn
    #[arg(long, value_name = "LEVELS", default_value_t = 2)]
    pub depth: usize,
    /// Write a line of JSON for every path, settled ones too, as they are found
    #[arg(long, conflicts_with = "json")]
    pub lines: bool,
}

pub fn status(app: &App, typed: &crate::commands::status::StatusArgs) -> Result<ExitCode, Error> {
    let (mut code, mut answers, mut all) = (0, Vec::new(), Vec::new());
    // Of several lanes, each is told first, and then whatever of them needs somebody.
    let about_all = typed.about.is_empty() && app.config.lanes.len() > 1;
    let mut not_looked = Vec::new();
    let as_table =
        about_all && app.common.verbose == 0 && !(app.common.json || typed.lines || typed.tree);
    let list = Listed {
        states: &typed.state,
        all: typed.all,
        // Of all lanes, what is left out by choice is no news.
        left_out: !as_table || typed.all || !typed.state.is_empty(),
    };
    // An agent that does not answer is told by its own command; here it is one that does not run.
    let agent = app.run(agent::ask(&app.home, &Ask::Status)).ok().flatten();
    let died = agent::died(&app.home).filter(|_| agent.is_none());
    let about = understand(&app.config, &typed.about)?;
    let several = about.len() > 1;
    for About { lane, paths } in about {
        let paths = if paths.is_empty() {
            vec![RelPath::root()]
        } else {
            paths
        };
        for path in paths {
            let mut tree = StateTree::new(&path, typed.depth);
            let mut settled = Vec::new();
            let mut as_well = Vec::new();
            let told = &mut |step: &Step| {
                let named = list.names(settled_state(&lane, step));
                if app.common.json && (typed.all || list.names_settled()) && named {
                    settled.push(settled_json(&lane, step));
                } else if typed.tree {
                    tree.settled(step);
                } else if typed.lines && named {
                    line(settled_line(&lane, step));
                } else if !path.is_root() || (list.names_settled() && named) {
                    as_well.extend(LanePath::settled(&lane, step));
                }
            };
            let drawn = Arc::new(Progress::default());
            let looked = app.run(async {
                let pass = match typed.fresh {
                    true => app.pass(&lane, Arc::clone(&drawn)).await?,
                    false => app.look(&lane, Arc::clone(&drawn)).await?,
                };
                let looking = standing::look_telling(&pass, &path, &time::time, typed.fresh, told);
                match typed.fresh {
                    true => progress::during(app.style, &lane.name, drawn, looking).await,
                    false => looking.await,
                }
            });
            let standing = match looked {
                Err(error) if several => {
                    code = exit::worse(code, exit::number(error.class));
                    let told = || json!({"lane": lane.name, "path": path.as_str(), "error": draw::error::described(&error)});
                    if app.common.json {
                        answers.push(told());
                    } else if typed.lines {
                        json::print(&told());
                    } else if as_table {
                        not_looked.push((lane.name.clone(), error));
                    } else {
                        say_failed(app, &lane, &error);
                    }
                    continue;
                }
                looked => looked?,
            };
            check_known(&lane, &path, &standing)?;
            let waits = standing
                .counts
                .keys()
                .any(|agreement| matches!(agreement, Agreement::Waiting(_)));
            let away = standing.far_failed.is_some();
            if away && (waits || lane.account(Side::Far).is_none()) {
                code = exit::worse(code, exit::number(Class::NotThere));
            }
            // That the account is not reached mends itself once it is; other failures wait for somebody.
            let failed = standing.failed.is_some() && standing.far_failed.is_none();
            if standing.needs_a_person() || failed {
                code = exit::worse(code, exit::NEEDS_A_PERSON);
            }
            if typed.lines {
                say_lines(&lane, &standing, list);
            } else if typed.tree {
                tree.open(&standing);
                heading(app, &lane);
                say_seen(app, &lane, &standing);
                tree.print(app.style);
                if let Some(count) = standing.counts.get(&Agreement::LeftOut) {
                    let left_out = left_out_words(*count, &standing);
                    line(format!(
                        "{}: {left_out}",
                        app.style.state(Agreement::LeftOut)
                    ));
                }
            } else if app.common.json {
                let mut told = standing_json(&lane, &path, &standing, list, settled);
                told["by_itself"] = by_itself_json(agent.as_ref(), died.is_some(), &lane.name);
                answers.push(told);
            } else if path.is_root()
                && about_all
                && app.common.quiet
                && !standing.needs_a_person()
                && !failed
            {
                // Nothing about it needs a person.
            } else if path.is_root() && as_table {
                all.push((lane.clone(), standing, as_well));
            } else if path.is_root() && about_all {
                say_lane(app, &lane, &standing);
                say_last_pass(app, &standing);
                // Where none runs, that is said once of all.
                if agent.is_some() {
                    say_by_itself(app, agent.as_ref(), false, &lane);
                }
                say_next(app, &lane, &standing);
                all.push((lane.clone(), standing, as_well));
            } else if path.is_root() {
                say_lane(app, &lane, &standing);
                say_last_pass(app, &standing);
                say_by_itself(app, agent.as_ref(), died.is_some(), &lane);
                say_each(app, &[("", &standing)], list);
                say_settled(app, &[("", &as_well)], list);
                say_next(app, &lane, &standing);
            } else {
                say_path(app, &lane, &path, &standing, list, &as_well);
            }
        }
    }
    if app.common.json {
        json::print(&json!({"lanes": answers}));
    }
    if as_table {
        let mut rows: Vec<lanes_table::Row<'_>> = all
            .iter()
            .map(|(lane, standing, _)| lanes_table::Row::of(lane, standing, agent.as_ref()))
            .collect();
        let not_looked = not_looked.iter();
        rows.extend(not_looked.map(|(lane, error)| lanes_table::Row::not_looked(lane, error)));
        lanes_table::print(app, rows);
    }
    let settled: Vec<(&str, &[LanePath])> = all
        .iter()
        .map(|(lane, _, as_well)| (lane.name.as_str(), &as_well[..]))
        .collect();
    let all: Vec<(&str, &LaneStanding)> = all
        .iter()
        .map(|(lane, standing, _)| (lane.name.as_str(), standing))
        .collect();
    if agent.is_none() && !all.is_empty() {
        match died {
            Some(began) => draw::sentence(
                app.style,
                0,
                &format!("{} Next: katabatic agent start", died_words(began)),
            ),
            None => line("No agent runs: all lanes run by hand alone (katabatic agent start)"),
        }
    }
    say_each(app, &all, list);
    say_settled(app, &settled, list);
    Ok(ExitCode::from(code))
}

/// A path that was typed has to be somewhere.
fn check_known(lane: &LaneConfig, path: &RelPath, standing: &LaneStanding) -> Result<(), Error> {
    if path.is_root() || !(standing.standings.is_empty() && standing.counts.is_empty()) {
        return Ok(());
    }
    Err(Error::usage(
        format!("the status of {} in lane {}", shown(path), lane.name),
        "nothing of that name is on this side, and the last pass saw none on the other",
        format!("Look at both sides anew: katabatic plan {}", lane.name),
    ))
}

/// When and by what the far side was looked at.
pub fn there_words(standing: &LaneStanding) -> String {
    match standing.far_seen {
        Some(at) => format!("as of {}", time::exact(at)),
        None if standing.cut_off => {
            "as carried so far; no pass over the whole lane has ended yet".to_owned()
        }
        None => "never looked at yet: no pass has run".to_owned(),
    }
}

/// When the near side was looked at.
pub fn here_words(standing: &LaneStanding) -> String {
    standing
        .near_seen
        .map_or_else(|| "never yet".to_owned(), time::exact)
}

fn say_seen(app: &App, lane: &LaneConfig, standing: &LaneStanding) {
    let sides = lane.side_names();
    line(format!(
        "  seen: {} {}, {} {}",
        sides.label(Side::Near),
        here_words(standing),
        sides.label(Side::Far),
        there_words(standing)
    ));
    if let Some(not_reached) = not_reached_words(standing) {
        draw::sentence(app.style, 2, &not_reached);
    }
}

/// When and why the far side was not reached, where that was tried last.
pub fn not_reached_words(standing: &LaneStanding) -> Option<String> {
    let (at, why) = standing.far_failed.as_ref()?;
    Some(format!("not reached at {}: {why}", time::exact(*at)))
}

/// Of several lanes, one that cannot be looked at takes nothing from the others.
fn say_failed(app: &App, lane: &LaneConfig, error: &Error) {
    heading(app, lane);
    for text in [&error.what, &error.why, &error.next] {
        draw::sentence(app.style, 2, text);
    }
}

/// As many paths are named for people.
const NAMED: usize = 40;

/// Which paths are named.
#[derive(Clone, Copy)]
struct Listed<'l> {
    states: &'l [StateTyped],
    all: bool,
    left_out: bool,
}

impl Listed<'_> {
    fn names(self, state: FileState) -> bool {
        let is_told = self.left_out || state.agreement != Agreement::LeftOut;
        is_told && StateTyped::any_fits(self.states, state)
    }

    /// Whether names are told that no lane can carry.
    fn names_left_out(self) -> bool {
        self.states.is_empty() || self.states.contains(&StateTyped::LeftOut)
    }

    /// Whether what is settled is named, too: only where somebody asks for a state that it can be in.
    fn names_settled(self) -> bool {
        let settled = |state: &StateTyped| state.is_of_content() || *state == StateTyped::Settled;
        self.states.iter().any(settled)
    }
}

/// What waits to be carried one way, in bytes.
pub(super) fn waiting_bytes(standing: &LaneStanding, agreement: Agreement) -> u64 {
    let waits = standing
        .standings
        .iter()
        .filter(|one| one.state.agreement == agreement);
    waits
        .map(|one| one.step.bytes())
        .fold(0, u64::saturating_add)
}

/// Prints a lane and its two places, in two lines where one is too narrow.
pub fn heading(app: &App, lane: &LaneConfig) {
    let whole = format!("Lane {}: {}", lane.name, places(app, lane));
    let room = app.style.width.map_or(usize::MAX, usize::from);
    let name = Drawn::of(Look::Heading, &format!("Lane {}", lane.name));
    if console::measure_text_width(&whole) <= room {
        let places = format!(": {}", places(app, lane));
        return name.with(Look::Fine, &places).print();
    }
    let arrow = app.style.arrow(lane.terms.direction);
    name.with(Look::Fine, &format!(": {}", lane.near)).print();
    line(format!("  {arrow} {}", lane.far_place()));
}

/// The two places of a lane, and which way it carries between them.
pub fn places(app: &App, lane: &LaneConfig) -> String {
    format!(
        "{} {} {}",
        lane.near,
        app.style.arrow(lane.terms.direction),
        lane.far_place()
    )
}

fn say_by_itself(app: &App, agent: Option<&Answer>, died: bool, lane: &LaneConfig) {
    let runs = format!("runs {}", by_itself(agent, died, &lane.name));
    draw::sentence(app.style, 2, &runs);
    say_opening(agent, &lane.name);
}

/// What comes for programs now.
pub(super) fn say_opening(agent: Option<&Answer>, lane: &str) {
    let under_way = agent.iter().flat_map(|agent| &agent.openings.under_way);
    for one in under_way.filter(|one| one.lane == lane) {
        line(format!("  opening {}", under_way_words(one)));
    }
}

/// When the last pass over the lane was, and how it ended.
pub(super) struct LastPass {
    pub(super) at: Option<EditTime>,
    run: Option<i64>,
    outcome: String,
    failed: bool,
}

impl LastPass {
    pub(super) fn of(standing: &LaneStanding) -> Option<LastPass> {
        if let Some(failed) = &standing.failed {
            return Some(LastPass {
                at: Some(failed.at),
                run: None,
                // Why is told where the far side is told of.
                outcome: match failed.away == Some(Side::Far) && standing.far_failed.is_some() {
                    true => "the far side was not reached".to_owned(),
                    false => failed.why.clone(),
                },
                failed: true,
            });
        }
        match standing.run_of_last_pass() {
            Some(run) => Some(LastPass {
                at: Some(run.ended.unwrap_or(run.began)),
                run: Some(run.number),
                outcome: match run.class() {
                    RunClass::Fine => did(run),
                    RunClass::NeedsPerson
                    | RunClass::Failed
                    | RunClass::Running
                    | RunClass::CutOff => outcome(run),
                },
                failed: run.class() == RunClass::Failed,
            }),
            None => standing.pass_seen.map(|at| LastPass {
                at: Some(at),
                run: None,
                outcome: "nothing to carry".to_owned(),
                failed: false,
            }),
        }
    }
}

/// The last pass in words.
pub(super) fn last_pass_words(standing: &LaneStanding) -> Option<String> {
    let last = LastPass::of(standing)?;
    let at = last
        .at
        .map_or_else(String::new, |at| format!("{}, ", time::exact(at)));
    let failed = if last.failed { "failed: " } else { "" };
    let run = last
        .run
        .map_or_else(String::new, |run| format!(" (run {run})"));
    Some(format!("{at}{failed}{}{run}", last.outcome))
}

/// Where all is settled, that is said with it.
fn say_last_pass(app: &App, standing: &LaneStanding) {
    if next_of(standing) != Next::Nothing
        && let Some(last) = last_pass_words(standing)
    {
        draw::sentence(app.style, 2, &format!("last pass: {last}"));
    }
}

fn say_lane(app: &App, lane: &LaneConfig, standing: &LaneStanding) {
    heading(app, lane);
    say_seen(app, lane, standing);
    let mut rows = Rows::bare(app.style, 2);
    for (agreement, count) in &standing.counts {
        let many = match agreement {
            Agreement::Settled => {
                format!(
                    "{}, {}",
                    words::count(*count, "file", "files"),
                    words::bytes(standing.settled_bytes)
                )
            }
            Agreement::LeftOut => left_out_words(*count, standing),
            Agreement::Waiting(_) if waiting_bytes(standing, *agreement) > 0 => format!(
                "{}, {}",
                words::count(*count, "path", "paths"),
                words::bytes(waiting_bytes(standing, *agreement))
            ),
            _ => words::count(*count, "path", "paths"),
        };
        rows.add(vec![app.style.state(*agreement), many]);
    }
    rows_of_contents(app, lane, standing, &mut rows);
    if !standing.kept_away.is_empty() {
        rows.add(vec![
            "  kept".into(),
            format!(
                "{} that one side removed and the other keeps",
                words::count(standing.kept_away.len() as u64, "path", "paths")
            ),
        ]);
    }
    if rows.is_empty() {
        line(match standing.far_seen {
            Some(_) => "  both sides are empty".to_owned(),
            None => format!(
                "  nothing is {}; what is {} was never looked at",
                lane.side_names().at(Side::Near),
                lane.side_names().at(Side::Far)
            ),
        });
    }
    rows.print(2);
    say_zeros(app, lane, standing);
}

/// Where the content lies, where not all of it simply lies here.
fn rows_of_contents(app: &App, lane: &LaneConfig, standing: &LaneStanding, rows: &mut Rows) {
    let (near, far) = (
        lane.side_names().at(Side::Near),
        lane.side_names().at(Side::Far),
    );
    for (lies, what) in [
        (Lies::Stub, format!("whose content is only {far}")),
        (Lies::Held, format!("that stay {near} for good")),
    ] {
        if let Some(tally) = standing.lies.get(&lies) {
            rows.add(vec![
                app.style.lies(lies),
                format!(
                    "{}, {} {what}",
                    words::count(tally.files, "file", "files"),
                    words::bytes(tally.bytes)
                ),
            ]);
        }
    }
    if standing.believed.files > 0 {
        rows.add(vec![
            String::new(),
            format!(
                "{} of them, {}: believed to be {far}, not proven",
                words::grouped(standing.believed.files),
                words::bytes(standing.believed.bytes)
            ),
        ]);
    }
}

/// Where what is read of a stub would be zeros.
pub(super) fn say_zeros(app: &App, lane: &LaneConfig, standing: &LaneStanding) {
    if standing.open_stubs {
        draw::sentence(
            app.style,
            2,
            &format!(
                "Mind: somebody gave stubs rights (chmod), so programs read zeros in place of their content. To close them again: katabatic sync {}; to have the content: katabatic fetch PATH",
                lane.name
            ),
        );
    }
    let stubs = standing
        .lies
        .get(&Lies::Stub)
        .is_some_and(|tally| tally.files > 0);
    if stubs && rustix::process::geteuid().is_root() {
        draw::sentence(
            app.style,
            2,
            "Mind: you are root, whom no rights keep out: what root reads of a stub is zeros, not its content",
        );
    }
}

/// How many are left out, and most by what.
fn left_out_words(count: u64, standing: &LaneStanding) -> String {
    const NAMED: usize = 3;
    let mut by: Vec<(&String, u64)> = standing
        .left_out
        .iter()
        .map(|(by, tally)| (by, tally.files))
        .collect();
    by.sort_by_key(|(_, files)| std::cmp::Reverse(*files));
    let count = words::count(count, "path", "paths");
    if by.is_empty() {
        return count;
    }
    let more = by.len().saturating_sub(NAMED);
    by.truncate(NAMED);
    let named: Vec<String> = by
        .into_iter()
        .map(|(by, files)| format!("{} by {by}", words::grouped(files)))
        .collect();
    let more = if more > 0 {
        format!(" and {more} more")
    } else {
        String::new()
    };
    format!("{count}: {}{more}", named.join(", "))
}

/// Names what is not settled, the most urgent first; of several lanes, each with its name.
fn say_each(app: &App, lanes: &[(&str, &LaneStanding)], list: Listed<'_>) {
    let item = |lane: &str, agreement: Agreement, name: String, reason: &str| Item {
        lead: app.style.state_cell(agreement),
        name: match lane {
            "" => name,
            lane => format!("{lane}: {name}"),
        },
        size: String::new(),
        reason: reason.to_owned(),
    };
    let mut open: Vec<(&str, &Standing)> = Vec::new();
    let mut unusable = Vec::new();
    for (lane, standing) in lanes {
        let named = standing
            .standings
            .iter()
            .filter(|one| one.state.agreement != Agreement::Settled)
            .filter(|one| list.names(one.state));
        open.extend(named.map(|one| (*lane, one)));
        let named = standing.unusable.iter().filter(|_| list.names_left_out());
        unusable.extend(
            named.map(|name| item(lane, Agreement::LeftOut, shown_text(&name.shown), &name.why)),
        );
    }
    open.sort_by_key(|(_, one)| urgency(one.state.agreement));
    let mut items: Vec<Item> = open
        .into_iter()
        .map(|(lane, one)| {
            let path = shown(one.step.path());
            item(lane, one.state.agreement, path, &one.reason)
        })
        .collect();
    items.extend(unusable);
    let more = items.len().saturating_sub(NAMED);
    if !list.all {
        items.truncate(NAMED);
    }
    if !items.is_empty() {
        line(match lanes.len() {
            1 => "",
            _ => "What is not settled, the most urgent first:",
        });
    }
    listing::print(app.style, 2, &items);
    if more > 0 && !list.all {
        line(format!(
            "  and {}: with --all, or some of them with --state",
            words::count(more as u64, "path more", "paths more")
        ));
    }
}

/// Prints what is to be done about conflicts, in two lines.
pub fn next_for_conflicts(lane: &str) {
    line(format!("  Next: katabatic conflicts {lane}"));
    line("  then: katabatic settle PATH --keep near|far|both|newest");
}

/// What is to be done about versions that the other side keeps back.
pub fn settle_what_is_kept_back(lane: &str, source: Side, sides: SideNames) -> String {
    format!(
        "Next: katabatic settle PATH --keep {}: the version {} goes over, the one {} into the spares; --keep both: that one stays beside it under a dated name. All of them, as --keep {}: katabatic sync {lane} --restore-drift",
        source.name(),
        sides.at(source),
        sides.at(source.other()),
        source.name()
    )
}

/// What is to be done about a lane next.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Next {
    Settle,
    Mend,
    FirstPass,
    Sync,
    Answer,
    BringOver,
    PutRight,
    Nothing,
}

fn next_of(standing: &LaneStanding) -> Next {
    let any = |wanted: fn(&Agreement) -> bool| {
        let mut counts = standing.counts.iter();
        counts.any(|(agreement, count)| wanted(agreement) && *count > 0)
    };
    if any(|agreement| *agreement == Agreement::Conflict) {
        Next::Settle
    } else if standing.failed.is_some() {
        Next::Mend
    } else if standing.far_seen.is_none() {
        Next::FirstPass
    } else if any(|agreement| matches!(agreement, Agreement::Waiting(_) | Agreement::Stuck)) {
        Next::Sync
    } else if any(|agreement| matches!(agreement, Agreement::Asking(_))) {
        Next::Answer
    } else if any(|agreement| *agreement == Agreement::KeptBack) {
        Next::BringOver
    } else if any(|agreement| *agreement == Agreement::Drift) {
        Next::PutRight
    } else {
        Next::Nothing
    }
}

pub(super) fn say_next(app: &App, lane: &LaneConfig, standing: &LaneStanding) {
    let name = &lane.name;
    let is_away = standing.far_failed.is_some();
    match (next_of(standing), &standing.failed) {
        (Next::Settle, failed) => {
            next_for_conflicts(name);
            if let Some(failed) = failed {
                draw::sentence(app.style, 2, &format!("And: {}", failed.next));
            }
        }
        (Next::Mend, Some(failed)) => {
            draw::sentence(app.style, 2, &format!("Next: {}", failed.next));
        }
        (Next::FirstPass, _) => line(format!(
            "  Next: katabatic plan {name}, then katabatic sync {name}"
        )),
        (Next::Sync | Next::Mend, _) => {
            let once = if is_away {
                "once it is reached again, "
            } else {
                ""
            };
            line(format!("  Next: {once}katabatic sync {name}"));
        }
        (Next::Answer, _) => draw::sentence(
            app.style,
            2,
            "Next: katabatic settle PATH --keep near or far: the side where it is gone says yes, the other one no",
        ),
        (Next::BringOver, _) => draw::sentence(
            app.style,
            2,
            &settle_what_is_kept_back(
                name,
                lane.terms.direction.source().unwrap_or(Side::Near),
                lane.side_names(),
            ),
        ),
        (Next::PutRight, _) => draw::sentence(
            app.style,
            2,
            &format!(
                "Next: it may stay as it is; to put it right: katabatic sync {name} --restore-drift"
            ),
        ),
        (Next::Nothing, _) => {
            let when = if is_away {
                " when it was last reached"
            } else {
                ""
            };
            let last = last_pass_words(standing);
            let last = last.map_or_else(String::new, |last| format!(" Last pass: {last}"));
            draw::sentence(app.style, 2, &format!("All settled{when}.{last}"));
        }
    }
}

fn say_path(
    app: &App,
    lane: &LaneConfig,
    path: &RelPath,
    standing: &LaneStanding,
    list: Listed<'_>,
    settled: &[LanePath],
) {
    let own = standing
        .standings
        .iter()
        .find(|one| one.step.path() == path);
    let Some(own) = own else {
        say_counts(app, lane, path, standing, list, settled);
        return;
    };
    let sides = lane.side_names();
    line(format!("{} in lane {}", shown(path), lane.name));
    let lies = match own.state.lies {
        Lies::Here => String::new(),
        lies => format!(", {}", app.style.lies(lies)),
    };
    line(format!(
        "  state      {}{lies}",
        app.style.state(own.state.agreement)
    ));
    if !own.reason.is_empty() {
        line(format!("  why        {}", own.reason));
    }
    line(format!(
        "  {:<11}{} (looked at {})",
        sides.label(Side::Near),
        view_words(own, Side::Near),
        here_words(standing)
    ));
    let (label, far) = (sides.label(Side::Far), view_words(own, Side::Far));
    if standing.far_seen.is_some() || standing.cut_off {
        line(format!("  {label:<11}{far} ({})", there_words(standing)));
    } else {
        line(format!("  {label:<11}{}", there_words(standing)));
    }
    if own.unproven {
        line(match own.state.lies {
            Lies::Stub => {
                "  believed   to be on the other side, by its version tag and at most parts of it; nobody has read all of it"
            }
            Lies::Here | Lies::There | Lies::Held => {
                "  unproven   the server put it together from the old version and the changes; nobody has read it since"
            }
        });
    }
    line(format!(
        "  places     {} {} {}",
        lane.near.join(path),
        app.style.two_way(),
        far_path(lane, path)
    ));
    if own
        .step
        .entry(Side::Near)
        .or(own.step.entry(Side::Far))
        .is_some_and(|entry| entry.kind == Kind::Folder)
    {
        say_counts(app, lane, path, standing, list, settled);
    }
    let typed = words::typed(&lane.near.join(path).to_string());
    match own.state.agreement {
        Agreement::Waiting(_) => line(format!("  Next: katabatic sync {}", typed)),
        Agreement::Conflict => line(format!(
            "  Next: katabatic settle {typed} --keep near|far|both"
        )),
        Agreement::KeptBack => {
            let source = lane.terms.direction.source().unwrap_or(Side::Near).name();
            line(format!(
                "  Next: katabatic settle {typed} --keep {source}|both"
            ));
        }
        Agreement::Stuck => line(format!(
            "  Next: once the reason is gone, katabatic sync {}",
            lane.name
        )),
        Agreement::LeftOut if own.state.lies == Lies::Stub => line(format!(
            "  Next: left out, its content does not come; how to let it in: katabatic why {typed}"
        )),
        _ if own.state.lies == Lies::Stub => {
            line(format!(
                "  Next: to have its content on this computer: katabatic fetch {typed}"
            ));
        }
        _ => {}
    }
}

pub fn far_path(lane: &LaneConfig, path: &RelPath) -> String {
    format!("{}/{}", lane.far_place().trim_end_matches('/'), shown(path))
}

fn say_counts(
    app: &App,
    lane: &LaneConfig,
    path: &RelPath,
    standing: &LaneStanding,
    list: Listed<'_>,
    settled: &[LanePath],
) {
    line(format!("In {}/ of lane {}", shown(path), lane.name));
    say_seen(app, lane, standing);
    let mut rows = Rows::bare(app.style, 2);
    for (agreement, count) in &standing.counts {
        rows.add(vec![app.style.state(*agreement), words::grouped(*count)]);
    }
    rows_of_contents(app, lane, standing, &mut rows);
    rows.print(2);
    let mut members = folder_listing::members(path, &with_open(settled, standing));
    members.retain(|member| member.fits(list.states));
    if !members.is_empty() {
        line("");
        folder_listing::print(app.style, 2, &members, Reasons::Untold);
    }
    say_each(app, &[("", standing)], list);
}

/// Settled paths of a standing with those of it that are not, in the order of paths.
fn with_open(settled: &[LanePath], standing: &LaneStanding) -> Vec<LanePath> {
    let mut all = settled.to_vec();
    all.extend(open_paths(standing));
    all.sort_by(|one, other| one.path.cmp(&other.path));
    all
}

/// What is settled, where it was asked for by its state.
fn say_settled(app: &App, lanes: &[(&str, &[LanePath])], list: Listed<'_>) {
    let named = |lane: &str, one: &LanePath| match lane {
        "" => one.path.to_string(),
        lane => format!("{lane}: {}", one.path),
    };
    let mut settled = Vec::new();
    for (lane, paths) in lanes {
        settled.extend(paths.iter().map(|one| Member::of(one, named(lane, one))));
    }
    let more = settled.len().saturating_sub(NAMED);
    if !list.all {
        settled.truncate(NAMED);
    }
    if !settled.is_empty() {
        line("");
    }
    folder_listing::print(app.style, 2, &settled, Reasons::Untold);
    if more > 0 && !list.all {
        line(format!(
            "  and {}: with --all",
            words::count(more as u64, "path more", "paths more")
        ));
    }
}

fn view_words(own: &Standing, side: Side) -> String {
    match own.step.view(side) {
        View::Absent => "nothing of that name".to_owned(),
        View::Unknown(why) => format!("unknown: {why}"),
        View::Present(entry) => entry_words(entry),
    }
}

/// Kind, size and time of what a side shows.
pub fn entry_words(entry: &Entry) -> String {
    match entry.kind {
        Kind::Folder => "a folder".to_owned(),
        Kind::Odd(odd) => odd.reason().to_owned(),
        Kind::File if entry.is_stub() => format!(
            "a stub of {}, nothing of the content",
            words::bytes(entry.size)
        ),
        Kind::File => match (entry.edited, entry.received) {
            (Some(at), _) => format!("{}, edited {}", words::bytes(entry.size), time::time(at)),
            (None, Some(at)) => {
                format!("{}, received {}", words::bytes(entry.size), time::time(at))
            }
            (None, None) => words::bytes(entry.size),
        },
    }
}

fn path_json(step: &Step, state: FileState, reason: &str, unproven: bool) -> Value {
    json!({
        "path": step.path().as_str(),
        "state": state.agreement.word(),
        "lies": json::lies(state.lies),
        "reason": reason,
        "unproven": unproven,
        "near": json::entry(step.entry(Side::Near)),
        "far": json::entry(step.entry(Side::Far)),
    })
}

/// What is settled; that it is unproven is told where it is asked about alone.
fn settled_json(lane: &LaneConfig, step: &Step) -> Value {
    path_json(step, settled_state(lane, step), "", false)
}

/// A line of the stream about what is settled.
fn settled_line(lane: &LaneConfig, step: &Step) -> String {
    with_lane(&lane.name, settled_json(lane, step))
}

fn with_lane(lane: &str, mut value: Value) -> String {
    value["lane"] = json!(lane);
    json::text(&value)
}

fn say_lines(lane: &LaneConfig, standing: &LaneStanding, list: Listed<'_>) {
    for one in &standing.standings {
        // What is settled was told while it was found.
        let agreement = one.state.agreement;
        if agreement != Agreement::Settled && list.names(one.state) {
            let told = path_json(&one.step, one.state, &one.reason, one.unproven);
            line(with_lane(&lane.name, told));
        }
    }
    if list.names_left_out() {
        for name in &standing.unusable {
            let told = json!({"path": null, "shown": name.shown, "state": Agreement::LeftOut.word(), "reason": name.why});
            line(with_lane(&lane.name, told));
        }
    }
}

/// Whether anything runs a lane by itself, and when next.
fn by_itself_json(agent: Option<&Answer>, died: bool, name: &str) -> Value {
    let lane = agent.and_then(|agent| agent.lanes.iter().find(|lane| lane.lane == name));
    json!({
        "agent": agent.is_some(),
        "died": died,
        "words": by_itself(agent, died, name),
        "next": json::time(lane.and_then(|lane| lane.next).map(EditTime)),
    })
}

fn standing_json(
    lane: &LaneConfig,
    path: &RelPath,
    standing: &LaneStanding,
    list: Listed<'_>,
    settled: Vec<Value>,
) -> Value {
    let named = standing
        .standings
        .iter()
        .filter(|one| list.names(one.state));
    let one = |one: &Standing| path_json(&one.step, one.state, &one.reason, one.unproven);
    let files: Vec<Value> = named.map(one).chain(settled).collect();
    let counts: serde_json::Map<String, Value> = standing
        .counts
        .iter()
        .map(|(agreement, count)| (agreement.word().to_owned(), json!(count)))
        .collect();
    let lies: serde_json::Map<String, Value> = standing
        .lies
        .iter()
        .map(|(lies, tally)| {
            let tally = json!({"files": tally.files, "bytes": tally.bytes});
            (json::lies(*lies).to_owned(), tally)
        })
        .collect();
    let waiting = |side| waiting_bytes(standing, Agreement::Waiting(side));
    json!({
        "lane": lane.name,
        "path": path.as_str(),
        "pass": standing.pass,
        "last_pass": LastPass::of(standing).map(|last| json!({
            "at": json::time(last.at),
            "run": last.run,
            "outcome": last.outcome,
            "failed": last.failed,
            "next": standing.failed.as_ref().map(|failed| &failed.next),
        })),
        "waiting_bytes": {"up": waiting(Side::Far), "down": waiting(Side::Near)},
        "near_seen": json::time(standing.near_seen),
        "far_seen": json::time(standing.far_seen),
        "far_failed": standing.far_failed.as_ref().map(|(at, why)| json!({"at": json::time(Some(*at)), "why": why})),
        "counts": counts,
        "settled_bytes": standing.settled_bytes,
        "lies": lies,
        "open_stubs": standing.open_stubs,
        "believed": {"files": standing.believed.files, "bytes": standing.believed.bytes},
        "kept_away": standing.kept_away.iter().map(RelPath::as_str).collect::<Vec<_>>(),
        "files": files,
        "unusable": standing.unusable.iter().map(|name| json!({"shown": name.shown, "reason": name.why})).collect::<Vec<_>>(),
    })
}
