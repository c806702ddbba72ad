//! Three sorted streams become one stream of paths.
//!
//! The ledger, the near scan and the far scan each come in tree order; the merge puts together what belongs to one
//! path and never holds more than the folders it stands in. It is also the one place where "not in the stream" is
//! turned into *absent* or *unknown*: a name is absent only where its folder was listed whole and, for a path the
//! ledger knows, where that side has listed the name before.

use crate::{Base, Entry, Kind, Listing, PerSide, RelPath, Side, Unknown, View};

/// What is known of one path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Triple {
    /// The path.
    pub path: RelPath,
    /// What was agreed, if anything.
    pub base: Option<Base>,
    /// What was seen on each side.
    pub views: PerSide<View>,
}

/// A stream was not in tree order: going on could read "later" as "absent".
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("the {stream} listing is out of order at {path:?}")]
pub struct MergeError {
    /// Which stream.
    pub stream: &'static str,
    /// Where.
    pub path: RelPath,
}

/// What the stream of rows is called.
const LEDGER: &str = "ledger's";

impl MergeError {
    /// Whether it is the ledger that cannot be right.
    #[must_use]
    pub fn is_of_the_ledger(&self) -> bool {
        self.stream == LEDGER
    }
}

struct Ordered<I> {
    name: &'static str,
    items: I,
    last: Option<RelPath>,
}

impl<T, I: Iterator<Item = (RelPath, T)>> Iterator for Ordered<I> {
    type Item = Result<(RelPath, T), MergeError>;

    fn next(&mut self) -> Option<Self::Item> {
        let (path, item) = self.items.next()?;
        if self.last.as_ref().is_some_and(|last| *last >= path) {
            return Some(Err(MergeError {
                stream: self.name,
                path,
            }));
        }
        self.last = Some(path.clone());
        Some(Ok((path, item)))
    }
}

type Stream<I> = std::iter::Peekable<Ordered<I>>;

/// The merge of a ledger and two scans; see the module's text.
pub struct Merge<B, N, F>
where
    B: Iterator<Item = (RelPath, Option<Base>)>,
    N: Iterator<Item = (RelPath, Entry)>,
    F: Iterator<Item = (RelPath, Entry)>,
{
    base: Stream<B>,
    near: Stream<N>,
    far: Stream<F>,
    /// The paths the merge stands in, the root first, with what that means on either side for what lies below.
    folders: Vec<(RelPath, Below, Below)>,
}

/// What a view of a path says of all below it that a stream does not show.
#[derive(Clone, Debug)]
enum Below {
    /// With the folder itself gone, or a file in its place, nothing can be left in it.
    Nothing,
    /// It was listed whole.
    Listed,
    /// It cannot be told.
    Unknown(Unknown),
}

impl Below {
    fn of(view: &View) -> Below {
        match view {
            View::Unknown(why) => Below::Unknown(why.clone()),
            View::Absent => Below::Nothing,
            View::Present(Entry {
                listing: Listing::Incomplete(why),
                ..
            }) => Below::Unknown(why.clone()),
            View::Present(entry) => match entry.kind {
                Kind::File => Below::Nothing,
                // A folder moved to another disk with a link left in its place was not emptied.
                Kind::Odd(odd) => Below::Unknown(Unknown::BehindOdd(odd)),
                Kind::Folder => Below::Listed,
            },
        }
    }
}

impl<B, N, F> Merge<B, N, F>
where
    B: Iterator<Item = (RelPath, Option<Base>)>,
    N: Iterator<Item = (RelPath, Entry)>,
    F: Iterator<Item = (RelPath, Entry)>,
{
    /// Merges three streams; `near_root` and `far_root` say whether the roots themselves were listed whole.
    pub fn new(base: B, near_root: Listing, near: N, far_root: Listing, far: F) -> Merge<B, N, F> {
        let root = |listing| match listing {
            Listing::Complete => Below::Listed,
            Listing::Incomplete(why) => Below::Unknown(why),
        };
        Merge {
            base: Ordered {
                name: LEDGER,
                items: base,
                last: None,
            }
            .peekable(),
            near: Ordered {
                name: "near",
                items: near,
                last: None,
            }
            .peekable(),
            far: Ordered {
                name: "far",
                items: far,
                last: None,
            }
            .peekable(),
            folders: vec![(RelPath::root(), root(near_root), root(far_root))],
        }
    }

    /// The path that comes first among the three.
    fn first(&mut self) -> Result<Option<RelPath>, MergeError> {
        let fronts = [
            front(&mut self.base)?,
            front(&mut self.near)?,
            front(&mut self.far)?,
        ];
        Ok(fronts.into_iter().flatten().min().cloned())
    }

    fn absence(&self, side: Side, base: Option<&Base>) -> View {
        let Some((_, near, far)) = self.folders.last() else {
            return View::Absent;
        };
        let parent = match side {
            Side::Near => near,
            Side::Far => far,
        };
        match parent {
            Below::Unknown(why) => return View::Unknown(why.clone()),
            Below::Nothing => return View::Absent,
            Below::Listed => {}
        }
        // A removal that is remembered was believed once already; the name need not be listed again.
        if base.is_some_and(|base| !base.listed[side] && base.away != Some(side)) {
            return View::Unknown(Unknown::NeverListed);
        }
        View::Absent
    }
}

fn front<'s, T: 's, I: Iterator<Item = (RelPath, T)>>(
    stream: &'s mut Stream<I>,
) -> Result<Option<&'s RelPath>, MergeError> {
    match stream.peek() {
        None => Ok(None),
        Some(Ok((path, _))) => Ok(Some(path)),
        Some(Err(error)) => Err(error.clone()),
    }
}

fn take<T, I: Iterator<Item = (RelPath, T)>>(stream: &mut Stream<I>, path: &RelPath) -> Option<T> {
    let here = stream.next_if(|item| item.as_ref().is_ok_and(|(at, _)| at == path))?;
    here.ok().map(|(_, item)| item)
}

impl<B, N, F> Iterator for Merge<B, N, F>
where
    B: Iterator<Item = (RelPath, Option<Base>)>,
    N: Iterator<Item = (RelPath, Entry)>,
    F: Iterator<Item = (RelPath, Entry)>,
{
    type Item = Result<Triple, MergeError>;

    fn next(&mut self) -> Option<Self::Item> {
        let path = match self.first() {
            Ok(path) => path?,
            Err(error) => return Some(Err(error)),
        };
        while self
            .folders
            .last()
            .is_some_and(|(folder, ..)| !path.is_within(folder))
        {
            self.folders.pop();
        }
        let base = take(&mut self.base, &path).flatten();
        let near = take(&mut self.near, &path)
            .map_or_else(|| self.absence(Side::Near, base.as_ref()), View::Present);
        let far = take(&mut self.far, &path)
            .map_or_else(|| self.absence(Side::Far, base.as_ref()), View::Present);
        // Every path is pushed, files too: what the ledger knew below a path that is a file now must find an
        // "absent" parent, not the grandparent's listing.
        self.folders
            .push((path.clone(), Below::of(&near), Below::of(&far)));
        Some(Ok(Triple {
            path,
            base,
            views: PerSide { near, far },
        }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Stamp;

    fn path(text: &str) -> RelPath {
        RelPath::parse(text).unwrap()
    }

    fn base(far_listed: bool) -> Option<Base> {
        Some(Base {
            kind: crate::Kind::File,
            size: 1,
            content: None,
            stamps: PerSide {
                near: Stamp::new("n"),
                far: Stamp::new("f"),
            },
            listed: PerSide {
                near: true,
                far: far_listed,
            },
            away: None,
        })
    }

    fn merged(
        base: Vec<(RelPath, Option<Base>)>,
        near: Vec<(RelPath, Entry)>,
        far: Vec<(RelPath, Entry)>,
    ) -> Result<Vec<Triple>, MergeError> {
        Merge::new(
            base.into_iter(),
            Listing::Complete,
            near.into_iter(),
            Listing::Complete,
            far.into_iter(),
        )
        .collect()
    }

    fn file() -> Entry {
        Entry::file(1, Stamp::new("x"))
    }

    #[test]
    fn what_an_unread_folder_should_have_shown_is_unknown() {
        let why = Unknown::NotListed("permission denied".into());
        let unread = Entry {
            listing: Listing::Incomplete(why.clone()),
            ..Entry::folder()
        };
        let triples = merged(
            vec![
                (path("a"), None),
                (path("a/deep/x"), base(true)),
                (path("a/x"), base(true)),
                (path("b"), base(true)),
            ],
            vec![
                (path("a"), Entry::folder()),
                (path("a/deep"), Entry::folder()),
            ],
            vec![(path("a"), unread)],
        )
        .unwrap();
        let far: Vec<(&str, &View)> = triples
            .iter()
            .map(|triple| (triple.path.as_str(), &triple.views.far))
            .collect();
        assert_eq!(
            far[1..4].iter().map(|(at, _)| *at).collect::<Vec<_>>(),
            ["a/deep", "a/deep/x", "a/x"]
        );
        assert!(
            far[1..4]
                .iter()
                .all(|(_, view)| **view == View::Unknown(why.clone()))
        );
        assert_eq!(*far[4].1, View::Absent);
        assert_eq!(triples[2].views.near, View::Absent);
    }

    #[test]
    fn a_name_never_listed_cannot_go_missing() {
        let triples = merged(
            vec![(path(".plan"), base(false))],
            vec![(path(".plan"), file())],
            vec![],
        )
        .unwrap();
        assert_eq!(triples[0].views.far, View::Unknown(Unknown::NeverListed));
    }

    #[test]
    fn a_stream_out_of_order_is_an_error_and_not_an_absence() {
        let error = merged(
            vec![],
            vec![(path("b"), file()), (path("a"), file())],
            vec![],
        )
        .unwrap_err();
        assert_eq!(
            error,
            MergeError {
                stream: "near",
                path: path("a")
            }
        );
        assert!(
            merged(
                vec![],
                vec![],
                vec![(path("a"), file()), (path("a"), file())]
            )
            .is_err()
        );
    }
}
