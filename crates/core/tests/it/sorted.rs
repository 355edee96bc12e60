//! Sorted maps and sets: whatever is done with them, they are what the standard library's are.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use sophron_core::order::InOrder;
use sophron_core::sorted::{SortedMap, SortedSet};

proptest! {
    #[test]
    fn a_sorted_map_is_a_map(steps: Vec<(u8, u8, u16)>) {
        let (mut ours, mut theirs) = (SortedMap::new(), BTreeMap::new());
        for (what, key, value) in steps {
            match what % 8 {
                0 | 1 => prop_assert_eq!(ours.insert(key, value), theirs.insert(key, value)),
                2 => prop_assert_eq!(ours.remove(&key), theirs.remove(&key)),
                3 => prop_assert_eq!(ours.entry(key).or_insert(value), theirs.entry(key).or_insert(value)),
                4 => {
                    let more = |old: &mut u16| *old = old.wrapping_add(value);
                    more(ours.entry(key).or_default());
                    more(theirs.entry(key).or_default());
                }
                5 => {
                    ours.retain(|at, _| *at != key);
                    theirs.retain(|at, _| *at != key);
                }
                6 => {
                    let end = key.saturating_add(what);
                    prop_assert!(ours.range(key..end).eq(theirs.range(key..end)));
                    prop_assert!(ours.range(key..=end).eq(theirs.range(key..=end)));
                    prop_assert!(ours.range(..end).eq(theirs.range(..end)));
                }
                _ => {
                    ours.values_mut().for_each(|old| *old = old.wrapping_mul(3));
                    theirs.values_mut().for_each(|old| *old = old.wrapping_mul(3));
                }
            }
            prop_assert!(ours.iter().eq(theirs.iter()));
            prop_assert_eq!((ours.get(&key), ours.contains_key(&key)), (theirs.get(&key), theirs.contains_key(&key)));
        }
        let text = serde_json::to_string(&ours).unwrap();
        prop_assert_eq!(&text, &serde_json::to_string(&theirs).unwrap());
        prop_assert_eq!(serde_json::from_str::<SortedMap<u8, u16>>(&text).unwrap(), ours);
    }

    /// However they come: put in one after the other, collected, and read.
    #[test]
    fn what_is_collected_is_as_if_put_in(pairs: Vec<(u8, u16)>) {
        let (ours, theirs) = (SortedMap::from_iter(pairs.clone()), BTreeMap::from_iter(pairs.clone()));
        prop_assert!(ours.iter().eq(theirs.iter()));
        let keys = |pairs: &[(u8, u16)]| pairs.iter().map(|(key, _)| *key).collect::<Vec<u8>>();
        prop_assert!(SortedSet::from_iter(keys(&pairs)).iter().eq(BTreeSet::from_iter(keys(&pairs)).iter()));
        let members: Vec<String> = pairs.iter().map(|(key, value)| format!("\"{key}\":{value}")).collect();
        let read: SortedMap<u8, u16> = serde_json::from_str(&format!("{{{}}}", members.join(","))).unwrap();
        prop_assert_eq!(read, ours);
    }

    #[test]
    fn a_sorted_set_is_a_set(steps: Vec<(u8, u8)>, others: Vec<u8>) {
        let (mut ours, mut theirs) = (SortedSet::new(), BTreeSet::new());
        for (what, element) in steps {
            match what % 4 {
                0 | 1 => prop_assert_eq!(ours.insert(element), theirs.insert(element)),
                2 => prop_assert_eq!(ours.remove(&element), theirs.remove(&element)),
                _ => {
                    ours.retain(|at| *at != element);
                    theirs.retain(|at| *at != element);
                }
            }
            prop_assert!(ours.iter().eq(theirs.iter()));
            prop_assert_eq!((ours.contains(&element), ours.first()), (theirs.contains(&element), theirs.first()));
        }
        let (other, of_theirs) = (SortedSet::from_iter(others.clone()), BTreeSet::from_iter(others));
        prop_assert!(ours.intersection(&other).eq(theirs.intersection(&of_theirs)));
        prop_assert_eq!(ours.is_disjoint(&other), theirs.is_disjoint(&of_theirs));
        let text = serde_json::to_string(&ours).unwrap();
        prop_assert_eq!(serde_json::from_str::<SortedSet<u8>>(&text).unwrap(), ours);
    }
}

proptest! {
    #[test]
    fn it_sorts_as_the_standard_library_does(mut ours: Vec<(u8, u16)>) {
        let mut theirs = ours.clone();
        theirs.sort_by_key(|(key, _)| key % 16);
        ours.order_by_key(|(key, _)| key % 16);
        prop_assert_eq!(&ours, &theirs);
        theirs.sort();
        ours.order();
        prop_assert_eq!(ours, theirs);
    }
}
