//! What stands once for each side of a lane.

use std::ops::{Index, IndexMut};

use crate::Side;

/// One of something for the near side, and one for the far side.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash)]
pub struct PerSide<T> {
    /// The near side's.
    pub near: T,
    /// The far side's.
    pub far: T,
}

impl<T> PerSide<T> {
    /// What `of` gives for each side.
    ///
    /// ```
    /// use katabatic_core::{PerSide, Side};
    ///
    /// let words = PerSide::of(|side| side.name().to_owned());
    /// assert_eq!(words[Side::Far], "far");
    /// ```
    pub fn of(mut of: impl FnMut(Side) -> T) -> PerSide<T> {
        PerSide {
            near: of(Side::Near),
            far: of(Side::Far),
        }
    }

    /// Both, each with its side, the near one first.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = (Side, &T)> {
        [(Side::Near, &self.near), (Side::Far, &self.far)].into_iter()
    }
}

impl<T> IntoIterator for PerSide<T> {
    type Item = (Side, T);
    type IntoIter = std::array::IntoIter<(Side, T), 2>;

    fn into_iter(self) -> Self::IntoIter {
        [(Side::Near, self.near), (Side::Far, self.far)].into_iter()
    }
}

impl<T> Index<Side> for PerSide<T> {
    type Output = T;

    fn index(&self, side: Side) -> &T {
        match side {
            Side::Near => &self.near,
            Side::Far => &self.far,
        }
    }
}

impl<T> IndexMut<Side> for PerSide<T> {
    fn index_mut(&mut self, side: Side) -> &mut T {
        match side {
            Side::Near => &mut self.near,
            Side::Far => &mut self.far,
        }
    }
}
