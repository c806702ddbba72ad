//! The folders of a lane as a tree, each with all that is in it added up, and below it what is not settled.

use std::collections::BTreeMap;

use katabatic_core::{Agreement, Entry, Kind, Lies, RelPath, Side, Step, words};
use katabatic_engine::standing::LaneStanding;

use super::{Style, line, shown_text};
use crate::draw::urgency::urgency;

/// As many paths are named in one folder.
const NAMED: usize = 6;

/// What is in a folder, at any depth.
#[derive(Clone, Debug, Default)]
struct Inside {
    files: u64,
    bytes: u64,
    states: BTreeMap<Agreement, u64>,
    /// Files of which only a stub is here, and the bytes that they show.
    stubs: (u64, u64),
    /// Not settled, and in no folder of its own in the tree.
    open: Vec<(Agreement, String, String)>,
}

/// A line: its name, files and bytes where it is a folder, and its states.
type Drawn = (String, Option<(u64, u64)>, String);

/// The tree while it is put together.
#[derive(Debug)]
pub struct StateTree {
    top: RelPath,
    depth: usize,
    folders: BTreeMap<RelPath, Inside>,
}

impl StateTree {
    /// One of what lies in `top`, so many levels deep.
    pub fn new(top: &RelPath, depth: usize) -> StateTree {
        StateTree {
            top: top.clone(),
            depth,
            folders: BTreeMap::from([(top.clone(), Inside::default())]),
        }
    }

    /// Adds what is settled.
    pub fn settled(&mut self, step: &Step) {
        self.add(step, Agreement::Settled);
    }

    /// Adds what is not.
    pub fn open(&mut self, standing: &LaneStanding) {
        for one in &standing.standings {
            let agreement = one.state.agreement;
            if agreement == Agreement::Settled {
                continue;
            }
            self.add(&one.step, agreement);
            let path = one.step.path();
            let folder = self.shown_above(path);
            let name = path.as_str();
            let name = match folder.is_root() {
                true => name,
                false => name.get(folder.as_str().len() + 1..).unwrap_or(name),
            };
            let inside = self.folders.entry(folder).or_default();
            inside
                .open
                .push((agreement, name.to_owned(), one.reason.clone()));
        }
    }

    /// The deepest folder around a path that the tree shows.
    fn shown_above(&self, path: &RelPath) -> RelPath {
        std::iter::successors(path.parent(), RelPath::parent)
            .find(|folder| self.shows(folder))
            .unwrap_or_else(|| self.top.clone())
    }

    fn shows(&self, folder: &RelPath) -> bool {
        folder.is_within(&self.top) && folder.depth() <= self.top.depth() + self.depth
    }

    fn add(&mut self, step: &Step, agreement: Agreement) {
        let path = step.path();
        let entry = step.entry(Side::Near).or(step.entry(Side::Far));
        let is_folder = entry.is_some_and(|entry| entry.kind == Kind::Folder);
        if is_folder && self.shows(path) {
            self.folders.entry(path.clone()).or_default();
        }
        if is_folder && agreement == Agreement::Settled {
            return;
        }
        let bytes = entry.map_or(0, |entry: &Entry| entry.size);
        let above = std::iter::successors(path.parent(), RelPath::parent);
        for folder in above.filter(|folder| folder.is_within(&self.top)) {
            if !self.shows(&folder) {
                continue;
            }
            let inside = self.folders.entry(folder).or_default();
            inside.files += u64::from(!is_folder);
            inside.bytes = inside.bytes.saturating_add(bytes);
            if step.entry(Side::Near).is_some_and(Entry::is_stub) {
                inside.stubs.0 += 1;
                inside.stubs.1 = inside.stubs.1.saturating_add(bytes);
            }
            *inside.states.entry(agreement).or_default() += 1;
        }
    }

    /// Draws it.
    pub fn print(&self, style: Style) {
        for drawn in self.lines(style) {
            line(drawn);
        }
    }

    fn lines(&self, style: Style) -> Vec<String> {
        let mut rows = Vec::new();
        self.below(&self.top, String::new(), style, &mut rows);
        let widest = rows
            .iter()
            .filter(|(_, counts, _)| counts.is_some())
            .map(|(name, ..)| console::measure_text_width(name))
            .max()
            .unwrap_or(0);
        let room = usize::from(style.width.unwrap_or(u16::MAX));
        let line = |(name, counts, states): Drawn| {
            let drawn = match counts {
                None => format!("{name}  {states}"),
                Some((files, bytes)) => {
                    let gap = " ".repeat(widest - console::measure_text_width(&name));
                    format!(
                        "{name}{gap}  {:>12}  {:>9}  {states}",
                        words::count(files, "file", "files"),
                        words::bytes(bytes)
                    )
                }
            };
            console::truncate_str(drawn.trim_end(), room, "...").into_owned()
        };
        rows.into_iter().map(line).collect()
    }

    fn below(&self, folder: &RelPath, before: String, style: Style, rows: &mut Vec<Drawn>) {
        let inside = &self.folders[folder];
        let children: Vec<&RelPath> = self
            .folders
            .keys()
            .filter(|child| child.parent().as_ref() == Some(folder))
            .collect();
        let name = match folder.is_root() {
            true => "(top)".to_owned(),
            false => format!("{}/", shown_text(folder.name())),
        };
        if *folder == self.top {
            rows.push((
                name,
                Some((inside.files, inside.bytes)),
                states(style, inside),
            ));
        }
        let mut open: Vec<_> = inside.open.iter().collect();
        open.sort_by_key(|(agreement, ..)| urgency(*agreement));
        let more = open.len().saturating_sub(NAMED);
        open.truncate(NAMED);
        let many = children.len() + open.len() + usize::from(more > 0);
        let (fork, last, bar) = match style.marks {
            true => ("├─ ", "└─ ", "│  "),
            false => ("|- ", "`- ", "|  "),
        };
        let branch = |number: usize| if number + 1 == many { last } else { fork };
        for (number, child) in children.iter().enumerate() {
            let inside = &self.folders[*child];
            rows.push((
                format!("{before}{}{}/", branch(number), shown_text(child.name())),
                Some((inside.files, inside.bytes)),
                states(style, inside),
            ));
            let beyond = if number + 1 == many { "   " } else { bar };
            self.below(child, format!("{before}{beyond}"), style, rows);
        }
        for (number, (agreement, name, reason)) in open.iter().enumerate() {
            rows.push((
                format!(
                    "{before}{}{}",
                    branch(children.len() + number),
                    shown_text(name)
                ),
                None,
                format!("{}: {}", style.state(*agreement), shown_text(reason)),
            ));
        }
        if more > 0 {
            let more = words::grouped(more as u64);
            rows.push((
                format!("{before}{last}and {more} more"),
                None,
                String::new(),
            ));
        }
    }
}

fn states(style: Style, inside: &Inside) -> String {
    let mut all: Vec<String> = inside
        .states
        .iter()
        .map(|(agreement, count)| match inside.states.len() {
            1 => style.state(*agreement),
            _ => format!("{} {}", words::grouped(*count), style.state(*agreement)),
        })
        .collect();
    if inside.stubs.0 > 0 {
        all.push(format!(
            "{} {} of {}",
            words::grouped(inside.stubs.0),
            style.lies(Lies::Stub),
            words::bytes(inside.stubs.1)
        ));
    }
    all.join(", ")
}
