//! `find`: files and folders of all lanes, on both sides, by words of their name, size, date and state.

use clap::Args;
use globset::{GlobBuilder, GlobMatcher};
use std::process::ExitCode;

use katabatic_core::{Kind, Side, words};
use katabatic_engine::Error;
use katabatic_engine::config::LaneConfig;
use katabatic_engine::standing::LaneStanding;
use katabatic_ledger::spare_rows::{self, Spare};
use serde_json::{Value, json};

use super::list::paths_of;
use super::spares::{number_width, spare_item, spare_json};
use super::status::{here_words, there_words};
use crate::about::{About, understand};
use crate::app::App;
use crate::draw::folder_listing::{self, Member, Reasons, SortTyped};
use crate::draw::{self, json, line, listing, time};
use crate::exit;
use crate::lane_paths::LanePath;
use crate::setup::size_of;
use crate::typed_state::StateTyped;

/// `find`.
#[derive(Args, Debug)]
pub struct FindArgs {
    /// Words that all stand somewhere in the path; with `*` or `?`, a pattern of the whole name
    #[arg(value_name = "WORD")]
    pub words: Vec<String>,
    /// Look in this lane or folder alone; in all lanes where none is named
    #[arg(long = "in", value_name = "LANE|PATH")]
    pub within: Vec<String>,
    /// Only what stands so; several with commas between them
    #[arg(long, value_enum, value_delimiter = ',', value_name = "STATE")]
    pub state: Vec<StateTyped>,
    /// Only files of this size and larger
    #[arg(long, value_name = "SIZE")]
    pub larger: Option<String>,
    /// Only files of this size and smaller
    #[arg(long, value_name = "SIZE")]
    pub smaller: Option<String>,
    /// Only what was edited on this day or later
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub since: Option<String>,
    /// Only what was edited before this day
    #[arg(long, value_name = "YYYY-MM-DD")]
    pub before: Option<String>,
    /// The order
    #[arg(long, value_enum, default_value = "name")]
    pub sort: SortTyped,
    /// Ask the far sides too, instead of telling what the last passes saw there
    #[arg(long)]
    pub fresh: bool,
}

/// What is looked for.
struct Wanted<'t> {
    typed: &'t FindArgs,
    parts: Vec<String>,
    patterns: Vec<GlobMatcher>,
    sizes: (Option<u64>, Option<u64>),
    days: (Option<String>, Option<String>),
}

impl Wanted<'_> {
    fn of(typed: &FindArgs) -> Result<Wanted<'_>, Error> {
        let day = |typed: &Option<String>| typed.as_deref().map(time::read_day).transpose();
        let size = |typed: &Option<String>| typed.as_deref().map(size_of).transpose();
        let is_pattern = |word: &&String| word.contains(['*', '?']);
        let (patterns, parts): (Vec<_>, Vec<_>) = typed.words.iter().partition(is_pattern);
        let wanted = Wanted {
            typed,
            parts: parts.iter().map(|part| part.to_lowercase()).collect(),
            patterns: patterns
                .into_iter()
                .map(|pattern| matcher(pattern))
                .collect::<Result<_, _>>()?,
            sizes: (size(&typed.larger)?, size(&typed.smaller)?),
            days: (day(&typed.since)?, day(&typed.before)?),
        };
        match wanted.is_anything() {
            true => Err(Error::usage(
                "looking for files",
                "nothing was said of what to look for",
                "Name a word of the path, or say --state, --larger, --smaller, --since or --before.",
            )),
            false => Ok(wanted),
        }
    }

    /// Whether everything is like that.
    fn is_anything(&self) -> bool {
        self.typed.words.is_empty()
            && self.typed.state.is_empty()
            && self.sizes == (None, None)
            && self.days == (None, None)
    }

    /// Whether only words were said, which are looked for among the spares, too.
    fn is_of_names(&self) -> bool {
        !self.typed.words.is_empty()
            && self.typed.state.is_empty()
            && self.sizes == (None, None)
            && self.days == (None, None)
    }

    fn fits_name(&self, path: &katabatic_core::RelPath) -> bool {
        let lower = path.as_str().to_lowercase();
        self.parts.iter().all(|part| lower.contains(part))
            && self
                .patterns
                .iter()
                .all(|pattern| pattern.is_match(path.name()))
    }

    fn fits(&self, one: &LanePath) -> bool {
        let is_file = one.kind == Kind::File;
        let (at_least, at_most) = self.sizes;
        let sizes_fit = (is_file || self.sizes == (None, None))
            && at_least.is_none_or(|bytes| one.size >= bytes)
            && at_most.is_none_or(|bytes| one.size <= bytes);
        let day = one.at.map(time::day).filter(|_| is_file);
        let (since, before) = (self.days.0.as_ref(), self.days.1.as_ref());
        let days_fit = self.days == (None, None)
            || day.is_some_and(|day| {
                since.is_none_or(|since| day >= *since) && before.is_none_or(|end| day < *end)
            });
        // What is said of content is said of files alone.
        let of_content = |wanted: &StateTyped| wanted.is_of_content();
        let state_fits = StateTyped::any_fits(&self.typed.state, one.state)
            && (one.kind != Kind::Folder || !self.typed.state.iter().all(of_content));
        let state_fits = self.typed.state.is_empty() || state_fits;
        !one.path.is_root() && self.fits_name(&one.path) && sizes_fit && days_fit && state_fits
    }
}

fn matcher(pattern: &str) -> Result<GlobMatcher, Error> {
    let glob = GlobBuilder::new(pattern).case_insensitive(true).build();
    let glob = glob.map_err(|why| {
        Error::usage(
            format!("the pattern {pattern}"),
            why.to_string(),
            "Write it as *.pdf or 'Part ?.txt'.",
        )
    })?;
    Ok(glob.compile_matcher())
}

/// What was found in a lane.
struct InLane {
    lane: LaneConfig,
    standing: LaneStanding,
    found: Vec<LanePath>,
}

pub fn find(app: &App, typed: &FindArgs) -> Result<ExitCode, Error> {
    let wanted = Wanted::of(typed)?;
    let about = understand(&app.config, &typed.within)?;
    let several = about.len() > 1;
    let (mut lanes, mut failed, mut code) = (Vec::new(), Vec::new(), 0);
    for one in about {
        match look(app, &one, &wanted) {
            Ok(found) => lanes.push(found),
            Err(error) if several => {
                code = exit::worse(code, exit::number(error.class));
                failed.push((one.lane.name.clone(), error));
            }
            Err(error) => return Err(error),
        }
    }
    let spares = match wanted.is_of_names() && typed.within.is_empty() {
        true => app
            .ledger
            .read(|connection| spare_rows::all(connection, None))?,
        false => Vec::new(),
    };
    let spares: Vec<Spare> = spares
        .into_iter()
        .filter(|spare| wanted.fits_name(&spare.path))
        .collect();
    if app.common.json {
        json::print(&answer(&lanes, &failed, &spares));
        return Ok(ExitCode::from(code));
    }
    say(app, typed.sort, &lanes);
    for (lane, error) in &failed {
        let told = format!("Not looked at: lane {lane}: {} {}", error.why, error.next);
        draw::sentence(app.style, 0, &told);
    }
    say_spares(app, &spares);
    Ok(ExitCode::from(code))
}

fn look(app: &App, about: &About, wanted: &Wanted<'_>) -> Result<InLane, Error> {
    let top = katabatic_core::RelPath::root();
    // One folder is looked at by itself; of several, the whole lane.
    let scope = match &about.paths[..] {
        [one] => one.clone(),
        _ => top,
    };
    let (paths, standing) = paths_of(app, &about.lane, &scope, wanted.typed.fresh)?;
    let within = |one: &LanePath| {
        about.paths.is_empty() || about.paths.iter().any(|path| one.path.is_within(path))
    };
    let found = paths
        .into_iter()
        .filter(|one| within(one) && wanted.fits(one))
        .collect();
    Ok(InLane {
        lane: about.lane.clone(),
        standing,
        found,
    })
}

fn say(app: &App, sort: SortTyped, lanes: &[InLane]) {
    let mut members = Vec::new();
    for lane in lanes {
        members.extend(lane.found.iter().map(|one| {
            // What can be typed as it is: where it lies here.
            let name = format!("{}: {}", lane.lane.name, one.path);
            Member::of(one, name)
        }));
    }
    folder_listing::sort(&mut members, sort);
    folder_listing::print(app.style, 0, &members, Reasons::Told);
    let bytes = members.iter().filter_map(|member| member.bytes);
    let bytes = bytes.fold(0, u64::saturating_add);
    let looked = words::count(lanes.len() as u64, "lane", "lanes");
    line(match members.len() {
        0 => format!("Nothing in {looked} is like that"),
        found => format!(
            "{} in {looked}, {}",
            words::count(found as u64, "path", "paths"),
            words::bytes(bytes)
        ),
    });
    if app.common.quiet {
        return;
    }
    for lane in lanes {
        let sides = lane.lane.side_names();
        let told = format!(
            "Lane {}: seen {} {}, {} {}",
            lane.lane.name,
            sides.at(Side::Near),
            here_words(&lane.standing),
            sides.at(Side::Far),
            there_words(&lane.standing)
        );
        draw::sentence(app.style, 2, &told);
    }
}

/// As many versions are named for people.
const NAMED: usize = 10;

fn say_spares(app: &App, spares: &[Spare]) {
    if spares.is_empty() {
        return;
    }
    line(format!(
        "Among the spares: {} of such a name. To bring one back: katabatic spares restore NUMBER",
        words::count(spares.len() as u64, "version", "versions")
    ));
    let named = &spares[..spares.len().min(NAMED)];
    let number = number_width(named);
    let items: Vec<_> = named
        .iter()
        .map(|one| spare_item(app, number, one))
        .collect();
    listing::print(app.style, 2, &items);
    if spares.len() > NAMED {
        line("  and more: katabatic spares list");
    }
}

fn answer(lanes: &[InLane], failed: &[(String, Error)], spares: &[Spare]) -> Value {
    let found = |lane: &InLane| -> Vec<Value> {
        let one = |one: &LanePath| {
            json!({
                "lane": lane.lane.name,
                "path": one.path.as_str(),
                "kind": match one.kind {
                    Kind::Folder => "folder",
                    Kind::File => "file",
                    Kind::Odd(_) => "other",
                },
                "size": (one.kind == Kind::File).then_some(one.size),
                "at": json::time(one.at),
                "state": one.state.agreement.word(),
                "lies": json::lies(one.state.lies),
                "reason": one.reason,
            })
        };
        lane.found.iter().map(one).collect()
    };
    let looked = |lane: &InLane| {
        json!({
            "lane": lane.lane.name,
            "near_seen": json::time(lane.standing.near_seen),
            "far_seen": json::time(lane.standing.far_seen),
        })
    };
    let not_looked = |(lane, error): &(String, Error)| json!({"lane": lane, "error": draw::error::described(error)});
    json!({
        "found": lanes.iter().flat_map(found).collect::<Vec<_>>(),
        "lanes": lanes.iter().map(looked).chain(failed.iter().map(not_looked)).collect::<Vec<_>>(),
        "spares": spares.iter().map(spare_json).collect::<Vec<_>>(),
    })
}
