//! A set.

use std::borrow::Borrow;
use std::fmt;

use serde::{Deserialize, Deserializer, Serialize};

use crate::order::InOrder;

/// Elements, each once, smallest first. Putting one in or taking one out takes time by how many come after it.
#[derive(Clone, PartialEq, Eq, Serialize)]
#[serde(transparent)]
pub struct SortedSet<T> {
    elements: Vec<T>,
}

impl<T> SortedSet<T> {
    /// An empty one.
    #[must_use]
    pub const fn new() -> Self {
        SortedSet { elements: Vec::new() }
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.elements.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.elements.is_empty()
    }

    /// Takes all of them out.
    pub fn clear(&mut self) {
        self.elements.clear();
    }

    /// All of them.
    pub fn iter(&self) -> std::slice::Iter<'_, T> {
        self.elements.iter()
    }

    /// The smallest.
    #[must_use]
    pub fn first(&self) -> Option<&T> {
        self.elements.first()
    }

    /// The greatest.
    #[must_use]
    pub fn last(&self) -> Option<&T> {
        self.elements.last()
    }

    /// Takes those out that do not hold.
    pub fn retain(&mut self, holds: impl FnMut(&T) -> bool) {
        self.elements.retain(holds);
    }
}

impl<T: Ord> SortedSet<T> {
    fn place<Q: Ord + ?Sized>(&self, element: &Q) -> Result<usize, usize>
    where
        T: Borrow<Q>,
    {
        // Most come in their order.
        match self.elements.last() {
            Some(last) if last.borrow() < element => Err(self.elements.len()),
            _ => self.elements.binary_search_by(|at| at.borrow().cmp(element)),
        }
    }

    /// Whether it is there.
    pub fn contains<Q: Ord + ?Sized>(&self, element: &Q) -> bool
    where
        T: Borrow<Q>,
    {
        self.place(element).is_ok()
    }

    /// Puts one in. Says whether it was not there before.
    pub fn insert(&mut self, element: T) -> bool {
        let place = self.place(&element);
        if let Err(at) = place {
            self.elements.insert(at, element);
        }
        place.is_err()
    }

    /// Takes one out. Says whether it was there.
    pub fn remove<Q: Ord + ?Sized>(&mut self, element: &Q) -> bool
    where
        T: Borrow<Q>,
    {
        let place = self.place(element);
        if let Ok(at) = place {
            self.elements.remove(at);
        }
        place.is_ok()
    }

    /// What is in both.
    pub fn intersection<'a>(&'a self, other: &'a Self) -> impl Iterator<Item = &'a T> {
        self.iter().filter(|element| other.contains(*element))
    }

    /// Whether nothing is in both.
    #[must_use]
    pub fn is_disjoint(&self, other: &Self) -> bool {
        self.intersection(other).next().is_none()
    }
}

impl<T> Default for SortedSet<T> {
    fn default() -> Self {
        SortedSet::new()
    }
}

impl<T: fmt::Debug> fmt::Debug for SortedSet<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_set().entries(self.iter()).finish()
    }
}

impl<T: Ord> Extend<T> for SortedSet<T> {
    fn extend<I: IntoIterator<Item = T>>(&mut self, elements: I) {
        for element in elements {
            self.insert(element);
        }
    }
}

impl<'a, T: Ord + Copy> Extend<&'a T> for SortedSet<T> {
    fn extend<I: IntoIterator<Item = &'a T>>(&mut self, elements: I) {
        for element in elements {
            self.insert(*element);
        }
    }
}

impl<T: Ord> FromIterator<T> for SortedSet<T> {
    /// However many, in any order.
    fn from_iter<I: IntoIterator<Item = T>>(elements: I) -> Self {
        let mut elements: Vec<T> = elements.into_iter().collect();
        if !elements.is_sorted_by(|element, next| element < next) {
            elements.order();
            elements.dedup();
        }
        SortedSet { elements }
    }
}

impl<T: Ord, const N: usize> From<[T; N]> for SortedSet<T> {
    fn from(elements: [T; N]) -> Self {
        elements.into_iter().collect()
    }
}

impl<T> IntoIterator for SortedSet<T> {
    type Item = T;
    type IntoIter = std::vec::IntoIter<T>;

    fn into_iter(self) -> Self::IntoIter {
        self.elements.into_iter()
    }
}

impl<'a, T> IntoIterator for &'a SortedSet<T> {
    type Item = &'a T;
    type IntoIter = std::slice::Iter<'a, T>;

    fn into_iter(self) -> Self::IntoIter {
        self.iter()
    }
}

impl<'de, T: Deserialize<'de> + Ord> Deserialize<'de> for SortedSet<T> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        Ok(Vec::deserialize(from)?.into_iter().collect())
    }
}
