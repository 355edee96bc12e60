//! What one line says of a process or of the machine: a few keys with their values.

use std::borrow::Cow;
use std::fmt;

use serde::de::{Deserialize, Deserializer, MapAccess, Visitor};
use serde::ser::{Serialize, SerializeMap, Serializer};
use serde_json::Value;

/// Keys and values, in the order in which they stand in the line. A day has millions of them, of two or three keys each:
/// the keys are those of the line itself, and nothing is sorted or hashed.
#[derive(Debug, Clone, Default, PartialEq)]
pub(super) struct Row<'l>(Vec<(Cow<'l, str>, Value)>);

impl<'l> Row<'l> {
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The value of a key; of a key that stands there twice the last.
    pub fn get(&self, key: &str) -> Option<&Value> {
        self.0.iter().rev().find(|(name, _)| name == key).map(|(_, value)| value)
    }

    pub fn keys(&self) -> impl Iterator<Item = &str> {
        self.0.iter().map(|(key, _)| key.as_ref())
    }

    pub fn push(&mut self, key: &'l str, value: Value) {
        self.0.push((Cow::Borrowed(key), value));
    }

    /// What differs from an earlier row of the same table. What is unknown and never was known is no change.
    pub fn since(&self, before: &Row<'l>) -> Row<'l> {
        let was = |at: usize| before.0.get(at).map_or(&Value::Null, |(_, value)| value);
        let changes = self.0.iter().enumerate().filter(|(at, (_, value))| was(*at) != value);
        Row(changes.map(|(_, pair)| pair.clone()).collect())
    }

    /// Without what does not count.
    pub fn only(self, counts: impl Fn(&str, &Value) -> bool) -> Row<'l> {
        Row(self.0.into_iter().filter(|(key, value)| counts(key, value)).collect())
    }
}

impl<'l> FromIterator<(&'l str, Value)> for Row<'l> {
    fn from_iter<I: IntoIterator<Item = (&'l str, Value)>>(pairs: I) -> Row<'l> {
        Row(pairs.into_iter().map(|(key, value)| (Cow::Borrowed(key), value)).collect())
    }
}

impl Serialize for Row<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(Some(self.0.len()))?;
        for (key, value) in &self.0 {
            map.serialize_entry(key, value)?;
        }
        map.end()
    }
}

/// A key of the line, copied only where it is written with escapes.
#[derive(serde::Deserialize)]
struct Key<'l>(#[serde(borrow)] Cow<'l, str>);

impl<'de: 'l, 'l> Deserialize<'de> for Row<'l> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Row<'l>, D::Error> {
        struct Pairs;
        impl<'de> Visitor<'de> for Pairs {
            type Value = Row<'de>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("an object")
            }

            fn visit_map<A: MapAccess<'de>>(self, mut map: A) -> Result<Row<'de>, A::Error> {
                let mut pairs = Vec::new();
                while let Some((Key(key), value)) = map.next_entry()? {
                    pairs.push((key, value));
                }
                Ok(Row(pairs))
            }
        }
        deserializer.deserialize_map(Pairs)
    }
}
