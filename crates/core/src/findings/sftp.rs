//! What was found out about a server of SFTP, and what is done because of it.

use serde::{Deserialize, Serialize};

use super::{CutPut, Finding, Findings, Keeps, ReadTag, Tags, line, yes_or};

/// What only servers of SFTP are asked.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SftpFindings {
    /// Whether a second name is given (`hardlink@openssh.com`), and only where nothing has it.
    pub links: bool,
    /// Whether something is renamed in one step (`posix-rename@openssh.com`).
    pub takes_out: bool,
    /// Whether a folder that is not empty keeps its name from every rename.
    pub keeps_names: bool,
    /// Whether the protocol's own `RENAME` leaves alone what has the new name.
    pub rename_refuses: bool,
    /// Whether a file is kept on disk when that is asked for (`fsync@openssh.com`).
    pub syncs: bool,
    /// Whether the server copies within itself (`copy-data`) and writes into the middle of a file.
    pub copies: bool,
    /// Whether a file keeps the date that it is given.
    pub keeps_dates: bool,
    /// Whether a file keeps the rights that it is given.
    pub keeps_rights: bool,
}

/// What was found of names there, which servers of every kind are asked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FoundNames {
    /// Whether names may begin with a dot, and are listed then.
    pub dots: bool,
    /// Whether names differ by case.
    pub case_differs: bool,
    /// Whether names differ by their Unicode form.
    pub unicode_differs: bool,
    /// Characters that names cannot hold there.
    pub refused_characters: String,
    /// The longest name that was taken, of those tried, in bytes.
    pub longest_name: usize,
}

impl Findings {
    /// Of a server of SFTP.
    #[must_use]
    pub fn of_sftp(
        server: Option<String>,
        quota: bool,
        sftp: SftpFindings,
        names: FoundNames,
    ) -> Findings {
        Findings {
            server,
            tags: Tags::Coarse,
            put_has_tag: false,
            tags_shared: true,
            tags_clock_made: true,
            digests: false,
            listed_digests: false,
            read_tag: ReadTag::Same,
            moves: true,
            moves_folders_whole: true,
            lists_members: true,
            names_itself: true,
            tells_lengths: true,
            tells_dates: true,
            lists_late: false,
            left_behind: None,
            escapes_twice: false,
            takes_dots: Some(names.dots),
            unserved_characters: String::new(),
            move_keeps_tag: true,
            ids: false,
            if_none_match: Keeps::Refused,
            if_match_put: Keeps::Refused,
            if_match_delete: Keeps::Refused,
            if_match_move: Keeps::Refused,
            if_match_copy: Keeps::Refused,
            no_overwrite_move: Keeps::Refused,
            no_overwrite_folder: Keeps::Refused,
            no_overwrite_copy: Keeps::Refused,
            stranger_in_mid_body: Keeps::Refused,
            cut_put: CutPut::Half,
            partial_put: Keeps::Refused,
            copies: sftp.copies,
            infinity: false,
            changes: false,
            quota,
            properties: false,
            lists_dots: names.dots,
            case_differs: names.case_differs,
            unicode_differs: names.unicode_differs,
            refused_characters: names.refused_characters,
            longest_name: names.longest_name,
            sftp: Some(sftp),
        }
    }
}

impl SftpFindings {
    /// All of it, as lines of a table.
    #[must_use]
    pub fn table(&self) -> Vec<Finding> {
        let mut table = self.about_versions();
        table.extend(self.about_placing());
        table.extend(self.about_content());
        table
    }

    fn about_versions(&self) -> Vec<Finding> {
        vec![line(
            "what a version is known by",
            "length and second of its last change",
            "what was changed in the last seconds is read again by the next pass",
        )]
    }

    fn about_placing(&self) -> Vec<Finding> {
        let placing = "what stands under a name stays: a new version gets its name as a second one";
        vec![
            match (self.links, self.rename_refuses) {
                (true, _) => line("a name that is taken (hardlink)", "is left alone", placing),
                (false, true) => Finding {
                    unguarded: true,
                    ..line(
                        "a name that is taken (RENAME)",
                        "is left alone, after a look of the server's",
                        "what a stranger puts there within that moment is not guarded",
                    )
                },
                (false, false) => Finding {
                    unguarded: true,
                    ..line(
                        "a name that is taken (RENAME)",
                        "is written over",
                        "a look right before each move; what a stranger puts there between the two is not guarded",
                    )
                },
            },
            match self.takes_out {
                true => line(
                    "taking out (posix-rename)",
                    "in one step",
                    "whatever stands there by then is kept in the spares, and looked at there",
                ),
                false => Finding {
                    unguarded: true,
                    ..line(
                        "taking out (posix-rename)",
                        "not in one step",
                        "by RENAME; what a stranger writes within that moment is not guarded",
                    )
                },
            },
            match self.keeps_names {
                true => line(
                    "a name that a folder has",
                    "kept from every rename",
                    "a request without an answer is kept from being done later",
                ),
                false => Finding {
                    unguarded: true,
                    ..line(
                        "a name that a folder has",
                        "given away",
                        "after a request without an answer nothing is done at that path for a day, in case that it comes late",
                    )
                },
            },
        ]
    }

    fn about_content(&self) -> Vec<Finding> {
        vec![
            match self.syncs {
                true => line(
                    "kept on disk (fsync)",
                    "when that is asked for",
                    "asked for before a version gets its name",
                ),
                false => Finding {
                    unguarded: true,
                    ..line(
                        "kept on disk (fsync)",
                        "whenever the server does it",
                        "a power cut there right after an upload may lose it",
                    )
                },
            },
            line(
                "copies made there (copy-data)",
                yes_or(self.copies, "no"),
                match self.copies {
                    true => "of a large file that changed a little, only the changes go",
                    false => "not used: a file that changed goes whole",
                },
            ),
            line(
                "uploads that are cut",
                match self.copies {
                    true => "kept up to the last step",
                    false => "not gone on with",
                },
                match self.copies {
                    true => {
                        "large files go in steps of 16 MiB, and go on in a copy of what is there"
                    }
                    false => {
                        "such a file begins anew: what came late could still be written into it"
                    }
                },
            ),
            line(
                "dates of files",
                match self.keeps_dates {
                    true => "kept, to the second",
                    false => "not kept",
                },
                match self.keeps_dates {
                    true => "edit times travel with the files",
                    false => "a file there bears the date of its upload",
                },
            ),
            line(
                "rights of files",
                match self.keeps_rights {
                    true => "kept",
                    false => "not kept",
                },
                match self.keeps_rights {
                    true => "a new version takes over those of the old one",
                    false => "a new version has those that the server gives",
                },
            ),
        ]
    }
}
