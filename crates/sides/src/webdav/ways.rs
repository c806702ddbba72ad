//! The one place that decides in which way things are carried on a server, from what was found out about it.
//!
//! | what is done | only where |
//! |---|---|
//! | a small new file goes by one `PUT` under its real name | a body is placed whole or not at all: neither a cut nor a stranger in mid-body spoils it, and `If-None-Match: *` is obeyed |
//! | a large file goes in steps that are kept | a `PUT` of a range is done right, inside a file and at its end |
//! | a large file that changed a little is patched | the same, and copies made there are right, and a tag that is equal proves a version |
//! | a pass asks for what changed | the server gives change tokens |
//! | a whole tree is listed at once | the server lists to any depth |
//! | what is young is read again | a tag that is equal may hide two versions |
//! | what is proven is proven by digests | the server tells the digest of what it holds, right and anew after each change |
//! | content that came from there goes on evidence | a tag is neither shared by files nor made of times |
//! | a look comes right before each move | `Overwrite: F` is not obeyed |
//! | what is read and says that it is of another version is believed to be the listed one | the server's own answers say something else than its listings |
//! | tags are not looked at | the server gives another one in each answer |
//! | what was made is looked at until it shows | the server lists it only later |
//! | a listing that does not name its folder is believed, once a look says that the folder is there | the server never names it |
//! | a folder is moved by one request | all that is in it goes along |
//! | a folder keeps a name from a request that may come late | `Overwrite: F` is obeyed where a folder has the name, too |

use katabatic_core::findings::{Findings, Keeps, ReadTag, Tags};

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Ways {
    pub(super) direct: bool,
    pub(super) steps: bool,
    pub(super) patches: bool,
    pub(super) tokens: bool,
    pub(super) infinity: bool,
    pub(super) read_young_again: bool,
    pub(super) look_before_move: bool,
    pub(super) lists_dots: bool,
    pub(super) ids: bool,
    /// Whether the server tells digests of what it holds, and whether in listings, too.
    pub(super) digests: bool,
    pub(super) listed_digests: bool,
    /// Whether a tag is of one version of one file alone.
    pub(super) tags_are_evidence: bool,
    /// Whether answers to `GET` say something else of a version than listings do.
    pub(super) reads_tell_otherwise: bool,
    /// Whether tags say nothing at all, not even that something changed.
    pub(super) ignores_tags: bool,
    /// Whether what was just made may be listed only later.
    pub(super) lists_late: bool,
    /// Whether the listing of a folder names the folder itself.
    pub(super) names_itself: bool,
    /// Whether a folder is moved with all that is in it, or not at all.
    pub(super) moves_folders_whole: bool,
    /// Whether a late request is kept from a name by a folder that has it; none where nobody has tried yet.
    pub(super) fences: Option<bool>,
}

impl Ways {
    /// Of a server that nobody has looked at closely, the worst is believed.
    pub(super) const fn of_a_stranger() -> Ways {
        Ways {
            direct: false,
            steps: false,
            patches: false,
            tokens: false,
            infinity: false,
            read_young_again: true,
            look_before_move: true,
            lists_dots: false,
            // They are asked for, and found out by looking.
            ids: true,
            digests: false,
            listed_digests: false,
            tags_are_evidence: false,
            reads_tell_otherwise: false,
            ignores_tags: false,
            lists_late: true,
            names_itself: true,
            moves_folders_whole: true,
            fences: None,
        }
    }

    pub(super) fn of(findings: &Findings) -> Ways {
        let steps = findings.partial_put == Keeps::Obeyed;
        let tags_prove = !findings.tags_prove_little();
        Ways {
            direct: findings.puts_whole(),
            steps,
            patches: steps && findings.copies && tags_prove,
            // Of what a token does not name, the tag that was agreed on has to do.
            tokens: findings.changes && tags_prove,
            infinity: findings.infinity,
            read_young_again: findings.tags_prove_little(),
            look_before_move: findings.no_overwrite_move != Keeps::Obeyed,
            lists_dots: findings.lists_dots,
            ids: findings.ids,
            digests: findings.digests,
            listed_digests: findings.digests && findings.listed_digests,
            tags_are_evidence: findings.tags_are_evidence(),
            reads_tell_otherwise: findings.read_tag == ReadTag::Other,
            ignores_tags: findings.tags == Tags::Restless,
            lists_late: findings.lists_late,
            names_itself: findings.names_itself,
            moves_folders_whole: findings.moves_folders_whole,
            fences: Some(findings.no_overwrite_folder != Keeps::Ignored),
        }
    }
}
