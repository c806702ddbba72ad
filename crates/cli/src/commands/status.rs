//! `status`: where files stand, and why.

use crate::draw::run_words::did;
use crate::draw::run_words::outcome;
use crate::draw::urgency::urgency;
use clap::Args;
use clap::ValueEnum;
use std::process::ExitCode;
use std::sync::Arc;

use katabatic_agent::{self as agent, Answer, Ask};
use katabatic_core::{
    Agreement, EditTime, Entry, FileState, Kind, Lies, RelPath, RunClass, Side, Step, View, words,
};
use katabatic_engine::config::LaneConfig;
use katabatic_engine::pass::Progress;
use katabatic_engine::standing::{self, LaneStanding, Standing};
use katabatic_engine::{Class, Error};
use serde_json::{Value, json};

use super::agent::by_itself;
use super::openings::under_way_words;
use crate::about::{About, understand};
use crate::app::App;
use crate::draw::listing::Item;
use crate::draw::state_tree::StateTree;
use crate::draw::table::Rows;
use crate::draw::{self, json, line, listing, progress, shown, shown_text, time};
use crate::exit;

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

/// How a path stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum StateTyped {
    /// A change is known and not carried yet
    Waiting,
    /// Both sides changed
    Conflict,
    /// It cannot be carried
    Stuck,
    /// Its removal waits for a yes
    Asking,
    /// One-way: the receiving side changed by itself
    Drift,
    /// A rule, the choice or its kind keeps it out
    LeftOut,
}

pub fn status(app: &App, typed: &crate::commands::status::StatusArgs) -> Result<ExitCode, Error> {
    let (mut code, mut answers, mut all) = (0, Vec::new(), Vec::new());
    // Of several lanes, each is told first, and then whatever of them needs somebody.
    let about_all = typed.about.is_empty() && app.config.lanes.len() > 1;
    let list = Listed {
        states: &typed.state,
        all: typed.all,
    };
    // An agent that does not answer is told by its own command; here it is one that does not run.
    let agent = app.run(agent::ask(&app.home, &Ask::Status)).ok().flatten();
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
            let told = &mut |step: &Step| {
                if app.common.json && typed.all && list.names(Agreement::Settled) {
                    settled.push(settled_json(&lane, step));
                } else if typed.tree {
                    tree.settled(step);
                } else if typed.lines && list.names(Agreement::Settled) {
                    line(settled_line(&lane, step));
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
                    } else {
                        say_failed(app, &lane, &error);
                    }
                    continue;
                }
                looked => looked?,
            };
            check_known(&lane, &path, &standing)?;
            if lane.account(Side::Far).is_none() && standing.far_failed.is_some() {
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
                say_seen(app, &standing);
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
                told["by_itself"] = by_itself_json(agent.as_ref(), &lane.name);
                answers.push(told);
            } else if path.is_root() && about_all {
                say_lane(app, &lane, &standing);
                say_last_pass(app, &standing);
                // Where none runs, that is said once of all.
                if agent.is_some() {
                    say_by_itself(app, agent.as_ref(), &lane);
                }
                say_next(app, &lane, &standing);
                all.push((lane.name.clone(), standing));
            } else if path.is_root() {
                say_lane(app, &lane, &standing);
                say_last_pass(app, &standing);
                say_by_itself(app, agent.as_ref(), &lane);
                say_each(app, &[("", &standing)], list);
                say_next(app, &lane, &standing);
            } else {
                say_path(app, &lane, &path, &standing, list);
            }
        }
    }
    if app.common.json {
        json::print(&json!({"lanes": answers}));
    }
    let all: Vec<(&str, &LaneStanding)> = all
        .iter()
        .map(|(lane, standing)| (lane.as_str(), standing))
        .collect();
    if agent.is_none() && !all.is_empty() {
        line("No agent runs: all lanes run by hand alone (katabatic agent start)");
    }
    say_each(app, &all, list);
    Ok(ExitCode::from(code))
}

/// A path that was typed has to be somewhere.
fn check_known(lane: &LaneConfig, path: &RelPath, standing: &LaneStanding) -> Result<(), Error> {
    if path.is_root() || !(standing.standings.is_empty() && standing.counts.is_empty()) {
        return Ok(());
    }
    Err(Error::usage(
        format!("the status of {} in lane {}", shown(path), lane.name),
        "nothing of that name is here, and none was seen there by the last pass",
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

fn say_seen(app: &App, standing: &LaneStanding) {
    line(format!(
        "  seen: here {}, there {}",
        here_words(standing),
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
}

impl Listed<'_> {
    fn names(self, agreement: Agreement) -> bool {
        let wanted = |state: &StateTyped| match state {
            StateTyped::Waiting => matches!(agreement, Agreement::Waiting(_)),
            StateTyped::Conflict => agreement == Agreement::Conflict,
            StateTyped::Stuck => agreement == Agreement::Stuck,
            StateTyped::Asking => matches!(agreement, Agreement::Asking(_)),
            StateTyped::Drift => agreement == Agreement::Drift,
            StateTyped::LeftOut => agreement == Agreement::LeftOut,
        };
        self.states.is_empty() || self.states.iter().any(wanted)
    }
}

/// What waits to be carried one way, in bytes.
fn waiting_bytes(standing: &LaneStanding, agreement: Agreement) -> u64 {
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
    if console::measure_text_width(&whole) <= room {
        line(whole);
        return;
    }
    let arrow = app.style.arrow(lane.terms.direction);
    line(format!("Lane {}: {}", lane.name, lane.near));
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

fn say_by_itself(app: &App, agent: Option<&Answer>, lane: &LaneConfig) {
    let runs = format!("runs {}", by_itself(agent, &lane.name));
    draw::sentence(app.style, 2, &runs);
    let under_way = agent.iter().flat_map(|agent| &agent.openings.under_way);
    for one in under_way.filter(|one| one.lane == lane.name) {
        line(format!("  opening {}", under_way_words(one)));
    }
}

/// When the last pass over the lane was, and how it ended.
struct LastPass {
    at: Option<EditTime>,
    run: Option<i64>,
    outcome: String,
    failed: bool,
}

impl LastPass {
    fn of(standing: &LaneStanding) -> Option<LastPass> {
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
        let ended = standing
            .last_run
            .as_ref()
            .map(|run| run.ended.unwrap_or(run.began));
        match &standing.last_run {
            Some(run) if standing.pass_seen <= ended => Some(LastPass {
                at: ended,
                run: Some(run.number),
                outcome: match run.class() {
                    RunClass::Fine => did(run),
                    RunClass::NeedsPerson | RunClass::Failed | RunClass::CutOff => outcome(run),
                },
                failed: run.class() == RunClass::Failed,
            }),
            _ => standing.pass_seen.map(|at| LastPass {
                at: Some(at),
                run: None,
                outcome: "nothing to carry".to_owned(),
                failed: false,
            }),
        }
    }
}

/// The last pass in words.
fn last_pass_words(standing: &LaneStanding) -> Option<String> {
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
    say_seen(app, standing);
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
    rows_of_contents(app, standing, &mut rows);
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
        line("  both sides are empty");
    }
    rows.print(2);
}

/// Where the content lies, where not all of it simply lies here.
fn rows_of_contents(app: &App, standing: &LaneStanding, rows: &mut Rows) {
    for (lies, what) in [
        (Lies::Stub, "shown here, whose content is only there"),
        (Lies::Held, "that stay here for good"),
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
                "{} of them, {}: believed to be there, not proven",
                words::grouped(standing.believed.files),
                words::bytes(standing.believed.bytes)
            ),
        ]);
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
        lead: app.style.state(agreement),
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
            .filter(|one| list.names(one.state.agreement));
        open.extend(named.map(|one| (*lane, one)));
        let named = standing
            .unusable
            .iter()
            .filter(|_| list.names(Agreement::LeftOut));
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

/// What is to be done about a lane next.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Next {
    Settle,
    Mend,
    FirstPass,
    Sync,
    Answer,
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
    } else if any(|agreement| *agreement == Agreement::Drift) {
        Next::PutRight
    } else {
        Next::Nothing
    }
}

fn say_next(app: &App, lane: &LaneConfig, standing: &LaneStanding) {
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
        (Next::PutRight, _) => draw::sentence(
            app.style,
            2,
            &format!(
                "Next: it may stay as it is; to put it right: katabatic sync {name} --restore-drift"
            ),
        ),
        (Next::Nothing, _) => {
            let when = if is_away {
                " when it was last seen there"
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
) {
    let own = standing
        .standings
        .iter()
        .find(|one| one.step.path() == path);
    let Some(own) = own else {
        say_counts(app, lane, path, standing, list);
        return;
    };
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
        "  here       {} (looked at {})",
        view_words(own, Side::Near),
        here_words(standing)
    ));
    let far = view_words(own, Side::Far);
    if standing.far_seen.is_some() || standing.cut_off {
        line(format!("  there      {far} ({})", there_words(standing)));
    } else {
        line(format!("  there      {}", there_words(standing)));
    }
    if own.unproven {
        line(match own.state.lies {
            Lies::Stub => {
                "  believed   to be there, by its version tag and at most parts of it; nobody has read all of it there"
            }
            Lies::Here | Lies::There | Lies::Held => {
                "  unproven   the server put it together from the old version and the changes; nobody has read it there yet"
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
        say_counts(app, lane, path, standing, list);
    }
    let typed = words::typed(&lane.near.join(path).to_string());
    match own.state.agreement {
        Agreement::Waiting(_) => line(format!("  Next: katabatic sync {}", typed)),
        Agreement::Conflict => line(format!(
            "  Next: katabatic settle {typed} --keep near|far|both"
        )),
        Agreement::Stuck => line(format!(
            "  Next: once the reason is gone, katabatic sync {}",
            lane.name
        )),
        Agreement::LeftOut if own.state.lies == Lies::Stub => line(format!(
            "  Next: left out, its content does not come; how to let it in: katabatic why {typed}"
        )),
        _ if own.state.lies == Lies::Stub => {
            line(format!(
                "  Next: to bring its content here, katabatic fetch {typed}"
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
) {
    line(format!("In {}/ of lane {}", shown(path), lane.name));
    say_seen(app, standing);
    let mut rows = Rows::bare(app.style, 2);
    for (agreement, count) in &standing.counts {
        rows.add(vec![app.style.state(*agreement), words::grouped(*count)]);
    }
    rows_of_contents(app, standing, &mut rows);
    rows.print(2);
    say_each(app, &[("", standing)], list);
}

fn view_words(own: &Standing, side: Side) -> String {
    match own.step.view(side) {
        View::Absent => "not there".to_owned(),
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
    let held = lane.contents.held_by(step.path()).is_some();
    let state = FileState {
        agreement: Agreement::Settled,
        lies: Lies::of(step.entry(Side::Near), held),
    };
    path_json(step, state, "", false)
}

/// A line of the stream about what is settled.
fn settled_line(lane: &LaneConfig, step: &Step) -> String {
    with_lane(&lane.name, settled_json(lane, step))
}

fn with_lane(lane: &str, mut value: Value) -> String {
    value["lane"] = json!(lane);
    value.to_string()
}

fn say_lines(lane: &LaneConfig, standing: &LaneStanding, list: Listed<'_>) {
    for one in &standing.standings {
        // What is settled was told while it was found.
        let agreement = one.state.agreement;
        if agreement != Agreement::Settled && list.names(agreement) {
            let told = path_json(&one.step, one.state, &one.reason, one.unproven);
            line(with_lane(&lane.name, told));
        }
    }
    if list.names(Agreement::LeftOut) {
        for name in &standing.unusable {
            let told = json!({"path": null, "shown": name.shown, "state": Agreement::LeftOut.word(), "reason": name.why});
            line(with_lane(&lane.name, told));
        }
    }
}

/// Whether anything runs a lane by itself, and when next.
fn by_itself_json(agent: Option<&Answer>, name: &str) -> Value {
    let lane = agent.and_then(|agent| agent.lanes.iter().find(|lane| lane.lane == name));
    json!({
        "agent": agent.is_some(),
        "words": by_itself(agent, name),
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
        .filter(|one| list.names(one.state.agreement));
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
        "believed": {"files": standing.believed.files, "bytes": standing.believed.bytes},
        "kept_away": standing.kept_away.iter().map(RelPath::as_str).collect::<Vec<_>>(),
        "files": files,
        "unusable": standing.unusable.iter().map(|name| json!({"shown": name.shown, "reason": name.why})).collect::<Vec<_>>(),
    })
}
