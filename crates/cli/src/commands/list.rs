//! `list`: what a folder holds, on this computer or in an account.

use clap::Args;
use clap::ValueEnum;
use std::cmp::Reverse;
use std::process::ExitCode;

use globset::GlobBuilder;
use katabatic_core::place::Place;
use katabatic_core::{Kind, words};
use katabatic_engine::places::{self, Member};
use katabatic_engine::{Class, Error};
use serde_json::{Value, json};

use crate::app::App;
use crate::draw::table::Rows;
use crate::draw::{json, line, shown_text, time};

/// In which order to show members.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum SortTyped {
    /// By name, folders first
    Name,
    /// The largest first
    Size,
    /// The newest first
    Date,
}

/// `list`.
#[derive(Args, Debug)]
pub struct ListArgs {
    /// The folder: a local path, or @ACCOUNT/FOLDER
    #[arg(value_name = "PLACE")]
    pub place: String,
    /// Show names that begin with a dot too
    #[arg(long)]
    pub hidden: bool,
    /// Only names of this pattern: `*` stands for anything, `?` for one character
    #[arg(long = "match", value_name = "PATTERN")]
    pub pattern: Option<String>,
    /// The order
    #[arg(long, value_enum, default_value = "name")]
    pub sort: SortTyped,
}

pub fn list(app: &App, typed: &ListArgs) -> Result<ExitCode, Error> {
    let place = Place::parse(&typed.place, &app.config.account_names())?;
    let wanted = match &typed.pattern {
        None => None,
        Some(pattern) => Some(
            GlobBuilder::new(pattern)
                .literal_separator(true)
                .build()
                .map_err(|why| {
                    Error::new(
                        Class::Usage,
                        format!("the pattern {pattern}"),
                        why.to_string(),
                        "Write it as *.pdf or Part ?.txt.",
                    )
                })?
                .compile_matcher(),
        ),
    };
    let all = app.run(places::list(&app.home, &app.config, &place, &app.stop))?;
    let hidden = all
        .iter()
        .filter(|member| member.name.starts_with('.'))
        .count();
    let mut members: Vec<Member> = all
        .into_iter()
        .filter(|member| typed.hidden || !member.name.starts_with('.'))
        .filter(|member| {
            wanted
                .as_ref()
                .is_none_or(|wanted| wanted.is_match(&member.name))
        })
        .collect();
    match typed.sort {
        SortTyped::Name => members.sort_by_key(|member| member.kind != Kind::Folder),
        SortTyped::Size => members.sort_by_key(|member| Reverse(member.size)),
        SortTyped::Date => members.sort_by_key(|member| Reverse(member.at)),
    }
    if app.common.json {
        let members: Vec<Value> = members.iter().map(as_json).collect();
        json::print(&json!({"place": typed.place, "members": members}));
        return Ok(ExitCode::SUCCESS);
    }
    let mut rows = Rows::bare(app.style, 3);
    for member in &members {
        let (name, size) = match member.kind {
            Kind::Folder => (format!("{}/", member.name), String::new()),
            Kind::File => (member.name.clone(), words::bytes(member.size)),
            Kind::Odd(odd) => (format!("{} ({})", member.name, odd.reason()), String::new()),
        };
        let at = member.at.map_or_else(String::new, time::time);
        rows.add(vec![shown_text(&name), size, at]);
    }
    rows.numbers(1);
    rows.whole(0);
    rows.print(0);
    let count = |kind: Kind| members.iter().filter(|member| member.kind == kind).count() as u64;
    let bytes = members.iter().map(|member| match member.kind {
        Kind::File => member.size,
        _ => 0,
    });
    let mut total = format!(
        "{}, {}, {}",
        words::count(count(Kind::Folder), "folder", "folders"),
        words::count(count(Kind::File), "file", "files"),
        words::bytes(bytes.fold(0, u64::saturating_add))
    );
    if hidden > 0 && !typed.hidden {
        total.push_str(&format!(
            "; {} (--hidden shows them)",
            words::count(hidden as u64, "hidden name", "hidden names")
        ));
    }
    line(total);
    Ok(ExitCode::SUCCESS)
}

fn as_json(member: &Member) -> Value {
    let kind = match member.kind {
        Kind::Folder => "folder",
        Kind::File => "file",
        Kind::Odd(_) => "other",
    };
    json!({
        "name": member.name,
        "kind": kind,
        "size": if member.kind == Kind::File { json!(member.size) } else { Value::Null },
        "at": json::time(member.at),
    })
}
