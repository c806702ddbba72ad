//! A folder as people look at one: a line for each file and folder in it, with its size, its date and where it stands.
//! Folders add up what is in them.

use std::cmp::Reverse;
use std::collections::BTreeMap;

use clap::ValueEnum;
use katabatic_core::{Agreement, EditTime, FileState, Kind, Lies, RelPath, words};

use super::look::Look;
use super::table::{Cell, Rows};
use super::urgency::urgency;
use super::{Style, sentence, shown_text, time};
use crate::lane_paths::LanePath;
use crate::typed_state::StateTyped;

/// In which order members are shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum SortTyped {
    /// By name, folders first
    Name,
    /// The largest first
    Size,
    /// The newest first
    Date,
    /// What needs somebody first, and what is settled last
    State,
    /// By what comes after the last dot of the name, folders first
    Type,
}

/// One member of a folder, or one path of a list.
#[derive(Clone, Debug)]
pub struct Member {
    /// Its name.
    pub name: String,
    /// What it is.
    pub kind: Kind,
    /// Its bytes; for a folder, those of the files in it, where they are known.
    pub bytes: Option<u64>,
    /// Files in it, for a folder of which that is known.
    pub files: Option<u64>,
    /// When it was edited; for a folder, when the newest file in it was.
    pub at: Option<EditTime>,
    /// Where it stands, and in a folder all that is in it; empty where no lane holds it.
    pub states: BTreeMap<Agreement, u64>,
    /// Where the content of it, or of the files in it, lies.
    pub lies: BTreeMap<Lies, u64>,
    /// Why it stands so; empty for what is settled, and for what of a folder is only in it.
    pub reason: String,
}

impl Member {
    /// A path by itself, under a name of the caller's choice.
    pub fn of(one: &LanePath, name: String) -> Member {
        let is_file = one.kind != Kind::Folder;
        Member {
            name,
            kind: one.kind,
            bytes: (one.kind == Kind::File).then_some(one.size),
            files: None,
            at: one.at.filter(|_| is_file),
            states: BTreeMap::from([(one.state.agreement, 1)]),
            lies: match is_file {
                true => BTreeMap::from([(one.state.lies, 1)]),
                false => BTreeMap::new(),
            },
            reason: one.reason.clone(),
        }
    }

    fn folder(name: &str) -> Member {
        Member {
            name: name.to_owned(),
            kind: Kind::Folder,
            bytes: Some(0),
            files: Some(0),
            at: None,
            states: BTreeMap::new(),
            lies: BTreeMap::new(),
            reason: String::new(),
        }
    }

    fn add(&mut self, inside: &LanePath) {
        let of_itself = inside.path.name() == self.name && inside.kind == Kind::Folder;
        if inside.kind != Kind::Folder {
            *self.files.get_or_insert(0) += 1;
            let bytes = self.bytes.get_or_insert(0);
            *bytes = bytes.saturating_add(inside.size);
            self.at = self.at.max(inside.at);
            *self.lies.entry(inside.state.lies).or_default() += 1;
        } else if inside.state.agreement == Agreement::Settled || of_itself {
            return;
        }
        *self.states.entry(inside.state.agreement).or_default() += 1;
    }

    /// What is most urgent in it.
    pub fn agreement(&self) -> Option<Agreement> {
        self.states
            .keys()
            .copied()
            .min_by_key(|agreement| urgency(*agreement))
    }

    /// Whether it, or anything in it, stands in one of these ways.
    pub fn fits(&self, wanted: &[StateTyped]) -> bool {
        let of_content = |lies: &Lies| FileState {
            agreement: Agreement::Settled,
            lies: *lies,
        };
        let of_agreement = |agreement: &Agreement| FileState {
            agreement: *agreement,
            lies: Lies::Here,
        };
        let fits = |wanted: &StateTyped| match wanted.is_of_content() {
            true => self.lies.keys().any(|lies| wanted.fits(of_content(lies))),
            false => {
                let mut states = self.states.keys();
                states.any(|agreement| wanted.fits(of_agreement(agreement)))
            }
        };
        wanted.is_empty() || wanted.iter().any(fits)
    }

    fn ending(&self) -> String {
        match self.kind {
            Kind::Folder => String::new(),
            Kind::File | Kind::Odd(_) => match self.name.rsplit_once('.') {
                Some((before, ending)) if !before.is_empty() => ending.to_lowercase(),
                _ => String::new(),
            },
        }
    }

    /// Its state in words: of a folder, what in it is not settled, counted.
    pub fn state_words(&self, style: Style) -> String {
        // A folder may stand so by itself.
        let counts = self.kind == Kind::Folder && self.files.is_some_and(|files| files > 0);
        let counted = |words: String, count: u64| match counts {
            true => format!("{words} ({})", words::grouped(count)),
            false => words,
        };
        let mut states: Vec<_> = self.states.iter().collect();
        states.sort_by_key(|(agreement, _)| urgency(**agreement));
        let open = states
            .iter()
            .filter(|(agreement, _)| **agreement != Agreement::Settled);
        let mut told: Vec<String> = open
            .map(|(agreement, count)| counted(style.state(**agreement), **count))
            .collect();
        if told.is_empty() && !states.is_empty() {
            told.push(style.state(Agreement::Settled));
        }
        for lies in [Lies::Stub, Lies::Held] {
            if let Some(count) = self.lies.get(&lies) {
                told.push(counted(style.lies(lies), *count));
            }
        }
        told.join(", ")
    }
}

/// The members of a folder, put together from all that lies below it; by name, folders first.
pub fn members(folder: &RelPath, below: &[LanePath]) -> Vec<Member> {
    let mut folders: BTreeMap<&str, Member> = BTreeMap::new();
    let mut files = Vec::new();
    let depth = folder.depth();
    for one in below.iter().filter(|one| one.path != *folder) {
        let Some(name) = one.path.parts().nth(depth) else {
            continue;
        };
        let deeper = one.path.depth() > depth + 1;
        if one.kind == Kind::Folder || deeper {
            let member = folders.entry(name).or_insert_with(|| Member::folder(name));
            if !deeper {
                member.reason.clone_from(&one.reason);
                if one.state.agreement != Agreement::Settled {
                    *member.states.entry(one.state.agreement).or_default() += 1;
                }
            } else {
                member.add(one);
            }
        } else {
            files.push(Member::of(one, name.to_owned()));
        }
    }
    let mut folders: Vec<Member> = folders.into_values().collect();
    for folder in &mut folders {
        if folder.states.is_empty() {
            folder.states.insert(Agreement::Settled, 1);
        }
        // What lies in a folder that is left out was not looked at.
        if folder.agreement() == Some(Agreement::LeftOut) && folder.files == Some(0) {
            (folder.bytes, folder.files) = (None, None);
        }
    }
    folders.extend(files);
    folders
}

/// Puts members into an order.
pub fn sort(members: &mut [Member], by: SortTyped) {
    let folders_first = |member: &Member| member.kind != Kind::Folder;
    match by {
        SortTyped::Name => members.sort_by_key(folders_first),
        SortTyped::Size => members.sort_by_key(|member| Reverse(member.bytes)),
        SortTyped::Date => members.sort_by_key(|member| Reverse(member.at)),
        SortTyped::State => {
            members.sort_by_key(|member| member.agreement().map_or(u8::MAX, urgency));
        }
        SortTyped::Type => {
            members.sort_by_key(|member| (folders_first(member), member.ending()));
        }
    }
}

/// Whether the reason of what is not settled is told below it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reasons {
    /// It is.
    Told,
    /// It is not: the caller tells it.
    Untold,
}

/// Writes members, a line each. A name that is too long for the terminal is shortened in the middle; in a pipe all is whole.
pub fn print(style: Style, indent: usize, members: &[Member], reasons: Reasons) {
    let with_states = members.iter().any(|member| !member.states.is_empty());
    let mut rows = Rows::bare(style, 4);
    for member in members {
        let name = match member.kind {
            Kind::Folder => format!("{}/", member.name),
            Kind::File => member.name.clone(),
            Kind::Odd(odd) => format!("{} ({})", member.name, odd.reason()),
        };
        let look = member.agreement().map_or(Look::Fine, Look::of);
        let states = match with_states {
            true => member.state_words(style),
            false => String::new(),
        };
        rows.add(vec![
            shown_text(&name).into(),
            member.bytes.map_or_else(String::new, words::bytes).into(),
            member.at.map_or_else(String::new, time::time).into(),
            Cell::of(look, states),
        ]);
    }
    rows.paths(0);
    rows.numbers(1);
    rows.whole(2);
    rows.print_telling(indent, &mut |at| {
        let reason = &members[at].reason;
        if reasons == Reasons::Told && !reason.is_empty() {
            sentence(style, indent + 4, reason);
        }
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    fn path(at: &str, kind: Kind, agreement: Agreement, size: u64) -> LanePath {
        LanePath {
            path: RelPath::parse(at).unwrap(),
            kind,
            size,
            at: None,
            state: FileState {
                agreement,
                lies: Lies::Here,
            },
            reason: String::new(),
        }
    }

    #[test]
    fn folders_add_up_what_is_in_them_at_any_depth() {
        let all = [
            path("a", Kind::Folder, Agreement::Settled, 0),
            path("a/b", Kind::Folder, Agreement::Settled, 0),
            path("a/b/one.txt", Kind::File, Agreement::Conflict, 5),
            path("a/two.txt", Kind::File, Agreement::Settled, 7),
            path("empty", Kind::Folder, Agreement::Settled, 0),
            path("z.txt", Kind::File, Agreement::Settled, 1),
        ];
        let found = members(&RelPath::root(), &all);
        let told: Vec<_> = found
            .iter()
            .map(|one| (one.name.as_str(), one.bytes, one.files, one.agreement()))
            .collect();
        assert_eq!(
            told,
            [
                ("a", Some(12), Some(2), Some(Agreement::Conflict)),
                ("empty", Some(0), Some(0), Some(Agreement::Settled)),
                ("z.txt", Some(1), None, Some(Agreement::Settled)),
            ]
        );
        let inner = members(&RelPath::parse("a").unwrap(), &all);
        assert_eq!(inner.len(), 2);
        assert!(found[0].fits(&[StateTyped::Conflict]));
        assert!(found[0].fits(&[StateTyped::Settled]));
        assert!(!found[2].fits(&[StateTyped::Conflict]));
    }
}
