//! `sizes`: which folders of a place are large, the largest first.

use clap::Args;
use std::process::ExitCode;

use katabatic_core::place::Place;
use katabatic_core::words;
use katabatic_engine::Error;
use katabatic_engine::places::{self, Sizes};
use serde_json::{Value, json};

use crate::app::App;
use crate::draw::table::Rows;
use crate::draw::{json, line, shown_text};
use crate::exit;

/// `sizes`.
#[derive(Args, Debug)]
pub struct SizesArgs {
    /// The folder: a local path, or @ACCOUNT/FOLDER
    #[arg(value_name = "PLACE")]
    pub place: String,
    /// So many levels of folders are shown; what is deeper is counted all the same
    #[arg(long, default_value_t = 2, value_name = "LEVELS")]
    pub depth: usize,
}

pub fn sizes(app: &App, typed: &SizesArgs) -> Result<ExitCode, Error> {
    let place = Place::parse(&typed.place, &app.config.account_names())?;
    let sizes = app.run(places::sizes(&app.home, &app.config, &place, &app.stop))?;
    // A sum with a hole in it is no sum that a script may go by.
    let code = if sizes.unknown.is_empty() {
        ExitCode::SUCCESS
    } else {
        ExitCode::from(exit::NEEDS_A_PERSON)
    };
    if app.common.json {
        let mut answer = as_json(&typed.place, &sizes, typed.depth);
        answer["unknown"] = json!(sizes.unknown);
        json::print(&answer);
        return Ok(code);
    }
    let mut rows = Rows::bare(app.style, 3);
    rows.add(cells(&typed.place, 0, &sizes));
    add(&mut rows, 1, &sizes, typed.depth);
    rows.numbers(1);
    rows.numbers(2);
    rows.whole(0);
    rows.print(0);
    if !sizes.unknown.is_empty() {
        line("Not counted, so the sums are too small:");
        for why in &sizes.unknown {
            line(format!("  {}", shown_text(why)));
        }
    }
    Ok(code)
}

fn cells(name: &str, level: usize, sizes: &Sizes) -> Vec<String> {
    vec![
        shown_text(&format!("{}{name}", "  ".repeat(level))),
        words::bytes(sizes.bytes),
        words::count(sizes.files, "file", "files"),
    ]
}

fn add(rows: &mut Rows, level: usize, sizes: &Sizes, depth: usize) {
    if level > depth {
        return;
    }
    for (name, inside) in largest_first(sizes) {
        rows.add(cells(&format!("{name}/"), level, inside));
        add(rows, level + 1, inside, depth);
    }
    let (bytes, files) = loose(sizes);
    if files > 0 && !sizes.folders.is_empty() {
        let name = format!("{}(beside the folders)", "  ".repeat(level));
        rows.add(vec![
            name,
            words::bytes(bytes),
            words::count(files, "file", "files"),
        ]);
    }
}

fn largest_first(sizes: &Sizes) -> Vec<(&String, &Sizes)> {
    let mut folders: Vec<(&String, &Sizes)> = sizes.folders.iter().collect();
    folders.sort_by_key(|(name, inside)| (std::cmp::Reverse(inside.bytes), *name));
    folders
}

/// Bytes and number of the files that lie in no folder below.
fn loose(sizes: &Sizes) -> (u64, u64) {
    let inside =
        |of: fn(&Sizes) -> u64| sizes.folders.values().map(of).fold(0, u64::saturating_add);
    (
        sizes.bytes - inside(|folder| folder.bytes),
        sizes.files - inside(|folder| folder.files),
    )
}

fn as_json(name: &str, sizes: &Sizes, depth: usize) -> Value {
    let mut answer = json!({"name": name, "bytes": sizes.bytes, "files": sizes.files});
    if depth > 0 {
        let folders: Vec<Value> = largest_first(sizes)
            .into_iter()
            .map(|(name, inside)| as_json(name, inside, depth - 1))
            .collect();
        answer["folders"] = json!(folders);
    }
    answer
}
