//! A map.

use std::borrow::Borrow;
use std::fmt;
use std::marker::PhantomData;
use std::ops::{Bound, RangeBounds};

use serde::de::{MapAccess, Visitor};
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::order::InOrder;

/// Values by key, smallest key first. Putting one in or taking one out takes time by how many come after it.
#[derive(Clone, PartialEq, Eq)]
pub struct SortedMap<K, V> {
    pairs: Vec<(K, V)>,
}

/// The place of a key, there or not.
pub enum Entry<'a, K, V> {
    /// It is there.
    Occupied(&'a mut V),
    /// It is not: where it would be.
    Vacant(&'a mut Vec<(K, V)>, usize, K),
}

fn halves<K, V>((key, value): &(K, V)) -> (&K, &V) {
    (key, value)
}

fn halves_mut<K, V>((key, value): &mut (K, V)) -> (&K, &mut V) {
    (key, value)
}

/// Pairs, smallest key first.
pub type Iter<'a, K, V> = std::iter::Map<std::slice::Iter<'a, (K, V)>, fn(&'a (K, V)) -> (&'a K, &'a V)>;

/// Pairs whose values can be changed, smallest key first.
pub type IterMut<'a, K, V> = std::iter::Map<std::slice::IterMut<'a, (K, V)>, fn(&'a mut (K, V)) -> (&'a K, &'a mut V)>;

impl<K, V> SortedMap<K, V> {
    /// An empty one.
    #[must_use]
    pub const fn new() -> Self {
        SortedMap { pairs: Vec::new() }
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.pairs.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.pairs.is_empty()
    }

    /// Takes all of them out.
    pub fn clear(&mut self) {
        self.pairs.clear();
    }

    /// All pairs.
    pub fn iter(&self) -> Iter<'_, K, V> {
        self.pairs.iter().map(halves)
    }

    /// All pairs, to change the values.
    pub fn iter_mut(&mut self) -> IterMut<'_, K, V> {
        self.pairs.iter_mut().map(halves_mut)
    }

    /// All keys.
    pub fn keys(&self) -> impl DoubleEndedIterator<Item = &K> + ExactSizeIterator + Clone {
        self.pairs.iter().map(|(key, _)| key)
    }

    /// All values.
    pub fn values(&self) -> impl DoubleEndedIterator<Item = &V> + ExactSizeIterator + Clone {
        self.pairs.iter().map(|(_, value)| value)
    }

    /// All values, to change them.
    pub fn values_mut(&mut self) -> impl DoubleEndedIterator<Item = &mut V> + ExactSizeIterator {
        self.pairs.iter_mut().map(|(_, value)| value)
    }

    /// All values, out of it.
    pub fn into_values(self) -> impl DoubleEndedIterator<Item = V> + ExactSizeIterator {
        self.pairs.into_iter().map(|(_, value)| value)
    }

    /// Takes those out that do not hold.
    pub fn retain(&mut self, mut holds: impl FnMut(&K, &mut V) -> bool) {
        self.pairs.retain_mut(|(key, value)| holds(key, value));
    }
}

impl<K: Ord, V> SortedMap<K, V> {
    fn place<Q: Ord + ?Sized>(&self, key: &Q) -> Result<usize, usize>
    where
        K: Borrow<Q>,
    {
        // Most come in their order.
        match self.pairs.last() {
            Some((last, _)) if last.borrow() < key => Err(self.pairs.len()),
            _ => self.pairs.binary_search_by(|(at, _)| at.borrow().cmp(key)),
        }
    }

    /// The value of a key.
    pub fn get<Q: Ord + ?Sized>(&self, key: &Q) -> Option<&V>
    where
        K: Borrow<Q>,
    {
        self.place(key).ok().map(|at| &self.pairs[at].1)
    }

    /// The value of a key, to change it.
    pub fn get_mut<Q: Ord + ?Sized>(&mut self, key: &Q) -> Option<&mut V>
    where
        K: Borrow<Q>,
    {
        self.place(key).ok().map(|at| &mut self.pairs[at].1)
    }

    /// Whether a key is there.
    pub fn contains_key<Q: Ord + ?Sized>(&self, key: &Q) -> bool
    where
        K: Borrow<Q>,
    {
        self.place(key).is_ok()
    }

    /// Puts a value in; the one that was there before comes back.
    pub fn insert(&mut self, key: K, value: V) -> Option<V> {
        match self.place(&key) {
            Ok(at) => Some(std::mem::replace(&mut self.pairs[at].1, value)),
            Err(at) => {
                self.pairs.insert(at, (key, value));
                None
            }
        }
    }

    /// Takes a value out.
    pub fn remove<Q: Ord + ?Sized>(&mut self, key: &Q) -> Option<V>
    where
        K: Borrow<Q>,
    {
        self.place(key).ok().map(|at| self.pairs.remove(at).1)
    }

    /// The place of a key.
    pub fn entry(&mut self, key: K) -> Entry<'_, K, V> {
        match self.place(&key) {
            Ok(at) => Entry::Occupied(&mut self.pairs[at].1),
            Err(at) => Entry::Vacant(&mut self.pairs, at, key),
        }
    }

    /// The pairs whose keys are within bounds; none where the end is before the start.
    pub fn range(&self, bounds: impl RangeBounds<K>) -> Iter<'_, K, V> {
        let before = |bound: Bound<&K>, otherwise, with_it: bool| match bound {
            Bound::Unbounded => otherwise,
            Bound::Included(key) => self.pairs.partition_point(|(at, _)| at < key || (with_it && at == key)),
            Bound::Excluded(key) => self.pairs.partition_point(|(at, _)| at < key || (!with_it && at == key)),
        };
        let start = before(bounds.start_bound(), 0, false);
        let end = before(bounds.end_bound(), self.pairs.len(), true);
        self.pairs[start..end.max(start)].iter().map(halves)
    }
}

impl<'a, K, V> Entry<'a, K, V> {
    /// The value; where there was none, this one is put in.
    pub fn or_insert(self, value: V) -> &'a mut V {
        self.or_insert_with(|| value)
    }

    /// The value; where there was none, the one that is made here is put in.
    pub fn or_insert_with(self, value: impl FnOnce() -> V) -> &'a mut V {
        match self {
            Entry::Occupied(value) => value,
            Entry::Vacant(pairs, at, key) => {
                pairs.insert(at, (key, value()));
                &mut pairs[at].1
            }
        }
    }

    /// The value; where there was none, its default is put in.
    pub fn or_default(self) -> &'a mut V
    where
        V: Default,
    {
        self.or_insert_with(V::default)
    }
}

impl<K, V> Default for SortedMap<K, V> {
    fn default() -> Self {
        SortedMap::new()
    }
}

impl<K: fmt::Debug, V: fmt::Debug> fmt::Debug for SortedMap<K, V> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_map().entries(self.iter()).finish()
    }
}

impl<K: Ord, V> Extend<(K, V)> for SortedMap<K, V> {
    fn extend<I: IntoIterator<Item = (K, V)>>(&mut self, pairs: I) {
        for (key, value) in pairs {
            self.insert(key, value);
        }
    }
}

impl<K: Ord, V> FromIterator<(K, V)> for SortedMap<K, V> {
    /// However many, in any order: of two with the same key the later one stays.
    fn from_iter<I: IntoIterator<Item = (K, V)>>(pairs: I) -> Self {
        let mut pairs: Vec<(K, V)> = pairs.into_iter().collect();
        if !pairs.is_sorted_by(|(key, _), (next, _)| key < next) {
            pairs.order_by(|(one, _), (other, _)| one.cmp(other));
            pairs.dedup_by(|later, earlier| {
                let is_same = later.0 == earlier.0;
                if is_same {
                    std::mem::swap(later, earlier);
                }
                is_same
            });
        }
        SortedMap { pairs }
    }
}

impl<K: Ord, V, const N: usize> From<[(K, V); N]> for SortedMap<K, V> {
    fn from(pairs: [(K, V); N]) -> Self {
        pairs.into_iter().collect()
    }
}

impl<K, V> IntoIterator for SortedMap<K, V> {
    type Item = (K, V);
    type IntoIter = std::vec::IntoIter<(K, V)>;

    fn into_iter(self) -> Self::IntoIter {
        self.pairs.into_iter()
    }
}

impl<'a, K, V> IntoIterator for &'a SortedMap<K, V> {
    type Item = (&'a K, &'a V);
    type IntoIter = Iter<'a, K, V>;

    fn into_iter(self) -> Self::IntoIter {
        self.iter()
    }
}

impl<'a, K, V> IntoIterator for &'a mut SortedMap<K, V> {
    type Item = (&'a K, &'a mut V);
    type IntoIter = IterMut<'a, K, V>;

    fn into_iter(self) -> Self::IntoIter {
        self.iter_mut()
    }
}

impl<K: Serialize, V: Serialize> Serialize for SortedMap<K, V> {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.collect_map(self.iter())
    }
}

impl<'de, K: Deserialize<'de> + Ord, V: Deserialize<'de>> Deserialize<'de> for SortedMap<K, V> {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Pairs<K, V>(PhantomData<(K, V)>);
        impl<'de, K: Deserialize<'de> + Ord, V: Deserialize<'de>> Visitor<'de> for Pairs<K, V> {
            type Value = SortedMap<K, V>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a map")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut read: A) -> Result<Self::Value, A::Error> {
                let mut pairs = Vec::new();
                while let Some(pair) = read.next_entry()? {
                    pairs.push(pair);
                }
                Ok(pairs.into_iter().collect())
            }
        }
        from.deserialize_map(Pairs(PhantomData))
    }
}
