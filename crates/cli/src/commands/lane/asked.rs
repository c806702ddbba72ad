//! `lane add` on a terminal, with nothing said: it asks step by step, in the order in which technicians work.
//!
//! Every answer has an option, and the equal command line is shown at the end, so that the next lane, or the next
//! computer, needs no questions.

use crate::commands::lane::add::LaneAdd;
use crate::setup::SetupArgs;
use clap::Args;
use katabatic_core::Direction;
use std::io::BufRead;
use std::path::Path;

use katabatic_core::place::{Place, absolute};
use katabatic_core::{RelPath, words};
use katabatic_engine::Error;
use katabatic_engine::places::{Sizes, sizes};

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
    way: &'static str,
    files: u64,
    bytes: u64,
}

impl NewFolder {
    /// Says it, a line each.
    pub fn say(&self) {
        line(format!("  make {}", self.made));
        line(format!(
            "  carry {} {}, {}, but for what rules leave out",
            words::count(self.files, "file", "files"),
            self.way,
            words::bytes(self.bytes)
        ));
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
                "Which folder, on another drive or on this one? It is made where it is not there.",
                "",
            )?)));
            let inside = match far.local().is_some_and(Path::is_dir) {
                true => Some(looked_at(&far)?),
                false => None,
            };
            (far, inside)
        }
    };
    let near = near_folder(&far)?;
    let name = match &typed.name {
        Some(name) => name.clone(),
        None => free_name(app, &usual_name(&far))?,
    };
    let direction = direction()?;
    let skip = skipped(inside.as_ref())?;
    let no_usual_rules = !yes(
        "Leave out what desktops and office programs leave behind (Thumbs.db, ~$…, unfinished downloads)?",
    )?;
    let leave_out = line_or(
        "More to leave out, such as *.tmp cache/ :larger,2GB (blanks between them)?",
        "",
    )?;
    let here = Place::Local(absolute(Path::new(&near)));
    let new = match (here.local().is_some_and(Path::is_dir), &inside) {
        (true, Some(_)) => None,
        (_, Some(inside)) => Some(new_near(&here, inside, &skip, direction)),
        (true, None) => Some(new_far(&far, &looked_at(&here)?, direction)),
        (false, None) => Some(new_far(&far, &Sizes::default(), direction)),
    };
    let setup = SetupArgs {
        direction: Some(direction),
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
        way: "down",
        files: if comes { files } else { 0 },
        bytes: if comes { bytes } else { 0 },
    }
}

fn new_far(far: &Place, inside: &Sizes, direction: Direction) -> NewFolder {
    let goes = direction != Direction::Down;
    NewFolder {
        made: far.to_string(),
        way: "up",
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
fn number(question: &str, most: usize) -> Result<usize, Error> {
    loop {
        let typed = line_or(question, "1")?;
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
    let chosen = number("Where is the other side?", here)?;
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
            Err(_) => return Ok((joined(&at, &typed)?, None)),
        }
    }
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

fn near_folder(far: &Place) -> Result<String, Error> {
    let home = std::env::var_os("HOME").map(std::path::PathBuf::from);
    let usual = match far {
        Place::Far { path, .. } if !path.is_root() => home
            .map(|home| at_home(&home.join(path.name())))
            .unwrap_or_default(),
        _ => String::new(),
    };
    folder_here(
        "Which folder on this computer? It is made where it is not there.",
        &usual,
    )
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

fn direction() -> Result<Direction, Error> {
    use katabatic_core::Direction;
    for (at, direction) in Direction::ALL.into_iter().enumerate() {
        say(&format!(
            "   {}  {}: {}",
            at + 1,
            direction.word(),
            direction.meaning()
        ));
    }
    Ok(match number("Which way?", 3)? {
        1 => Direction::TwoWay,
        2 => Direction::Up,
        _ => Direction::Down,
    })
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
