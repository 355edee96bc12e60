//! Sorting. The standard library's stable sort is built anew for every kind of element and for every way to compare two, at 6 KB each and
//! 3,000 lines to compile; here places are sorted, and it is built once. It takes a little longer for it: what runs at every tick over
//! thousands sorts as it always did. Collecting into a map or a set sorts as well; here one by one is put in.

use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet};

/// Stable sorting, as `sort`, `sort_by` and `sort_by_key` of slices.
pub trait InOrder<T> {
    /// Smallest first.
    fn order(&mut self)
    where
        T: Ord;

    /// By a comparison of two.
    fn order_by(&mut self, compare: impl FnMut(&T, &T) -> Ordering);

    /// Smallest key first.
    fn order_by_key<K: Ord>(&mut self, key: impl FnMut(&T) -> K);
}

impl<T> InOrder<T> for [T] {
    fn order(&mut self)
    where
        T: Ord,
    {
        self.order_by(Ord::cmp);
    }

    fn order_by(&mut self, mut compare: impl FnMut(&T, &T) -> Ordering) {
        let places = ordered(self.len(), &mut |a, b| compare(&self[a], &self[b]));
        put(places, &mut |a, b| self.swap(a, b));
    }

    fn order_by_key<K: Ord>(&mut self, mut key: impl FnMut(&T) -> K) {
        self.order_by(|a, b| key(a).cmp(&key(b)));
    }
}

/// What pairs are collected into: of two with the same key the later one stays.
pub trait IntoMap<K: Ord, V> {
    /// All of them, as `collect` does.
    fn into_map(self) -> BTreeMap<K, V>;
}

impl<K: Ord, V, I: Iterator<Item = (K, V)>> IntoMap<K, V> for I {
    fn into_map(self) -> BTreeMap<K, V> {
        let mut map = BTreeMap::new();
        map.extend(self);
        map
    }
}

/// What elements are collected into.
pub trait IntoSet<T: Ord> {
    /// All of them, as `collect` does.
    fn into_set(self) -> BTreeSet<T>;
}

impl<T: Ord, I: Iterator<Item = T>> IntoSet<T> for I {
    fn into_set(self) -> BTreeSet<T> {
        let mut set = BTreeSet::new();
        set.extend(self);
        set
    }
}

/// Which of so many comes first, second and so on.
fn ordered(count: usize, compare: &mut dyn FnMut(usize, usize) -> Ordering) -> Vec<usize> {
    let mut places: Vec<usize> = (0..count).collect();
    places.sort_by(|a, b| compare(*a, *b));
    places
}

/// Puts at every place what `places` names for it, circle by circle.
fn put(mut places: Vec<usize>, swap: &mut dyn FnMut(usize, usize)) {
    for start in 0..places.len() {
        let mut at = start;
        loop {
            let from = std::mem::replace(&mut places[at], at);
            if from == start || from == at {
                break;
            }
            swap(at, from);
            at = from;
        }
    }
}
