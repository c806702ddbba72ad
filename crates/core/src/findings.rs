//! What was found out about a server, and what that leaves unguarded: the probe writes it, the ledger keeps it, and
//! whoever asks a server for anything relies on it.

mod sftp;

use serde::{Deserialize, Serialize};

pub use sftp::{FoundNames, SftpFindings};

/// How a server keeps to something it was asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Keeps {
    /// As the standard has it.
    Obeyed,
    /// It answers, and does it all the same.
    Ignored,
    /// It does not do this at all.
    Refused,
}

/// What version tags a listing shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Tags {
    /// Every version has one of its own.
    Strong,
    /// The same, but weak at first (RFC 9110 §8.8.1).
    Weak,
    /// Two versions of one second and one length share theirs.
    Coarse,
    /// None.
    Absent,
    /// Another one in each answer, whatever became of the file.
    Restless,
}

/// What an answer to `GET` or `HEAD` tells of the version that it is of.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ReadTag {
    /// The same as a listing; so it has to be where nobody has asked.
    #[default]
    Same,
    /// Something else than a listing.
    Other,
    /// Nothing.
    Nothing,
}

/// What became of an upload whose line was cut.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum CutPut {
    /// Nothing was there afterwards.
    Nothing,
    /// A part of it was, under its real name.
    Half,
}

/// What was found out about a server.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Findings {
    /// The server's software, as it calls itself.
    pub server: Option<String>,
    /// Whether a listing shows tags, and what they are worth.
    pub tags: Tags,
    /// Whether the answer to an upload has the tag of what was kept.
    pub put_has_tag: bool,
    /// Whether files that come at the same time can have the same tag.
    #[serde(default = "yes")]
    pub tags_shared: bool,
    /// Whether tags are made of times and sizes.
    #[serde(default = "yes")]
    pub tags_clock_made: bool,
    /// Whether the server tells the digest of a file (RFC 9530): the right one, and another after a change.
    #[serde(default)]
    pub digests: bool,
    /// The same in a listing, for many files at once.
    #[serde(default)]
    pub listed_digests: bool,
    /// What an answer to `GET` tells of the version that it is of.
    #[serde(default)]
    pub read_tag: ReadTag,
    /// Whether anything can be moved there at all.
    #[serde(default = "yes")]
    pub moves: bool,
    /// Whether a folder is moved with all that is in it, or not at all.
    #[serde(default = "yes")]
    pub moves_folders_whole: bool,
    /// Whether the members of a folder can be listed (`Depth: 1`).
    #[serde(default = "yes")]
    pub lists_members: bool,
    /// Whether the listing of a folder names the folder itself.
    #[serde(default = "yes")]
    pub names_itself: bool,
    /// Whether listings say how long files are, and when they were changed.
    #[serde(default = "yes")]
    pub tells_lengths: bool,
    /// When they were changed, in a form that a standard has.
    #[serde(default = "yes")]
    pub tells_dates: bool,
    /// Whether what was made is listed only later.
    #[serde(default)]
    pub lists_late: bool,
    /// The folder of the test, where it could not be removed again.
    #[serde(default)]
    pub left_behind: Option<String>,
    /// Whether listings escape what they have escaped.
    #[serde(default)]
    pub escapes_twice: bool,
    /// Whether names may begin with a dot; none where nobody has asked.
    #[serde(default)]
    pub takes_dots: Option<bool>,
    /// Characters of names that are listed and not given when they are asked for.
    #[serde(default)]
    pub unserved_characters: String,
    /// Whether a move keeps the tag.
    pub move_keeps_tag: bool,
    /// Whether files have ids of their own, which a move keeps.
    #[serde(default)]
    pub ids: bool,
    /// `If-None-Match: *` on `PUT`.
    pub if_none_match: Keeps,
    /// `If-Match` with another tag on `PUT`.
    pub if_match_put: Keeps,
    /// The same on `DELETE`.
    pub if_match_delete: Keeps,
    /// The same on `MOVE`.
    pub if_match_move: Keeps,
    /// The same on `COPY`.
    pub if_match_copy: Keeps,
    /// `Overwrite: F` on `MOVE`.
    pub no_overwrite_move: Keeps,
    /// The same where a folder has the name.
    #[serde(default = "ignored")]
    pub no_overwrite_folder: Keeps,
    /// `Overwrite: F` on `COPY`.
    pub no_overwrite_copy: Keeps,
    /// A stranger's upload in the middle of ours, which had `If-None-Match: *`.
    pub stranger_in_mid_body: Keeps,
    /// An upload that is cut in the middle.
    pub cut_put: CutPut,
    /// `PUT` of a range.
    pub partial_put: Keeps,
    /// A copy made by the server holds the same.
    pub copies: bool,
    /// `Depth: infinity`.
    pub infinity: bool,
    /// `sync-collection`.
    pub changes: bool,
    /// Whether it tells used or free bytes.
    pub quota: bool,
    /// Whether it keeps properties of our own.
    pub properties: bool,
    /// Whether names that begin with a dot are listed.
    pub lists_dots: bool,
    /// Whether names differ by case.
    pub case_differs: bool,
    /// Whether names differ by their Unicode form.
    pub unicode_differs: bool,
    /// Characters that names cannot hold there.
    pub refused_characters: String,
    /// The longest name that was taken, of those tried, in bytes.
    pub longest_name: usize,
    /// What only servers of SFTP are asked; there what is of WebDAV alone stands at its worst.
    #[serde(default)]
    pub sftp: Option<SftpFindings>,
}

/// What was not asked by an older version of this program is believed at its worst.
fn ignored() -> Keeps {
    Keeps::Ignored
}

fn yes() -> bool {
    true
}

/// One line of what was found: what it is about, what was found, and what is done because of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// What it is about.
    pub about: &'static str,
    /// What was found.
    pub found: String,
    /// What Katabatic does because of it.
    pub therefore: &'static str,
    /// Whether this leaves something unguarded.
    pub unguarded: bool,
}

impl Findings {
    /// Whether equal tags may hide two versions, so that what is young is looked at again by content.
    #[must_use]
    pub fn tags_prove_little(&self) -> bool {
        matches!(self.tags, Tags::Coarse | Tags::Absent | Tags::Restless)
    }

    /// Whether a tag is of one version of one file alone, so that it says something of the content.
    #[must_use]
    pub fn tags_are_evidence(&self) -> bool {
        !self.tags_prove_little() && !self.tags_shared && !self.tags_clock_made
    }

    /// Whether a body is placed whole or not at all, and only where nothing is, so that a small new file may go at once.
    #[must_use]
    pub fn puts_whole(&self) -> bool {
        self.stranger_in_mid_body == Keeps::Obeyed
            && self.cut_put == CutPut::Nothing
            && self.if_none_match == Keeps::Obeyed
            && !self.tags_prove_little()
    }

    /// All of it, as a table.
    #[must_use]
    pub fn table(&self) -> Vec<Finding> {
        if let Some(sftp) = &self.sftp {
            let mut table = sftp.table();
            table.push(self.about_space());
            table.extend(self.about_names());
            return table;
        }
        let mut table = self.about_tags();
        table.extend(self.about_conditions());
        table.extend(self.about_writing());
        table.extend(self.about_looking());
        table.extend(self.about_names());
        table
    }

    /// What its version tags and digests are worth.
    fn about_tags(&self) -> Vec<Finding> {
        vec![
            match self.tags {
                Tags::Strong => line(
                    "version tags",
                    "one for each version",
                    "changes there are seen by them",
                ),
                Tags::Weak => line(
                    "version tags",
                    "weak for a while, then strong",
                    "they are compared without that mark",
                ),
                Tags::Coarse => line(
                    "version tags",
                    "coarse: two versions of one second can share one",
                    "what was changed in the last seconds is read again by the next pass",
                ),
                Tags::Absent => line(
                    "version tags",
                    "none",
                    "date and size have to do; what is young is read again by the next pass",
                ),
                Tags::Restless => line(
                    "version tags",
                    "another one in each answer",
                    "date and size have to do; what is young is read again by the next pass",
                ),
            },
            match self.read_tag {
                ReadTag::Same => line(
                    "tag when it is read",
                    "that of the listing",
                    "it says which version comes",
                ),
                ReadTag::Other => line(
                    "tag when it is read",
                    "another than that of the listing",
                    "listed again after it was read: the same tag and length say which version came",
                ),
                ReadTag::Nothing => line(
                    "tag when it is read",
                    "none",
                    "listed again after it was read: the same tag and length say which version came",
                ),
            },
            line(
                "what a tag is worth",
                match (
                    self.tags_prove_little(),
                    self.tags_shared,
                    self.tags_clock_made,
                ) {
                    (true, ..) => "little",
                    (_, true, _) => "two files had the same",
                    (_, _, true) => "made of time and size",
                    (false, false, false) => "of one version alone",
                },
                if self.tags_are_evidence() {
                    "evidence: what came from there and was never changed here goes after a look at some parts of it"
                } else {
                    "no proof; a digest or reading back is one, before a last copy goes"
                },
            ),
            line(
                "digests (Repr-Digest)",
                match (self.digests, self.listed_digests) {
                    (true, true) => "told, by folder, too",
                    (true, false) => "told, file by file",
                    (false, _) => "not told, or not of what is there now",
                },
                if self.digests {
                    "they prove what is there before a last copy here goes"
                } else {
                    "what is there is read back before a last copy here goes"
                },
            ),
            line(
                "tag after an upload",
                yes_or(self.put_has_tag, "no"),
                if self.put_has_tag {
                    "it is taken from the answer"
                } else {
                    "one more look at what was staged"
                },
            ),
            line(
                "tag after a move",
                if self.move_keeps_tag {
                    "the same"
                } else {
                    "another"
                },
                if self.move_keeps_tag {
                    "what was staged is known again in its place"
                } else {
                    "what was staged is not known again in its place: uploads there end as stuck"
                },
            ),
        ]
    }

    /// Which conditions of requests it obeys.
    fn about_conditions(&self) -> Vec<Finding> {
        let never_relied_on = "not relied on: what is replaced is captured first";
        vec![
            line(
                "If-None-Match on PUT",
                kept(self.if_none_match),
                if self.puts_whole() {
                    "guards small new files that go at once"
                } else {
                    never_relied_on
                },
            ),
            line("If-Match on PUT", kept(self.if_match_put), never_relied_on),
            line(
                "If-Match on DELETE",
                kept(self.if_match_delete),
                never_relied_on,
            ),
            line(
                "If-Match on MOVE",
                kept(self.if_match_move),
                never_relied_on,
            ),
            line(
                "If-Match on COPY",
                kept(self.if_match_copy),
                never_relied_on,
            ),
            match self.no_overwrite_move {
                Keeps::Obeyed => line(
                    "Overwrite: F on MOVE",
                    "obeyed",
                    "a name that is taken stays; two moves at once may still race",
                ),
                Keeps::Ignored | Keeps::Refused => Finding {
                    unguarded: true,
                    ..line(
                        "Overwrite: F on MOVE",
                        kept(self.no_overwrite_move),
                        "a look right before each move; what a stranger puts there between the two is not guarded",
                    )
                },
            },
            match self.no_overwrite_folder {
                Keeps::Obeyed | Keeps::Refused => line(
                    "Overwrite: F onto a folder",
                    kept(self.no_overwrite_folder),
                    "a request without an answer is kept from being done later",
                ),
                Keeps::Ignored => Finding {
                    unguarded: true,
                    ..line(
                        "Overwrite: F onto a folder",
                        kept(self.no_overwrite_folder),
                        "after a request without an answer nothing is done at that path for a day, in case that it comes late",
                    )
                },
            },
            line(
                "Overwrite: F on COPY",
                kept(self.no_overwrite_copy),
                "nothing: copies only go to names of our own",
            ),
        ]
    }

    /// What becomes of moves, where that is not as the standard has it.
    fn odd_moves(&self) -> Vec<Finding> {
        let mut odd = Vec::new();
        if !self.moves {
            odd.push(Finding {
                unguarded: true,
                ..line(
                    "MOVE",
                    "not done at all",
                    "nothing goes up: without moves nothing can be placed or kept safely there; lanes down work",
                )
            });
        } else if !self.moves_folders_whole {
            odd.push(line(
                "MOVE of a folder",
                "leaves a part behind",
                "what stays behind is carried by itself by the next pass",
            ));
        }
        odd
    }

    /// What becomes of uploads and copies.
    fn about_writing(&self) -> Vec<Finding> {
        let mut told = self.odd_moves();
        told.extend(self.usual_writing());
        told
    }

    fn usual_writing(&self) -> Vec<Finding> {
        let goes = if self.puts_whole() {
            "small new files go at once; all else goes to a name of our own first"
        } else {
            "every upload goes to a name of our own first"
        };
        vec![
            line(
                "a stranger while a PUT is under way",
                match self.stranger_in_mid_body {
                    Keeps::Obeyed => "the stranger's file stays",
                    Keeps::Ignored => "the stranger's file is overwritten",
                    Keeps::Refused => "could not be tried",
                },
                goes,
            ),
            line(
                "a PUT that is cut",
                match self.cut_put {
                    CutPut::Nothing => "leaves nothing",
                    CutPut::Half => "leaves half a file under its name",
                },
                goes,
            ),
            line(
                "PUT of a range",
                match self.partial_put {
                    Keeps::Obeyed => "done right",
                    Keeps::Ignored => "done wrong: the file is not what it should be",
                    Keeps::Refused => "refused",
                },
                if self.partial_put == Keeps::Obeyed {
                    "large files go in steps of 16 MiB, and go on there when they are cut"
                } else {
                    "every file goes whole; one that is cut begins anew"
                },
            ),
            line(
                "copies made there",
                yes_or(self.copies, "no"),
                if self.copies && self.partial_put == Keeps::Obeyed && !self.tags_prove_little() {
                    "of a large file that changed a little, only the changes go"
                } else {
                    "not used: a file that changed goes whole"
                },
            ),
        ]
    }

    /// What it tells of what lies there.
    fn about_looking(&self) -> Vec<Finding> {
        let mut told = self.odd_listings();
        told.extend(self.usual_looks());
        told
    }

    /// What few servers do, and is told where one does.
    fn odd_listings(&self) -> Vec<Finding> {
        let mut odd = Vec::new();
        if !self.lists_members {
            odd.push(Finding {
                unguarded: true,
                ..line(
                    "listings of a folder (Depth: 1)",
                    "refused",
                    if self.infinity {
                        "whole trees are listed instead"
                    } else {
                        "no lane can be tied to it: nobody can see what lies there"
                    },
                )
            });
        }
        if !self.names_itself {
            odd.push(line(
                "the folder in its own listing",
                "not named",
                "one more look at each folder",
            ));
        }
        if !self.tells_lengths {
            odd.push(line(
                "lengths in listings",
                "not told",
                "one more request (HEAD) for each file",
            ));
        }
        if !self.tells_dates {
            odd.push(line(
                "dates in listings",
                "not told, or in a form of its own",
                if self.tags_prove_little() {
                    "every file is read at each pass: nothing else tells one version from another"
                } else {
                    "changes are seen by tags"
                },
            ));
        }
        if self.lists_late {
            odd.push(line(
                "what was just made",
                "listed only later",
                "a look at it is waited for, some seconds at the most",
            ));
        }
        if let Some(folder) = &self.left_behind {
            odd.push(Finding {
                unguarded: true,
                ..line(
                    "the folder of this test",
                    folder,
                    "it could not be removed whole: remove it with the server's own pages",
                )
            });
        }
        if self.escapes_twice {
            odd.push(line(
                "names in listings",
                "escaped twice",
                "unescaped twice",
            ));
        }
        odd
    }

    fn about_space(&self) -> Finding {
        line(
            "used and free space",
            yes_or(self.quota, "not told"),
            "shown where it is told",
        )
    }

    fn usual_looks(&self) -> Vec<Finding> {
        vec![
            line(
                "Depth: infinity",
                yes_or(self.infinity, "no"),
                if self.infinity {
                    "everything is listed at once; where that breaks off, folder by folder"
                } else {
                    "folders are listed one by one, several at a time"
                },
            ),
            line(
                "change tokens",
                yes_or(self.changes, "no"),
                if self.changes && !self.tags_prove_little() {
                    "a pass asks what changed; once a day everything is listed all the same"
                } else {
                    "every pass lists everything"
                },
            ),
            line(
                "ids that a move keeps",
                yes_or(self.ids, "no"),
                if self.ids {
                    "what is moved there is moved here, and no content travels"
                } else {
                    "what is moved there is removed here and fetched again"
                },
            ),
            self.about_space(),
            line(
                "properties of our own",
                yes_or(self.properties, "not kept"),
                if self.properties {
                    "edit times travel with the files"
                } else {
                    "edit times are known to this computer only"
                },
            ),
        ]
    }

    /// Which names it holds, and how it tells them apart.
    fn about_names(&self) -> Vec<Finding> {
        let mut told = self.usual_names();
        if !self.unserved_characters.is_empty() {
            let shown: Vec<String> = self.unserved_characters.chars().map(String::from).collect();
            told.push(line(
                "names listed and not given",
                &format!("those with {}", shown.join(" ")),
                "such a file cannot be read there, and none is sent: rename it",
            ));
        }
        told
    }

    fn usual_names(&self) -> Vec<Finding> {
        vec![
            match (self.takes_dots.unwrap_or(true), self.lists_dots) {
                (false, _) => line(
                    "names that begin with a dot",
                    "refused",
                    "such a file is stuck, and stays here; what the tool keeps there lies in a folder without one",
                ),
                (true, true) => line("names that begin with a dot", "listed", "as any other"),
                (true, false) => line(
                    "names that begin with a dot",
                    "never listed",
                    "looked at one by one; their absence from a listing proves nothing",
                ),
            },
            line(
                "upper and lower case",
                if self.case_differs {
                    "two names"
                } else {
                    "one name"
                },
                if self.case_differs {
                    "as any other"
                } else {
                    "names here that differ only by case meet there, and one of them is stuck"
                },
            ),
            line(
                "forms of é (Unicode)",
                if self.unicode_differs {
                    "two names"
                } else {
                    "one name"
                },
                if self.unicode_differs {
                    "as any other"
                } else {
                    "names here that differ only by form meet there, and one of them is stuck"
                },
            ),
            line(
                "characters in names",
                &if self.refused_characters.is_empty() {
                    "all that were tried".to_owned()
                } else {
                    let shown: Vec<String> = self
                        .refused_characters
                        .chars()
                        .map(|c| c.escape_default().to_string())
                        .collect();
                    format!("not {}", shown.join(" "))
                },
                if self.refused_characters.is_empty() {
                    "as any other"
                } else {
                    "a file with one of them in its name is stuck, and stays here"
                },
            ),
            line(
                "the longest name",
                &format!("{} bytes or more", self.longest_name),
                if self.longest_name >= 255 {
                    "as any other"
                } else {
                    "a file with a longer name is stuck, and stays here"
                },
            ),
        ]
    }
}

/// Something that was found, and what the program does because of it.
fn line(about: &'static str, found: &str, therefore: &'static str) -> Finding {
    Finding {
        about,
        found: found.to_owned(),
        therefore,
        unguarded: false,
    }
}

fn kept(keeps: Keeps) -> &'static str {
    match keeps {
        Keeps::Obeyed => "obeyed",
        Keeps::Ignored => "ignored",
        Keeps::Refused => "not done at all",
    }
}

fn yes_or(yes: bool, no: &'static str) -> &'static str {
    if yes { "yes" } else { no }
}
