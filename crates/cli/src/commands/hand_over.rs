//! `hand-over`: may this computer be wiped or given away? One answer, from both sides read and compared.

use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::Arc;

use clap::Args;
use katabatic_agent::{self as agent, Ask};
use katabatic_core::{RelPath, Side, words};
use katabatic_engine::audit::{self, Audit};
use katabatic_engine::config::LaneConfig;
use katabatic_engine::hand_over::{self, Obstacle, Uncovered};
use katabatic_engine::pass::Progress;
use katabatic_engine::{Class, Error, standing};
use serde_json::{Value, json};

use super::audit::ask_before_reading;
use super::status::heading;
use crate::app::App;
use crate::draw::audit_words::verdict_told;
use crate::draw::look::{Drawn, Look};
use crate::draw::page::{Column, Table};
use crate::draw::{self, error, json, line, new_file, page, progress, shown, shown_text, time};
use crate::exit;

/// `hand-over`.
#[derive(Args, Debug)]
pub struct HandOverArgs {
    /// This folder right in the home folder need not be kept; a dot stands for the files that lie in none
    #[arg(long, value_name = "FOLDER")]
    pub except: Vec<PathBuf>,
    /// Write the answer on a page for the ticket, too
    #[arg(long, value_name = "FILE.html")]
    pub to: Option<PathBuf>,
    /// Do not ask before everything is read
    #[arg(long)]
    pub yes: bool,
}

/// A lane, with what was found of it.
struct Lane {
    config: LaneConfig,
    compared: Option<Audit>,
    obstacles: Vec<Obstacle>,
}

/// All that the answer is made of.
struct Answer {
    lanes: Vec<Lane>,
    /// Beside all lanes, hidden names apart.
    uncovered: Vec<Uncovered>,
    hidden: Vec<Uncovered>,
    spares: (u64, u64),
    agent_runs: bool,
}

impl Answer {
    fn is_yes(&self) -> bool {
        let mut lanes = self.lanes.iter().flat_map(|lane| &lane.obstacles);
        self.uncovered.is_empty() && !lanes.any(Obstacle::is_lost)
    }
}

pub fn hand_over(app: &App, typed: &HandOverArgs) -> Result<ExitCode, Error> {
    if let Some(to) = &typed.to {
        new_file::check(to, &["html"])?;
    }
    let person = person_home()?;
    let excepted = excepted(&person, &typed.except)?;
    let answer = gather(app, typed, &person, &excepted)?;
    if app.common.json {
        json::print(&answer_json(&answer));
    } else {
        say(app, &answer);
    }
    if let Some(to) = &typed.to {
        new_file::write(
            to,
            &on_a_page(&answer, &app.config.account_names()),
            "Nothing else was changed.",
        )?;
        if !app.common.json {
            line(format!(
                "Written: {}",
                shown_text(&to.display().to_string())
            ));
        }
    }
    Ok(match answer.is_yes() {
        true => ExitCode::SUCCESS,
        false => ExitCode::from(exit::NEEDS_A_PERSON),
    })
}

fn person_home() -> Result<PathBuf, Error> {
    std::env::var_os("HOME").map(PathBuf::from).ok_or_else(|| {
        Error::usage(
            "looking for the home folder",
            "HOME is not set",
            "Run it as the person, or with --for USER.",
        )
    })
}

/// Names right in the home folder that need not be kept.
fn excepted(person: &Path, typed: &[PathBuf]) -> Result<Vec<String>, Error> {
    let name = |folder: &PathBuf| {
        // The files that lie in no folder.
        if folder == Path::new(".") {
            return Ok(String::new());
        }
        let at = match folder.is_absolute() {
            true => folder.clone(),
            false => person.join(folder),
        };
        let below = at.strip_prefix(person).ok();
        let name = below.filter(|below| below.components().count() == 1 && at.is_dir());
        name.map(|name| name.to_string_lossy().into_owned())
            .ok_or_else(|| {
                Error::usage(
                    format!("the folder {}", folder.display()),
                    format!("it is no folder right in {}", person.display()),
                    "Name one of those that katabatic hand-over lists.",
                )
            })
    };
    typed.iter().map(name).collect()
}

fn gather(
    app: &App,
    typed: &HandOverArgs,
    person: &Path,
    excepted: &[String],
) -> Result<Answer, Error> {
    let configs = app.config.lanes.clone();
    let counted = match configs.is_empty() {
        true => Vec::new(),
        false => ask_before_reading(app, typed.yes, &configs)?,
    };
    let mut lanes = Vec::new();
    for (config, counted) in configs.into_iter().zip(counted) {
        let drawn = Arc::new(Progress::default());
        let compared = app.run(async {
            let pass = app.pass(&config, Arc::clone(&drawn)).await?;
            let auditing = audit::audit(&pass, false, counted);
            let compared = progress::during(app.style, &config.name, drawn, auditing).await?;
            // Reading takes its time, and people go on working meanwhile.
            let looked = standing::look(&pass, &RelPath::root(), &time::time).await?;
            Ok::<_, Error>((compared, looked))
        });
        if app.stop.asked() {
            return Err(Error::new(
                Class::Stopped,
                "finding out whether this computer may go",
                "it was stopped before everything was compared",
                "Begin again: katabatic hand-over",
            ));
        }
        lanes.push(match compared {
            Ok((compared, looked)) => Lane {
                obstacles: hand_over::of_lane(&config, &compared, &looked),
                compared: Some(compared),
                config,
            },
            Err(why) => Lane {
                obstacles: vec![Obstacle::NotCompared(why)],
                compared: None,
                config,
            },
        });
    }
    let locals = app.config.lanes.iter();
    let locals = locals.flat_map(|lane| [lane.near.local(), lane.far.local()]);
    let mut covered: Vec<&Path> = locals.flatten().map(AsRef::as_ref).collect();
    let config_file = app.home.config_file();
    covered.push(app.home.state());
    covered.extend(config_file.parent());
    let beside = hand_over::uncovered(person, &covered).map_err(|why| {
        Error::failed(
            format!("looking at {}", person.display()),
            why.to_string(),
            "Run it as the person whose computer it is, or with --for USER.",
        )
    })?;
    let (hidden, uncovered): (Vec<_>, Vec<_>) = beside.into_iter().partition(Uncovered::is_hidden);
    Ok(Answer {
        lanes,
        uncovered: uncovered
            .into_iter()
            .filter(|one| !excepted.contains(&one.name))
            .collect(),
        hidden,
        spares: hand_over::spares_here(&app.ledger)?,
        agent_runs: app
            .run(agent::ask(&app.home, &Ask::Status))
            .ok()
            .flatten()
            .is_some(),
    })
}

fn files_words((files, bytes): (u64, u64)) -> String {
    format!(
        "{}, {}",
        words::count(files, "file", "files"),
        words::bytes(bytes)
    )
}

fn name_of(one: &Uncovered) -> String {
    match one.name.is_empty() {
        true => "(in no folder)".to_owned(),
        false => format!("{}/", shown_text(&one.name)),
    }
}

/// What stands against it, a sentence each.
fn obstacle_words(lane: &LaneConfig, obstacle: &Obstacle) -> Vec<String> {
    let name = &lane.name;
    match obstacle {
        Obstacle::NotCompared(why) => vec![format!(
            "it could not be compared: {}. {}",
            why.why, why.next
        )],
        Obstacle::NotWhole => vec![format!(
            "a side could not be listed whole, so there may be more: katabatic status {name} --fresh"
        )],
        Obstacle::NotThere { files, some } => {
            let mut told = vec![format!(
                "{} not proven to be {}: katabatic status {name}, then katabatic sync {name}",
                files_words(*files),
                lane.side_names().at(Side::Far)
            )];
            let each = some.iter();
            let sides = lane.side_names();
            told.extend(each.map(|(path, verdict)| {
                format!("{}: {}", shown(path), verdict_told(*verdict, sides))
            }));
            if files.0 > some.len() as u64 {
                told.push(format!(
                    "and {} more",
                    words::grouped(files.0 - some.len() as u64)
                ));
            }
            told
        }
        Obstacle::Names(names) => vec![format!(
            "{} that no lane carries, to be renamed: {}",
            words::count(names.len() as u64, "name", "names"),
            names
                .iter()
                .map(|name| shown_text(name))
                .collect::<Vec<_>>()
                .join(", ")
        )],
        Obstacle::ChangedSince(paths) => vec![format!(
            "{} changed while it was compared: katabatic sync {name}, then ask again",
            words::count(*paths, "path", "paths")
        )],
        Obstacle::OneDisk => {
            vec!["both of its sides lie on the same disk, and go with it".to_owned()]
        }
        Obstacle::IsADrive(at) => vec![format!(
            "its other side is {}: keep that drive, it is no account",
            at.display()
        )],
    }
}

/// What of a lane is well.
fn well_words(lane: &Lane) -> String {
    let Some(compared) = &lane.compared else {
        return "not compared".to_owned();
    };
    let total = compared.total();
    let mut told = format!(
        "{} of {} proven to be {}",
        words::grouped(total.equal),
        files_words((total.near.files, total.near.bytes)),
        lane.config.side_names().at(Side::Far)
    );
    if compared.stubs.files > 0 {
        told.push_str(&format!(
            ", {} are stubs whose version is still the one they were made of",
            words::grouped(compared.stubs.files)
        ));
    }
    told
}

/// What only this computer has, and is usually not missed.
fn to_be_minded(answer: &Answer) -> Vec<String> {
    let mut told = Vec::new();
    for lane in &answer.lanes {
        let compared = lane.compared.iter();
        let left_out = compared.flat_map(|compared| &compared.left_out);
        // What the choice leaves out is there alone.
        let is_rule = |by: &str| {
            let mut rules = lane.config.selection.rules.iter();
            rules.any(|rule| rule.text() == by)
        };
        for (by, tally) in left_out.filter(|(by, _)| is_rule(by)) {
            told.push(format!(
                "left out of {} by the rule {}: {}, on either side",
                lane.config.name,
                shown_text(by),
                files_words((tally.files, tally.bytes))
            ));
        }
    }
    if answer.spares.0 > 0 {
        told.push(format!(
            "older versions among the spares of this computer: {}. To see them: katabatic spares list",
            files_words(answer.spares)
        ));
    }
    let largest = answer.hidden.iter().take(HIDDEN);
    told.extend(largest.map(|one| {
        format!(
            "hidden folder {}: {}; programs keep settings there, and some of them mail",
            name_of(one),
            files_words((one.files, one.bytes))
        )
    }));
    if answer.hidden.len() > HIDDEN {
        told.push(format!(
            "and {} more, smaller ones",
            words::count(
                (answer.hidden.len() - HIDDEN) as u64,
                "hidden folder",
                "hidden folders"
            )
        ));
    }
    told
}

/// So many hidden folders are named.
const HIDDEN: usize = 3;

/// What takes the program's own things off this computer, in this order.
fn farewell(answer: &Answer, accounts: &[String]) -> Vec<String> {
    let mut told = vec!["katabatic agent install --off".to_owned()];
    if answer.agent_runs {
        told.insert(0, "katabatic agent stop".to_owned());
    }
    let lanes = answer.lanes.iter();
    told.extend(
        lanes.map(|lane| format!("katabatic lane remove {}", words::typed(&lane.config.name))),
    );
    told.extend(
        accounts
            .iter()
            .map(|name| format!("katabatic account remove {name}")),
    );
    told
}

fn say(app: &App, answer: &Answer) {
    for lane in &answer.lanes {
        heading(app, &lane.config);
        draw::sentence(app.style, 2, &well_words(lane));
        for obstacle in &lane.obstacles {
            let look = match obstacle.is_lost() {
                true => Look::WaitsForYou,
                false => Look::Fine,
            };
            for (at, told) in obstacle_words(&lane.config, obstacle).iter().enumerate() {
                let word = match (at, obstacle.is_lost()) {
                    (0, true) => "  no: ",
                    (0, false) => "  mind: ",
                    _ => "      ",
                };
                let room = app.style.width.map_or(usize::MAX, usize::from);
                let room = room.saturating_sub(word.len()).max(30);
                for (number, part) in draw::wrapped(told, room).iter().enumerate() {
                    let word = if number == 0 { word } else { "      " };
                    Drawn::of(look, word).with(Look::Fine, part).print();
                }
            }
        }
    }
    if !answer.uncovered.is_empty() {
        line("In the home folder, and in no lane:");
    }
    for one in &answer.uncovered {
        line(format!(
            "  {}  {}",
            name_of(one),
            files_words((one.files, one.bytes))
        ));
        for unread in one.unread.iter().take(HIDDEN) {
            line(format!("      not looked into: {}", shown_text(unread)));
        }
    }
    let minded = to_be_minded(answer);
    if !minded.is_empty() {
        line("Only on this computer, and usually not missed:");
    }
    for told in minded {
        draw::sentence(app.style, 2, &told);
    }
    if answer.is_yes() {
        Drawn::of(
            Look::Heading,
            "Yes: nothing that a lane covers, and no folder, is lost with this computer.",
        )
        .print();
        line(
            "To take the program's own things and the secrets off it, once nothing more is to be carried:",
        );
        for command in farewell(answer, &app.config.account_names()) {
            line(format!("  {command}"));
        }
        return;
    }
    Drawn::of(Look::WaitsForYou, "No: not yet.")
        .with(Look::Fine, " See to each \"no\" above, and ask again.")
        .print();
    if !answer.uncovered.is_empty() {
        draw::sentence(
            app.style,
            0,
            "A folder in no lane: katabatic cover FOLDER or katabatic lane add; one that need not be kept: katabatic hand-over --except FOLDER",
        );
    }
}

fn on_a_page(answer: &Answer, accounts: &[String]) -> String {
    let mut body = String::new();
    let (class, verdict) = match answer.is_yes() {
        true => (
            "good",
            "Yes: nothing that a lane covers, and no folder, is lost with this computer.",
        ),
        false => ("bad", "No: not yet. What is in the way stands below."),
    };
    body.push_str(&format!(
        "<section><p class=\"{class}\">{verdict}</p></section>"
    ));
    let uncovered = answer.uncovered.iter().map(|one| {
        format!(
            "In no lane: {} {}",
            name_of(one),
            files_words((one.files, one.bytes))
        )
    });
    let lost = obstacles(answer, true).chain(uncovered).collect();
    let commands = farewell(answer, accounts);
    let to_do = match answer.is_yes() {
        true => commands,
        false => vec![
            "See to what is in the way, and ask again: katabatic hand-over".to_owned(),
            "A folder in no lane: katabatic cover FOLDER or katabatic lane add; one that need not be kept: katabatic hand-over --except FOLDER".to_owned(),
        ],
    };
    let sections: [(&str, Vec<String>); 3] = [
        ("In the way", lost),
        ("To be minded", obstacles(answer, false).collect()),
        (
            "Only on this computer, and usually not missed",
            to_be_minded(answer),
        ),
    ];
    for (heading, told) in sections {
        section(&mut body, heading, &told);
    }
    let mut table = Table::new(&[
        ("lane", Column::Word),
        ("this computer", Column::Text),
        ("the other side", Column::Text),
        ("content", Column::Text),
    ]);
    for lane in &answer.lanes {
        table.row(&[
            lane.config.name.clone(),
            lane.config.near.to_string(),
            lane.config.far_place(),
            well_words(lane),
        ]);
    }
    body.push_str(&format!("<section><h2>Lanes</h2>{}</section>", table.end()));
    section(&mut body, "What to do", &to_do);
    page::whole("May this computer be wiped or given away?", &body)
}

fn section(body: &mut String, heading: &str, told: &[String]) {
    if told.is_empty() {
        return;
    }
    body.push_str(&format!("<section><h2>{heading}</h2>"));
    page::list(body, told);
    body.push_str("</section>");
}

/// What is in the way of each lane, or is only to be minded.
fn obstacles(answer: &Answer, lost: bool) -> impl Iterator<Item = String> + '_ {
    answer.lanes.iter().flat_map(move |lane| {
        let wanted = lane
            .obstacles
            .iter()
            .filter(move |obstacle| obstacle.is_lost() == lost);
        wanted.map(|obstacle| {
            let words = obstacle_words(&lane.config, obstacle).join("; ");
            format!("Lane {}: {words}", lane.config.name)
        })
    })
}

fn answer_json(answer: &Answer) -> Value {
    let files = |(files, bytes): (u64, u64)| json!({"files": files, "bytes": bytes});
    let beside = |one: &Uncovered| json!({"name": one.name, "files": one.files, "bytes": one.bytes, "unread": one.unread});
    let obstacle = |obstacle: &Obstacle| {
        let (word, count, about) = match obstacle {
            Obstacle::NotCompared(why) => ("not compared", Value::Null, error::described(why)),
            Obstacle::NotWhole => ("not listed whole", Value::Null, Value::Null),
            Obstacle::NotThere { files: count, some } => (
                "not there",
                files(*count),
                some.iter()
                    .map(
                        |(path, verdict)| json!({"path": path.as_str(), "verdict": verdict.word()}),
                    )
                    .collect(),
            ),
            Obstacle::Names(names) => (
                "names",
                Value::Null,
                names
                    .iter()
                    .map(|name| json!({"path": name, "verdict": "not carried"}))
                    .collect(),
            ),
            Obstacle::ChangedSince(paths) => (
                "changed since",
                json!({"files": paths, "bytes": null}),
                Value::Null,
            ),
            Obstacle::OneDisk => ("one disk", Value::Null, Value::Null),
            Obstacle::IsADrive(at) => (
                "a drive",
                Value::Null,
                json!([{"path": at.to_string_lossy(), "verdict": "keep it"}]),
            ),
        };
        json!({"what": word, "lost": obstacle.is_lost(), "count": count, "about": about})
    };
    let lane = |lane: &Lane| {
        let total = lane.compared.as_ref().map(Audit::total).unwrap_or_default();
        json!({
            "lane": lane.config.name,
            "here": files((total.near.files, total.near.bytes)),
            "proven": total.equal,
            "stubs": lane.compared.as_ref().map_or(0, |compared| compared.stubs.files),
            "obstacles": lane.obstacles.iter().map(obstacle).collect::<Vec<_>>(),
        })
    };
    json!({
        "may_go": answer.is_yes(),
        "lanes": answer.lanes.iter().map(lane).collect::<Vec<_>>(),
        "uncovered": answer.uncovered.iter().map(beside).collect::<Vec<_>>(),
        "hidden": answer.hidden.iter().map(beside).collect::<Vec<_>>(),
        "spares": files(answer.spares),
        "agent": answer.agent_runs,
    })
}
