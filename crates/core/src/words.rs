//! Words that are written and read: each a value with its one spelling. A word of a newer version is kept as it stands.

/// An enum whose variants are words, from one table: reading, writing and showing them.
macro_rules! words {
    ($(#[$about:meta])* $name:ident { $($(#[$doc:meta])* $variant:ident = $word:literal,)* }) => {
        $(#[$about])*
        #[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum $name {
            $($(#[$doc])* $variant,)*
            /// A word of a newer version.
            Other(String),
        }

        impl $name {
            /// Every word that this version knows.
            pub const WORDS: &[&str] = &[$($word),*];

            /// Its word.
            pub fn word(&self) -> &str {
                match self {
                    $(Self::$variant => $word,)*
                    Self::Other(word) => word,
                }
            }
        }

        impl From<&str> for $name {
            fn from(word: &str) -> Self {
                match word {
                    $($word => Self::$variant,)*
                    other => Self::Other(crate::text::clean(other.as_bytes())),
                }
            }
        }

        impl std::fmt::Display for $name {
            fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.pad(self.word())
            }
        }

        impl serde::Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.serialize_str(self.word())
            }
        }

        impl<'de> serde::Deserialize<'de> for $name {
            fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
                struct Word;
                impl serde::de::Visitor<'_> for Word {
                    type Value = $name;
                    fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                        f.write_str("a word")
                    }
                    fn visit_str<E>(self, word: &str) -> Result<$name, E> {
                        Ok($name::from(word))
                    }
                }
                deserializer.deserialize_str(Word)
            }
        }
    };
}

pub(crate) use words;
