//! Lists whose places have a type of their own, so that a frame's place is never taken for a register's.

use std::fmt;
use std::marker::PhantomData;
use std::ops::Index;

/// The place of something in a [`List`].
pub trait Id: Copy + Eq + Ord + fmt::Debug {
    /// The place of that number.
    fn new(index: usize) -> Self;
    /// Its number, from 0.
    fn index(self) -> usize;
}

/// Makes types of ids.
macro_rules! ids {
    ($($(#[$doc:meta])* $name:ident;)*) => {
        $(
            $(#[$doc])*
            #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
            pub struct $name(u32);

            impl $crate::ground::list::Id for $name {
                fn new(index: usize) -> Self {
                    Self(u32::try_from(index).unwrap_or(u32::MAX))
                }
                fn index(self) -> usize {
                    self.0 as usize
                }
            }
        )*
    };
}
pub(crate) use ids;

/// Things in an order, found by ids of one type.
pub struct List<I, T> {
    items: Vec<T>,
    ids: PhantomData<fn(I) -> I>,
}

impl<I: Id, T> List<I, T> {
    /// None yet.
    pub(crate) const fn new() -> Self {
        Self { items: Vec::new(), ids: PhantomData }
    }

    /// So many, each made from its id.
    pub(crate) fn filled(count: usize, make: impl FnMut(I) -> T) -> Self {
        Self { items: (0..count).map(I::new).map(make).collect(), ids: PhantomData }
    }

    /// Adds one behind the others.
    pub(crate) fn push(&mut self, item: T) -> I {
        self.items.push(item);
        I::new(self.items.len() - 1)
    }

    /// The one of that id; `None` where the id is of another part.
    pub fn get(&self, id: I) -> Option<&T> {
        self.items.get(id.index())
    }

    /// The same, to be changed.
    pub(crate) fn get_mut(&mut self, id: I) -> Option<&mut T> {
        self.items.get_mut(id.index())
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.items.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.items.is_empty()
    }

    /// All of them, in order.
    pub fn iter(&self) -> std::slice::Iter<'_, T> {
        self.items.iter()
    }

    /// The same, to be changed.
    pub(crate) fn iter_mut(&mut self) -> std::slice::IterMut<'_, T> {
        self.items.iter_mut()
    }

    /// The ids, in order.
    pub fn ids(&self) -> impl DoubleEndedIterator<Item = I> + ExactSizeIterator + Clone + use<I, T> {
        (0..self.items.len()).map(I::new)
    }

    /// Ids and what they stand for, in order.
    pub fn entries(&self) -> impl DoubleEndedIterator<Item = (I, &T)> + ExactSizeIterator + Clone {
        self.items.iter().enumerate().map(|(index, item)| (I::new(index), item))
    }

    /// The first for which something holds.
    pub fn position(&self, holds: impl Fn(&T) -> bool) -> Option<I> {
        self.items.iter().position(holds).map(I::new)
    }

    /// Those of some ids; ids of another part are passed over.
    pub fn of<'a>(&'a self, ids: impl IntoIterator<Item = &'a I>) -> impl Iterator<Item = &'a T>
    where
        I: 'a,
    {
        ids.into_iter().filter_map(|id| self.get(*id))
    }

    /// The last one.
    pub fn last(&self) -> Option<&T> {
        self.items.last()
    }

    /// The first one.
    pub fn first(&self) -> Option<&T> {
        self.items.first()
    }

    /// As a slice.
    pub fn as_slice(&self) -> &[T] {
        &self.items
    }
}

/// The one of an id of this part.
///
/// # Panics
/// Where the id is of another part and the list has no such place; [`get`](List::get) tells.
impl<I: Id, T> Index<I> for List<I, T> {
    type Output = T;

    fn index(&self, id: I) -> &T {
        &self.items[id.index()]
    }
}

impl<I, T: Clone> Clone for List<I, T> {
    fn clone(&self) -> Self {
        Self { items: self.items.clone(), ids: PhantomData }
    }
}

impl<I, T> Default for List<I, T> {
    fn default() -> Self {
        Self { items: Vec::new(), ids: PhantomData }
    }
}

impl<I, T: fmt::Debug> fmt::Debug for List<I, T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.items.fmt(f)
    }
}

impl<I, T> From<Vec<T>> for List<I, T> {
    fn from(items: Vec<T>) -> Self {
        Self { items, ids: PhantomData }
    }
}

impl<'a, I, T> IntoIterator for &'a List<I, T> {
    type Item = &'a T;
    type IntoIter = std::slice::Iter<'a, T>;
    fn into_iter(self) -> Self::IntoIter {
        self.items.iter()
    }
}
