//! What a listing alone cannot tell of a path: whether a file with a new stamp has new content, and whether a name that the
//! far side never lists is there after all.
//!
//! A pass, a status, an undoing and the search for moves all look closer through here, so that one of them cannot call
//! new what another one calls the same.

use katabatic_core::{Base, Digest, Entry, Kind, RelPath, Side, Triple, Unknown, View};

use super::Pass;
use super::being_written;
use super::transfer::digest_with_blocks;
use katabatic_sides::SideError;
use katabatic_sides::digest::digest;

/// Whether the listings tell all there is to know of a path, as they do of nearly all.
pub(super) fn is_plain(pass: &Pass, triple: &Triple) -> bool {
    let may_be_hidden = || {
        triple.views.far == View::Absent
            && triple.base.is_none()
            && triple.views.near.entry().is_some()
            && pass.lane.far.may_hide(&triple.path)
    };
    !pass.reads_a_copy_of(&triple.path)
        && triple.views.far != View::Unknown(Unknown::NeverListed)
        && !may_be_hidden()
        && !has_content_in_place_of_a_stub(triple)
        && !was_touched(triple, Side::Near)
        && !was_touched(triple, Side::Far)
}

/// Looks closer at both sides. The answer says whether the far side's listing showed the path.
pub(crate) async fn look_closer(pass: &Pass, mut triple: Triple) -> (Triple, bool) {
    let listed = triple.views.far.entry().is_some();
    being_written::freeze(pass, &mut triple).await;
    if is_plain(pass, &triple) {
        return (triple, listed);
    }
    look_for_hidden(pass, &mut triple).await;
    read_where_touched(pass, &mut triple, Side::Near).await;
    read_where_touched(pass, &mut triple, Side::Far).await;
    (triple, listed)
}

/// Asks the far side for a name that it may hide from listings.
async fn look_for_hidden(pass: &Pass, triple: &mut Triple) {
    let may_hide = pass.lane.far.may_hide(&triple.path);
    let new_here = triple.base.is_none() && triple.views.near.entry().is_some();
    let is_asked = triple.views.far == View::Unknown(Unknown::NeverListed)
        || (may_hide && new_here && triple.views.far == View::Absent);
    if !is_asked {
        return;
    }
    match pass.store(Side::Far).look(&triple.path).await {
        Ok(Some(entry)) => triple.views.far = View::Present(entry),
        // New names may be carried there; what was agreed on and cannot be found stays unknown.
        Ok(None) if triple.base.is_none() => triple.views.far = View::Absent,
        // It went before anybody saw it listed, or never arrived: brought there again, which removes nothing.
        Ok(None) if !may_hide => {
            triple.views.far = View::Absent;
            if triple.views.near != View::Absent {
                triple.base = None;
            }
        }
        Ok(None) => {}
        Err(error) => triple.views.far = View::Unknown(Unknown::NotListed(error.to_string())),
    }
}

/// Whether a file is here where a stub was agreed on.
fn has_content_in_place_of_a_stub(triple: &Triple) -> bool {
    let here = triple.views.near.entry();
    triple.base.as_ref().is_some_and(Base::is_stub)
        && here.is_some_and(|near| near.kind == Kind::File && !near.is_stub())
}

/// Holds a stub that is being filled: what is here is no version that anybody made.
async fn see_what_comes(pass: &Pass, triple: &mut Triple) {
    if has_content_in_place_of_a_stub(triple) && pass.lane.near.is_coming(&triple.path).await {
        triple.views.near = View::Unknown(Unknown::Coming);
    }
}

/// Whether a side shows a file of the agreed length with another stamp. Of a stub nothing is here to be read, and what is
/// there counts as it is shown.
fn was_touched(triple: &Triple, side: Side) -> bool {
    let view = &triple.views[side];
    let (Some(base), View::Present(seen)) = (&triple.base, view) else {
        return false;
    };
    seen.kind == Kind::File
        && base.kind == Kind::File
        && seen.size == base.size
        && seen.stamp != base.stamps[side]
        && !base.is_stub()
        && !seen.is_stub()
}

/// Reads what a side shows where only its content tells whether it is what was agreed on. On this computer that is every
/// file with a new stamp. In an account a new tag is a new version, but where tags are in doubt or change alone.
pub(crate) async fn read_where_touched(pass: &Pass, triple: &mut Triple, side: Side) {
    if side == Side::Near {
        see_what_comes(pass, triple).await;
    }
    if !was_touched(triple, side) {
        return;
    }
    let (Some(base), view) = (&triple.base, &mut triple.views[side]) else {
        return;
    };
    let View::Present(seen) = view else {
        return;
    };
    let is_read = match side {
        Side::Near => true,
        Side::Far => {
            base.stamps.far.is_doubt_of(&seen.stamp) || pass.store(Side::Far).stamps_change_alone()
        }
    };
    if !is_read {
        return;
    }
    match content_of(pass, side, &triple.path, seen).await {
        Ok(content) => seen.content = Some(content),
        Err(SideError::BeingWritten) => *view = View::Unknown(Unknown::BeingWritten),
        // It cannot be read: not a version anybody may act on.
        Err(error) => {
            *view = View::Unknown(Unknown::NotListed(format!("it could not be read: {error}")));
        }
    }
}

/// The digest of a version; of a large one on this computer the blocks are kept for carrying it.
pub(crate) async fn content_of(
    pass: &Pass,
    side: Side,
    path: &RelPath,
    seen: &Entry,
) -> Result<Digest, SideError> {
    let store = pass.store(side);
    let grain = pass.lane.far.grain();
    if side == Side::Far || seen.size < grain.worth_patching {
        return digest(&*store, path, seen).await;
    }
    let read = digest_with_blocks(&*store, path, seen, grain.block).await?;
    let digest = read.0;
    pass.note_blocks(path, &seen.stamp, read);
    Ok(digest)
}
