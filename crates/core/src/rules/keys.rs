//! Every key of a rules file, once: what it means and what it wants. From this table the loader knows which keys there are, and
//! the JSON Schema, the help and the documentation are made.

mod telling;

use serde_json::{Map, Value, json};

use super::{Pick, Unasked};
use crate::command_lines::CommandLines;
use crate::severity::Severity;
use crate::subject::Judged;
pub(super) use telling::OF_WAYS;
pub use telling::{CHANNEL, DELIVER, FIGURES, TELL};

/// One key.
#[derive(Debug)]
pub struct Key {
    /// As it is written.
    pub name: &'static str,
    /// What it means, and the default, for people (in Markdown).
    pub about: &'static str,
    pub(super) wants: Wants,
    pub(super) place: Place,
}

/// Where a key may stand, and whether it has to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Place {
    /// It has to be there.
    Needed,
    /// It may be there.
    May,
    /// It has to be there, and is who the rule is: no other file may change it.
    Identity,
    /// It may be there, and is who the rule is.
    MayIdentity,
    /// Only in the first file.
    First,
}

/// What a key wants.
#[derive(Debug)]
pub(super) enum Wants {
    Duration,
    Condition,
    Text,
    Name,
    Flag,
    Whole(i64, i64),
    Words(fn() -> Vec<&'static str>),
    List,
    Format,
    HoursTable,
    Free,
    Table(&'static Table),
    Tables(&'static Table),
    /// A table whose keys are the names of rules.
    ByRule(&'static Table),
}

/// A table of a rules file.
#[derive(Debug)]
pub struct Table {
    /// How it is called in messages.
    pub name: &'static str,
    /// Its keys.
    pub keys: &'static [Key],
}

const fn key(name: &'static str, wants: Wants, about: &'static str) -> Key {
    Key { name, about, wants, place: Place::May }
}

const fn at(place: Place, key: Key) -> Key {
    Key { place, name: key.name, about: key.about, wants: key.wants }
}

/// The file itself.
pub static FILE: Table = Table {
    name: "the file",
    keys: &[
        at(Place::Needed, key("format", Wants::Format, "the format of the file, 1; must be there")),
        at(Place::First, key("every", Wants::Duration, "the sampling interval, 100 ms to 1 minute (default `\"2s\"`)")),
        at(
            Place::First,
            key(
                "settle",
                Wants::Duration,
                "nothing is done for that long after the start, a start of the machine, or a nap (default `\"0s\"`)",
            ),
        ),
        key("hours", Wants::HoursTable, "names for times: `office = [\"Mon-Sat 07:10-18:20\"]` ([hours](#hours))"),
        at(
            Place::First,
            key(
                "cap",
                Wants::Table(&CAP),
                "the last safety: so many acts an hour, all rules together; reaching it is critical",
            ),
        ),
        key("protect", Wants::Table(&PROTECT), "processes that rules only ever alert on"),
        at(
            Place::First,
            key(
                "lookback",
                Wants::Table(&LOOKBACK),
                "the last days of this machine, kept by the watcher for `--at`, `--since` and `rehearse` ([lookback](recordings.md#the-lookback))",
            ),
        ),
        at(
            Place::First,
            key(
                "usage",
                Wants::Table(&USAGE),
                "who used how much, hour by hour, kept by the watcher ([usage](usage.md))",
            ),
        ),
        at(
            Place::First,
            key("audit", Wants::Table(&AUDIT), "how the record is kept ([settings](audit-trail.md#settings))"),
        ),
        at(
            Place::First,
            key("checkup", Wants::Free, "other limits for [checkup](checkup.md#limits), and findings that are known"),
        ),
        key("rule", Wants::Tables(&RULE), "a rule, as often as you like"),
        key("channel", Wants::Tables(&CHANNEL), "a way to people, as often as you like ([alerts](alerts.md))"),
        key("tell", Wants::Tables(&TELL), "who is told of what: all that fit"),
        at(
            Place::First,
            key("deliver", Wants::Table(&DELIVER), "how messages leave the machine ([alerts](alerts.md))"),
        ),
        at(
            Place::First,
            key(
                "figures",
                Wants::Table(&FIGURES),
                "figures of the watcher for others' monitoring ([figures](alerts.md#figures))",
            ),
        ),
        key("adjust", Wants::ByRule(&RULE), "in a file of `rules.d/`: other keys of an earlier rule"),
    ],
};

/// A rule.
pub static RULE: Table = Table {
    name: "a rule",
    keys: &[
        at(Place::Identity, key("name", Wants::Name, "its name, unique in the file: letters, digits, `-`, `_`, `.`")),
        key("note", Wants::Text, "what people see in the alert"),
        key("where", Wants::Condition, "a [condition](conditions.md): which processes it covers; all, if not given"),
        at(
            Place::MayIdentity,
            key(
                "judge",
                Wants::Words(|| Judged::ALL.map(Judged::word).to_vec()),
                "what is judged as one: `\"process\"` (default), `\"app\"`, `\"tree\"`, `\"owner\"`, `\"unit\"` or `\"machine\"` ([subjects](#subjects))",
            ),
        ),
        key(
            "pick",
            Wants::Words(|| Pick::ALL.map(Pick::words).to_vec()),
            "on whom of several it acts: `\"all\"` (default), `\"most cpu\"`, `\"most memory\"` or `\"newest\"`",
        ),
        at(Place::Needed, key("breach", Wants::Condition, "a condition: what is too much")),
        at(
            Place::Needed,
            key(
                "lasting",
                Wants::Duration,
                "how long the breach must hold before a case opens: `\"20s\"`, `\"1h30m\"`",
            ),
        ),
        key(
            "calm",
            Wants::Condition,
            "a condition: when the case closes; \"the breach no longer holds\", if not given",
        ),
        key(
            "severity",
            Wants::Words(|| Severity::ALL.map(Severity::word).to_vec()),
            "`\"notice\"`, `\"warning\"` (default) or `\"critical\"`",
        ),
        key(
            "armed",
            Wants::Flag,
            "`true` lets it act; otherwise it is in shadow: it decides, alerts and records what it would have done",
        ),
        key("hours", Wants::Text, "when it may act: `\"always\"` (default), a name of `[hours]`, or `\"not office\"`"),
        key(
            "again",
            Wants::Table(&AGAIN),
            "`{ after = \"20m\", risen = \"130 MiB\" }`: people are told again after that time, or when the reading has gone that much further since they were last told",
        ),
        key(
            "budget",
            Wants::Table(&BUDGET),
            "`{ cases = 3, per = \"1h\" }`: so many cases of one subject are acted upon in a sliding time; past that people are told, as critical, and nothing is done",
        ),
        key(
            "keep",
            Wants::Table(&KEEP),
            "`{ for = \"30m\", times = 2 }`: who is asked before a step may let it run for so long, so many times in a case; without it, not at all ([asking](#asking-first))",
        ),
        key(
            "unasked",
            Wants::Words(|| Unasked::ALL.map(Unasked::words).to_vec()),
            "what becomes of a step before which nobody can be asked: `\"go on\"` (default), it is taken; `\"leave\"`, it waits until somebody can",
        ),
        key("ladder", Wants::Tables(&STEP), "the steps, in order of `at`; an alert at once, if not given"),
    ],
};

/// A step of a ladder.
pub static STEP: Table = Table {
    name: "a step",
    keys: &[
        at(Place::Needed, key("at", Wants::Duration, "breached time from the opening of the case")),
        at(Place::Needed, key("do", Wants::Words(|| WORDS.to_vec()), "what is done")),
        key("nice", Wants::Whole(1, 19), "of `lower`: the niceness (default 10)"),
        key("for", Wants::Duration, "of `suspend`: how long, 1 s to 10 minutes (default `\"1m\"`)"),
        key(
            "force_after",
            Wants::Duration,
            "of `terminate`: by force after that time, 1 s to 10 minutes; without it never",
        ),
        key("hours", Wants::Text, "when, on top of the rule's own hours"),
        key(
            "ask",
            Wants::Duration,
            "of what does something to a program: the person whose it is is asked for so long before it, 5 s to 10 minutes ([asking](#asking-first))",
        ),
        key("run", Wants::List, "of `run`: an absolute program and its arguments; no shell"),
    ],
};

/// The words of `do`.
pub(super) const WORDS: [&str; 6] = ["alert", "lower", "suspend", "restart", "terminate", "run"];

pub(super) static AGAIN: Table = Table {
    name: "again",
    keys: &[
        key("after", Wants::Duration, "since people were last told"),
        key("risen", Wants::Text, "further than when people were last told"),
    ],
};

pub(super) static BUDGET: Table = Table {
    name: "budget",
    keys: &[
        at(Place::Needed, key("cases", Wants::Whole(1, 1000), "so many")),
        at(Place::Needed, key("per", Wants::Duration, "a sliding time")),
    ],
};

pub(super) static KEEP: Table = Table {
    name: "keep",
    keys: &[
        at(Place::Needed, key("for", Wants::Duration, "by one answer, at most 24 hours")),
        at(Place::Needed, key("times", Wants::Whole(1, 100), "so many times in a case")),
    ],
};

pub(super) static CAP: Table = Table {
    name: "[cap]",
    keys: &[
        key("acts", Wants::Whole(0, 10_000), "of any kind (default 20)"),
        key("terminations", Wants::Whole(0, 10_000), "of these, terminations and restarts (default 5)"),
    ],
};

pub(super) static PROTECT: Table = Table {
    name: "[protect]",
    keys: &[at(Place::Needed, key("where", Wants::Condition, "whom rules only ever alert on"))],
};

pub(super) static LOOKBACK: Table = Table {
    name: "[lookback]",
    keys: &[
        key("keep", Wants::Duration, "how far back (default `\"3d\"`); `\"0s\"` for not at all"),
        key("most", Wants::Text, "at most so much on disk (default `\"300 MiB\"`)"),
        key("every", Wants::Duration, "a sample this often (default `\"10s\"`)"),
    ],
};

pub(super) static USAGE: Table = Table {
    name: "[usage]",
    keys: &[
        key("keep", Wants::Duration, "how far back (default `\"400d\"`); `\"0s\"` for not at all"),
        key("most", Wants::Text, "at most so much on disk (default `\"200 MiB\"`)"),
        key("owners", Wants::Flag, "`false` to keep of no program whose it was"),
        key("readers", Wants::Text, "the group that may read it; the same as that of `[audit]`, where both are given"),
    ],
};

pub(super) static AUDIT: Table = Table {
    name: "[audit]",
    keys: &[
        key(
            "command_lines",
            Wants::Words(|| CommandLines::ALL.map(CommandLines::word).to_vec()),
            "how much of command lines is written down: `\"masked\"` (default), `\"full\"` or `\"path-only\"`",
        ),
        key("readers", Wants::Text, "the group that may read the trail"),
        key("piece", Wants::Text, "a file of that size is followed by a new one (default `\"8 MiB\"`)"),
        key("keep", Wants::Duration, "files whose last record is older are removed (default `\"400d\"`)"),
        key("most", Wants::Text, "so are the oldest while all together are larger (default `\"1 GiB\"`)"),
        key("stamp", Wants::Duration, "the trail is signed that often (default `\"15m\"`)"),
    ],
};

pub(super) static LIMIT: Table = Table {
    name: "a limit of [checkup]",
    keys: &[key("notice", Wants::Text, "worth knowing"), key("critical", Wants::Text, "worth getting up for")],
};

pub(super) static KNOWN: Table = Table {
    name: "a known finding",
    keys: &[
        key("finding", Wants::Text, "which"),
        key("of", Wants::Text, "of whom"),
        key("reason", Wants::Text, "why it is no trouble"),
    ],
};

/// Every table that has keys of its own, with its heading in the help.
pub const TABLES: [(&str, &Table); 15] = [
    ("the file", &FILE),
    ("[[rule]]", &RULE),
    ("a step of ladder", &STEP),
    ("again", &AGAIN),
    ("budget", &BUDGET),
    ("keep", &KEEP),
    ("[cap]", &CAP),
    ("[protect]", &PROTECT),
    ("[lookback]", &LOOKBACK),
    ("[usage]", &USAGE),
    ("[audit]", &AUDIT),
    ("[[channel]]", &CHANNEL),
    ("[[tell]]", &TELL),
    ("[deliver]", &DELIVER),
    ("[figures]", &FIGURES),
];

impl Table {
    /// The names that may stand in a file: all in the first, fewer in a further one.
    pub(super) fn names(&self, place: Reading) -> Vec<&'static str> {
        let may = |key: &&Key| match place {
            Reading::All => true,
            Reading::Further => key.place != Place::First,
            Reading::Adjusting => !matches!(key.place, Place::Identity | Place::MayIdentity),
        };
        self.keys.iter().filter(may).map(|key| key.name).collect()
    }

    /// What to write instead of a key that others use.
    pub(super) fn of_others(&self, key: &str) -> Option<&'static str> {
        let known = telling::OF_OTHERS.iter().find(|(theirs, _)| *theirs == key);
        known.filter(|_| std::ptr::eq(self, &CHANNEL)).map(|(_, ours)| *ours)
    }

    fn schema(&self, place: Reading) -> Value {
        let names = self.names(place);
        let keys = self.keys.iter().filter(|key| names.contains(&key.name));
        let needed = |key: &&Key| matches!(key.place, Place::Needed | Place::Identity) && place == Reading::All;
        let required: Vec<&str> = keys.clone().filter(needed).map(|key| key.name).collect();
        let properties: Map<String, Value> = keys.map(|key| (key.name.to_owned(), key.schema())).collect();
        let mut schema = json!({ "type": "object", "additionalProperties": false, "properties": properties });
        if !required.is_empty() {
            schema["required"] = required.into();
        }
        schema
    }

    /// As rows of a documentation table: the key, and what it means.
    pub fn rows(&self) -> impl Iterator<Item = String> {
        self.keys.iter().map(|key| format!("| `{}` | {} |", key.name, key.about))
    }
}

/// Which of a table's keys are meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Reading {
    /// All.
    All,
    /// Those of a further file, from the folder beside the first.
    Further,
    /// Those that a further file may change of a rule: all but who it is.
    Adjusting,
}

const DURATION: &str = "^([0-9]+(\\.[0-9]+)?(ms|s|m|h|d))+$";

impl Key {
    fn schema(&self) -> Value {
        let mut schema = match &self.wants {
            Wants::Duration => json!({ "type": "string", "pattern": DURATION }),
            Wants::Condition => json!({ "type": "string", "minLength": 1, "maxLength": 65536 }),
            Wants::Text => json!({ "type": "string" }),
            Wants::Name => json!({ "type": "string", "pattern": "^[\\p{L}\\p{N}_.-]{1,64}$" }),
            Wants::Flag => json!({ "type": "boolean", "default": false }),
            Wants::Whole(least, most) => json!({ "type": "integer", "minimum": least, "maximum": most }),
            Wants::Words(words) => json!({ "enum": words() }),
            Wants::List => json!({ "type": "array", "minItems": 1, "items": { "type": "string" } }),
            Wants::Format => json!({ "const": super::FORMAT }),
            Wants::HoursTable => json!({ "type": "object",
                "additionalProperties": { "type": ["array", "string"], "items": { "type": "string" } } }),
            Wants::Free => json!({ "type": "object" }),
            Wants::Table(table) => table.schema(Reading::All),
            Wants::Tables(table) => json!({ "type": "array", "minItems": 1, "items": table.schema(Reading::All) }),
            Wants::ByRule(table) => {
                json!({ "type": "object", "additionalProperties": table.schema(Reading::Adjusting) })
            }
        };
        schema["description"] = plain(self.about).into();
        schema
    }
}

/// The JSON Schema of a rules file, for editors: keys, kinds and words. What conditions mean is checked by `rules check`.
pub fn schema() -> Value {
    let mut schema = FILE.schema(Reading::All);
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema".into();
    schema["title"] = "Sophron rules file".into();
    schema
}

/// Without the marks of Markdown: a link keeps its words, and one that only refers goes.
pub fn plain(about: &str) -> String {
    let mut text = about.to_owned();
    while let Some((before, rest)) = text.split_once(" ([")
        && let Some((_, after)) = rest.split_once("))")
    {
        text = format!("{before}{after}");
    }
    while let Some((head, target)) = text.split_once("](")
        && let Some((before, words)) = head.rsplit_once('[')
        && let Some((_, after)) = target.split_once(')')
    {
        text = format!("{before}{words}{after}");
    }
    text.replace('`', "")
}
