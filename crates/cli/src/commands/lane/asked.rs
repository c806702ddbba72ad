//! `lane add` on a terminal, with nothing said: it asks step by step, in the order in which technicians work.
//!
//! Every answer has an option, and the equal command line is shown at the end, so that the next lane, or the next
//! computer, needs no questions.

use crate::commands::lane::add::LaneAdd;
use crate::commands::plan::time_words;
use crate::setup::{ContentsTyped, SetupArgs};
use clap::Args;
use katabatic_core::schedule::When;
use katabatic_core::{Direction, PerSide, Removals, Side, SideNames, did_you_mean};
use std::io::BufRead;
use std::path::Path;

use katabatic_core::place::{Place, absolute};
use katabatic_core::{RelPath, words};
use katabatic_engine::config::LaneConfig;
use katabatic_engine::places::{Sizes, sizes};
use katabatic_engine::{Error, forecast, lanes};

use crate::app::App;
use crate::draw::{at_home, line, shown_text};

/// `lane add`, as it was typed; on a terminal it asks for what is missing.
#[derive(Args, Debug)]
pub struct LaneAskedArgs {
    /// The name it gets
    pub name: Option<String>,
    /// The folder on this computer
    #[arg(long, value_name = "DIR")]
    pub near: Option<String>,
    /// The folder of an account, or of another drive
    #[arg(long, value_name = "@ACCOUNT/FOLDER|DIR")]
    pub far: Option<String>,
    /// Make a folder that is not there
    #[arg(long)]
    pub make: bool,
    /// How it works.
    #[command(flatten)]
    pub setup: SetupArgs,
}

/// What the first pass would do where a folder is new: there is only one side to look at.
pub struct NewFolder {
    made: String,
    to: Side,
    files: u64,
    bytes: u64,
}

impl NewFolder {
    /// Says it, a line each.
    pub fn say(&self, app: &App, lane: &LaneConfig) {
        line(format!("  make {}", self.made));
        line(format!(
            "  carry {} {}, {}, but for what rules leave out",
            words::count(self.files, "file", "files"),
            self.to.towards(),
            words::bytes(self.bytes)
        ));
        let bytes = PerSide::of(|side| if side == self.to { self.bytes } else { 0 });
        // That the ledger cannot be read is told where it matters.
        let forecast =
            forecast::of_bytes(&app.ledger, &app.config, lane, bytes, std::iter::empty());
        for told in time_words(&forecast.unwrap_or_default()) {
            line(format!("  {told}"));
        }
        let folder = lane.place(self.to).local();
        if let Some(free) = folder.and_then(lanes::free_at)
            && free < self.bytes
        {
            line(format!(
                "Mind: {} are to come, and {} are free: none of it would be carried",
                words::bytes(self.bytes),
                words::bytes(free)
            ));
        }
    }
}

/// A name for the lane, asked until it is a free one.
fn free_name(app: &App, usual: &str) -> Result<String, Error> {
    let lanes = &app.config.lanes;
    let is_taken = |name: &str| lanes.iter().any(|lane| lane.name == name);
    let usual = match is_taken(usual) {
        true => String::new(),
        false => usual.to_owned(),
    };
    loop {
        let name = line_or("What is the lane to be called?", &usual)?;
        match app.config.check_free("lane", &name, is_taken(&name)) {
            Ok(()) => return Ok(name),
            Err(why) => say(&format!("Another one, please: {}.", why.why)),
        }
    }
}

/// Where the other side is.
enum OtherSide {
    Account(String),
    Here,
}

/// The answers, as if they had been typed; and which folder is new, if one is.
pub fn ask(app: &App, typed: &LaneAskedArgs) -> Result<(LaneAdd, Option<NewFolder>), Error> {
    let other = other_side(app)?;
    let looked_at = |place: &Place| {
        say(&format!("Looking at {place} …"));
        app.run(sizes(&app.home, &app.config, place, &app.stop))
    };
    let (far, inside) = match &other {
        OtherSide::Account(account) => {
            let whole = Place::Far {
                account: account.clone(),
                path: RelPath::root(),
            };
            let (path, inside) = far_folder(account, &looked_at(&whole)?)?;
            let account = account.clone();
            (Place::Far { account, path }, inside)
        }
        OtherSide::Here => {
            let far = Place::Local(absolute(Path::new(&folder_here(
                "Which folder, on another drive or on this one? It is made if it does not exist.",
                "",
            )?)));
            let inside = match far.local().is_some_and(Path::is_dir) {
                true => Some(looked_at(&far)?),
                false => None,
            };
            (far, inside)
        }
    };
    let near = near_folder(app, &far)?;
    let name = match &typed.name {
        Some(name) => name.clone(),
        None => free_name(app, &usual_name(&far))?,
    };
    let here = Place::Local(absolute(Path::new(&near)));
    let direction = direction(app, &here, &far)?;
    let skip = skipped(inside.as_ref())?;
    let no_usual_rules = !yes("Leave out the usual junk (Thumbs.db, ~$…, unfinished downloads)?")?;
    let leave_out = line_or(
        "More to leave out, such as *.tmp cache/ :larger,2GB (blanks between them)?",
        "",
    )?;
    let removals = removals(direction)?;
    let contents = contents(direction)?;
    let when = when()?;
    let new = match (here.local().is_some_and(Path::is_dir), &inside) {
        (true, Some(_)) => None,
        (_, Some(inside)) => Some(new_near(&here, inside, &skip, direction)),
        (true, None) => Some(new_far(&far, &looked_at(&here)?, direction)),
        (false, None) => Some(new_far(&far, &Sizes::default(), direction)),
    };
    let setup = SetupArgs {
        direction: Some(direction),
        removals,
        contents,
        when,
        skip,
        no_usual_rules,
        leave_out: leave_out
            .split_whitespace()
            .map(|rule| rule.replace(',', " "))
            .collect(),
        ..typed.setup.clone()
    };
    let whole = LaneAdd {
        name,
        near: here.to_string(),
        far: far.to_string(),
        make: true,
        setup,
    };
    Ok((whole, new))
}

fn new_near(near: &Place, inside: &Sizes, skip: &[String], direction: Direction) -> NewFolder {
    let comes = direction != Direction::Up;
    let left = skip.iter().filter_map(|folder| inside.folders.get(folder));
    let (files, bytes) = left.fold((inside.files, inside.bytes), |(files, bytes), left| {
        (files - left.files, bytes - left.bytes)
    });
    NewFolder {
        made: near.to_string(),
        to: Side::Near,
        files: if comes { files } else { 0 },
        bytes: if comes { bytes } else { 0 },
    }
}

fn new_far(far: &Place, inside: &Sizes, direction: Direction) -> NewFolder {
    let goes = direction != Direction::Down;
    NewFolder {
        made: far.to_string(),
        to: Side::Far,
        files: if goes { inside.files } else { 0 },
        bytes: if goes { inside.bytes } else { 0 },
    }
}

/// What to type for the same lane without questions.
pub fn equal_command(add: &LaneAdd) -> String {
    let mut parts = vec![
        "katabatic lane add".to_owned(),
        words::typed(&add.name),
        "--near".into(),
        words::typed(&add.near),
        "--far".into(),
        words::typed(&add.far),
        "--make".into(),
    ];
    let direction = match add.setup.direction {
        Some(Direction::Up) => "up",
        Some(Direction::Down) => "down",
        Some(Direction::TwoWay) | None => "two-way",
    };
    parts.extend(["--direction".into(), direction.into()]);
    if let Some(removals) = add.setup.removals {
        parts.extend(["--removals".into(), removals.word().into()]);
    }
    if add.setup.contents == Some(ContentsTyped::Stubs) {
        parts.extend(["--contents".into(), "stubs".into()]);
    }
    for when in &add.setup.when {
        parts.extend(["--when".into(), words::typed(when)]);
    }
    for folder in &add.setup.skip {
        parts.extend(["--skip".into(), words::typed(folder)]);
    }
    for rule in &add.setup.leave_out {
        parts.extend(["--leave-out".into(), words::typed(rule)]);
    }
    if add.setup.no_usual_rules {
        parts.push("--no-usual-rules".into());
    }
    parts.join(" ")
}

fn say(text: &str) {
    crate::draw::say(text);
}

fn answer(question: &str) -> Result<String, Error> {
    crate::draw::ask(format!("{question} "));
    let mut typed = String::new();
    let read = std::io::stdin()
        .lock()
        .read_line(&mut typed)
        .map_err(|why| stopped(&why.to_string()))?;
    if read == 0 {
        return Err(stopped("the answers ended"));
    }
    Ok(typed.trim().to_owned())
}

fn stopped(why: &str) -> Error {
    Error::usage(
        "adding a lane",
        why,
        "Nothing was added. Say it in one line: katabatic lane add NAME --near DIR --far @ACCOUNT/FOLDER",
    )
}

fn line_or(question: &str, usual: &str) -> Result<String, Error> {
    let question = if usual.is_empty() {
        question.to_owned()
    } else {
        format!("{question} [{usual}]")
    };
    let typed = answer(&question)?;
    Ok(if typed.is_empty() {
        usual.to_owned()
    } else {
        typed
    })
}

/// Asked until it is yes or no; nothing typed is yes.
pub fn yes(question: &str) -> Result<bool, Error> {
    loop {
        match answer(&format!("{question} [Y/n]"))?.as_str() {
            "" | "y" | "Y" | "yes" => return Ok(true),
            "n" | "N" | "no" => return Ok(false),
            _ => say("y or n, please."),
        }
    }
}

/// A number from 1 to `most`, asked until it is one.
fn number(question: &str, most: usize, usual: usize) -> Result<usize, Error> {
    loop {
        let typed = line_or(question, &usual.to_string())?;
        match typed.parse() {
            Ok(number) if (1..=most).contains(&number) => return Ok(number),
            _ => say(&format!("A number from 1 to {most}, please.")),
        }
    }
}

fn other_side(app: &App) -> Result<OtherSide, Error> {
    let accounts = &app.config.accounts;
    for (at, account) in accounts.iter().enumerate() {
        say(&format!(
            "  {}  @{} ({} at {})",
            at + 1,
            account.name,
            account.user,
            account.address
        ));
    }
    let here = accounts.len() + 1;
    say(&format!(
        "  {here}  a folder of another drive, or of this one"
    ));
    if accounts.is_empty() {
        say("There is no account yet; one is added with katabatic account add NAME --address URL.");
    }
    let chosen = number("Where is the other side?", here, 1)?;
    Ok(match accounts.get(chosen - 1) {
        Some(account) => OtherSide::Account(account.name.clone()),
        None => OtherSide::Here,
    })
}

/// The folders of one folder, the largest first.
fn folders(sizes: &Sizes) -> Vec<(&String, &Sizes)> {
    let mut folders: Vec<_> = sizes.folders.iter().collect();
    folders.sort_by_key(|(name, inside)| (std::cmp::Reverse(inside.bytes), *name));
    folders
}

fn list(folders: &[(&String, &Sizes)], first: usize) {
    for (at, (name, inside)) in folders.iter().enumerate() {
        say(&format!(
            "  {:>2}  {}/  {}, {}",
            at + first,
            shown_text(name),
            words::count(inside.files, "file", "files"),
            words::bytes(inside.bytes)
        ));
    }
}

/// The far folder, found by going down from the root; none of its members where it is a new one.
fn far_folder(account: &str, tree: &Sizes) -> Result<(RelPath, Option<Sizes>), Error> {
    let (mut at, mut inside) = (RelPath::root(), tree);
    loop {
        let place = Place::Far {
            account: account.to_owned(),
            path: at.clone(),
        };
        let within = folders(inside);
        say(&format!("In {place}:"));
        say("   1  this folder itself");
        list(&within, 2);
        let typed = line_or(
            "Which one (a number to open it, or the name of a new folder)?",
            "1",
        )?;
        match typed.parse::<usize>() {
            Ok(1) => return Ok((at, Some(inside.clone()))),
            Ok(chosen) if chosen >= 2 && chosen - 2 < within.len() => {
                let (name, next) = within[chosen - 2];
                at = joined(&at, name)?;
                inside = next;
            }
            Ok(_) => say(&format!("A number from 1 to {}, please.", within.len() + 1)),
            Err(_) => return named_folder(account, &at, inside, &typed),
        }
    }
}

/// A folder that was typed by its name: one that is there is used, and one that is not is a new one.
fn named_folder(
    account: &str,
    at: &RelPath,
    inside: &Sizes,
    typed: &str,
) -> Result<(RelPath, Option<Sizes>), Error> {
    let (mut at, mut inside) = (at.clone(), Some(inside));
    for name in typed.split('/').filter(|name| !name.is_empty()) {
        let known: Vec<&str> = inside
            .map(|inside| inside.folders.keys().map(String::as_str).collect())
            .unwrap_or_default();
        let meant = match did_you_mean(name, &known).filter(|meant| *meant != name) {
            Some(meant) if !known.contains(&name) => {
                let question = format!(
                    "There is no {}/. Do you mean {}/?",
                    shown_text(name),
                    shown_text(meant)
                );
                if yes(&question)? { meant } else { name }
            }
            _ => name,
        };
        at = joined(&at, meant)?;
        inside = inside.and_then(|inside| inside.folders.get(meant));
    }
    let place = Place::Far {
        account: account.to_owned(),
        path: at.clone(),
    };
    say(&match inside {
        Some(inside) => format!(
            "{place} exists: {}, {}",
            words::count(inside.files, "file", "files"),
            words::bytes(inside.bytes)
        ),
        None => format!("{place} does not exist yet, and is made"),
    });
    Ok((at, inside.cloned()))
}

fn joined(folder: &RelPath, name: &str) -> Result<RelPath, Error> {
    folder.join(name).map_err(|why| {
        Error::usage(
            format!("the folder {name}"),
            why.to_string(),
            "Name another.",
        )
    })
}

fn near_folder(app: &App, far: &Place) -> Result<String, Error> {
    let home = std::env::var_os("HOME").map(std::path::PathBuf::from);
    let usual = match far {
        Place::Far { path, .. } if !path.is_root() => home
            .map(|home| at_home(&home.join(path.name())))
            .unwrap_or_default(),
        _ => String::new(),
    };
    loop {
        let near = folder_here(
            "Which folder on this computer? It is made if it does not exist.",
            &usual,
        )?;
        let here = Place::Local(absolute(Path::new(&near)));
        // What no direction would do is said at once.
        match Direction::ALL.map(|way| apart(app, &here, far, way)) {
            [Err(why), Err(_), Err(_)] => say_no(&why),
            _ => return Ok(near),
        }
    }
}

/// Whether a lane between these two places would be in the way of another one.
fn apart(app: &App, near: &Place, far: &Place, direction: Direction) -> Result<(), Error> {
    let mut lane = LaneConfig::new("asked", "", near.clone(), far.clone());
    lane.terms.direction = direction;
    lanes::check_apart(&app.home, &app.config, &lane)
}

fn say_no(why: &Error) {
    say(&format!("That cannot be: {}.", why.why));
    say(&why.next);
}

/// A folder of this computer, asked until one is typed.
fn folder_here(question: &str, usual: &str) -> Result<String, Error> {
    loop {
        let typed = line_or(question, usual)?;
        match (typed.strip_prefix("~/"), std::env::var("HOME")) {
            (Some(below), Ok(home)) => return Ok(format!("{home}/{below}")),
            _ if typed.is_empty() => {}
            _ => return Ok(typed),
        }
    }
}

fn usual_name(far: &Place) -> String {
    let name = match far {
        Place::Far { account, path } if path.is_root() => account.clone(),
        Place::Far { path, .. } => path.name().to_owned(),
        Place::Local(path) => path
            .file_name()
            .map_or_else(String::new, |name| name.to_string_lossy().into_owned()),
    };
    let plain = |c: char| if c.is_alphanumeric() { c } else { '-' };
    let name: String = name.to_lowercase().chars().map(plain).collect();
    let name = name.trim_matches('-');
    if name.is_empty() {
        "lane".into()
    } else {
        name.to_owned()
    }
}

fn direction(app: &App, near: &Place, far: &Place) -> Result<Direction, Error> {
    for (at, direction) in Direction::ALL.into_iter().enumerate() {
        say(&format!(
            "   {}  {}: {}",
            at + 1,
            direction.word(),
            direction.meaning(SideNames::of(near, far))
        ));
    }
    loop {
        let chosen = number("Which way?", Direction::ALL.len(), 1)?;
        let way = Direction::ALL[chosen - 1];
        match apart(app, near, far, way) {
            Ok(()) => return Ok(way),
            Err(why) => say_no(&why),
        }
    }
}

/// What becomes of removals; none where it is what is usual for this direction.
fn removals(direction: Direction) -> Result<Option<Removals>, Error> {
    let usual = Removals::usual(direction);
    let said = |removals: Removals| match removals {
        Removals::Carry => "removed on the other side, too; what goes is kept in the spares",
        Removals::Keep => "stays on the other side",
        Removals::Ask => "each waits for a yes",
    };
    for (at, removals) in Removals::ALL.into_iter().enumerate() {
        say(&format!("   {}  {}", at + 1, said(removals)));
    }
    let at = |wanted: &Removals| *wanted == usual;
    let usual_at = Removals::ALL.iter().position(at).unwrap_or(0) + 1;
    let chosen = number(
        "What becomes of what somebody removes?",
        Removals::ALL.len(),
        usual_at,
    )?;
    Ok(Some(Removals::ALL[chosen - 1]).filter(|chosen| *chosen != usual))
}

/// What comes here; nothing does where all goes up.
fn contents(direction: Direction) -> Result<Option<ContentsTyped>, Error> {
    if direction == Direction::Up {
        return Ok(None);
    }
    say("   1  files with their content");
    say(
        "   2  stubs: name, size and date, which take no room; the content comes when it is fetched",
    );
    let chosen = number("What comes to this computer?", 2, 1)?;
    Ok((chosen == 2).then_some(ContentsTyped::Stubs))
}

/// When the agent runs it; nothing where that is as files change.
fn when() -> Result<Vec<String>, Error> {
    say("   1  as files change");
    say("   2  every 15 minutes");
    say("   3  once a day");
    say("   4  never by itself: by hand");
    Ok(match number("When does it run?", 4, 1)? {
        1 => Vec::new(),
        2 => vec!["every 15m".to_owned()],
        3 => vec![daily()?],
        _ => vec![When::ByHand.to_string()],
    })
}

/// A time of the day, asked until it is one.
fn daily() -> Result<String, Error> {
    loop {
        let when = format!("daily {}", line_or("At what time?", "18:00")?);
        match When::parse(&when) {
            Ok(_) => return Ok(when),
            Err(why) => say(&format!("{why}: such as 18:00.")),
        }
    }
}

fn skipped(folder: Option<&Sizes>) -> Result<Vec<String>, Error> {
    let within = folder.map(folders).unwrap_or_default();
    if within.is_empty() {
        return Ok(Vec::new());
    }
    list(&within, 1);
    loop {
        let typed = line_or(
            "Which of these not to take (numbers with blanks between them)?",
            "",
        )?;
        let numbers: Result<Vec<usize>, _> = typed
            .split([' ', ','])
            .filter(|part| !part.is_empty())
            .map(str::parse)
            .collect();
        match numbers {
            Ok(numbers)
                if numbers
                    .iter()
                    .all(|number| (1..=within.len()).contains(number)) =>
            {
                return Ok(numbers
                    .into_iter()
                    .map(|number| within[number - 1].0.clone())
                    .collect());
            }
            _ => say(&format!("Numbers from 1 to {}, please.", within.len())),
        }
    }
}
