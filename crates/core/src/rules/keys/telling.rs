//! The keys by which people are told: of a channel, a tell, and `[deliver]`.

use super::{Place, Table, Wants, at, key};
use crate::severity::Severity;
use crate::telling::{Over, Secure, To};

/// A channel.
pub static CHANNEL: Table = Table {
    name: "a channel",
    keys: &[
        at(Place::Needed, key("name", Wants::Name, "its name, unique: letters, digits, `-`, `_`, `.`")),
        at(
            Place::Needed,
            key(
                "to",
                Wants::Words(|| To::WORDS.to_vec()),
                "which way: `\"log\"`, the machine's own log; `\"desk\"`, the desktop of the person whose program it is; `\"collector\"`, a log collector elsewhere; `\"mail\"`; `\"hook\"`, a program elsewhere over HTTP",
            ),
        ),
        key("down_after", Wants::Duration, "failing for that long it counts as down (default `\"10m\"`)"),
        key("otherwise", Wants::Text, "another channel: what is critical goes by it while this one is down"),
        key(
            "server",
            Wants::Text,
            "of `collector` and `mail`: machine and port, `\"mail.mossgate.example:587\"`; must be there",
        ),
        key(
            "over",
            Wants::Words(|| Over::ALL.map(Over::word).to_vec()),
            "of `collector`: `\"tls\"` (default), `\"tcp\"` or `\"udp\"`",
        ),
        key(
            "enterprise",
            Wants::Whole(1, 4_294_967_295),
            "of `collector`: your private enterprise number; under it each message has its fields as structured data",
        ),
        key(
            "url",
            Wants::Text,
            "of `hook`: where, `\"https://hooks.mossgate.example/in\"`; must be there. `{secret}` in it is replaced by the secret",
        ),
        key(
            "shape",
            Wants::Free,
            "of `hook`: what is sent instead of an event, as for a chat: `{ text = \"{line}\" }`",
        ),
        key(
            "secure",
            Wants::Words(|| Secure::ALL.map(Secure::word).to_vec()),
            "of `mail`: `\"starttls\"` (default), `\"tls\"` or `\"none\"`, which sends no password",
        ),
        key("user", Wants::Text, "of `mail`: who logs in; nobody, if not given"),
        key("from", Wants::Text, "of `mail`: whose mail it is; must be there"),
        key("addresses", Wants::List, "of `mail`: who gets it; must be there"),
        key(
            "secret_file",
            Wants::Text,
            "of `mail` the password, of `hook` the key to sign with: a file that only its owner can read",
        ),
        key(
            "ca_file",
            Wants::Text,
            "whom to believe who the other side is: certificates (PEM); the machine's own, if not given",
        ),
        key(
            "gather",
            Wants::Duration,
            "of `mail`: what is less than critical waits that long for more (default `\"0s\"`)",
        ),
        key("at_most", Wants::Whole(1, 1000), "of `mail`: so many an hour (default 20)"),
        key("terminals", Wants::Flag, "of `desk`: whoever has no desktop is asked at his terminals (default `false`)"),
        key("quiet", Wants::Text, "of `mail`: hours, as `\"not office\"`, in which only what is critical is sent"),
    ],
};

/// Which ways have which keys; the rest is of all.
pub(in crate::rules) const OF_WAYS: [(&str, &[&str]); 17] = [
    ("down_after", &["log", "collector", "mail", "hook"]),
    ("otherwise", &["log", "collector", "mail", "hook"]),
    ("terminals", &["desk"]),
    ("server", &["collector", "mail"]),
    ("over", &["collector"]),
    ("enterprise", &["collector"]),
    ("url", &["hook"]),
    ("shape", &["hook"]),
    ("secure", &["mail"]),
    ("user", &["mail"]),
    ("from", &["mail"]),
    ("addresses", &["mail"]),
    ("secret_file", &["mail", "hook"]),
    ("ca_file", &["collector", "mail", "hook"]),
    ("gather", &["mail"]),
    ("at_most", &["mail"]),
    ("quiet", &["mail"]),
];

/// Keys that others use, and what stands for them.
pub(super) const OF_OTHERS: [(&str, &str); 14] = [
    (
        "password",
        "a password stands in a file that only its owner can read: `secret_file = \"/etc/sophron/secrets/mail\"`",
    ),
    ("pass", "a password stands in a file that only its owner can read: `secret_file = \"/etc/sophron/secrets/mail\"`"),
    ("secret", "a secret stands in a file that only its owner can read: `secret_file = \"/etc/sophron/secrets/hook\"`"),
    ("token", "a secret stands in a file that only its owner can read: `secret_file = \"/etc/sophron/secrets/hook\"`"),
    ("host", "write `server = \"mail.mossgate.example:587\"`"),
    ("port", "it stands behind the server's name: `server = \"mail.mossgate.example:587\"`"),
    ("tls", "write `secure = \"tls\"` of a mail, `over = \"tls\"` of a collector; of a hook it stands in the `url`"),
    ("recipients", "write `addresses = [\"desk@mossgate.example\"]`"),
    ("cc", "write `addresses = [\"desk@mossgate.example\"]`"),
    ("sender", "write `from = \"sophron@mossgate.example\"`"),
    ("protocol", "write `over = \"tls\"`"),
    ("template", "write `shape = { text = \"{line}\" }`"),
    ("rate", "write `at_most = 20`, so many an hour"),
    ("severity", "a `[[tell]]` says what is told by which channel: `severity = \"warning\"`, `by = [\"desk-mail\"]`"),
];

/// How messages leave the machine.
pub static DELIVER: Table = Table {
    name: "[deliver]",
    keys: &[key(
        "as",
        Wants::Text,
        "the user as whom a watcher of root's sends over the network (default `\"sophron\"`); never root",
    )],
};

/// Figures for others.
pub static FIGURES: Table = Table {
    name: "[figures]",
    keys: &[
        key("file", Wants::Text, "into this file, which is replaced each time"),
        key("serve", Wants::Text, "to whoever asks by HTTP on this machine: `\"127.0.0.1:7411\"`"),
        key("every", Wants::Duration, "that often (default `\"15s\"`)"),
    ],
};

/// Who is told.
pub static TELL: Table = Table {
    name: "a tell",
    keys: &[
        key(
            "severity",
            Wants::Words(|| Severity::ALL.map(Severity::word).to_vec()),
            "what is at least so serious: `\"notice\"` (default), `\"warning\"` or `\"critical\"`",
        ),
        key("rules", Wants::List, "of these rules; `*` and `?` stand for any letters (default: of all)"),
        key("where", Wants::Condition, "of processes of which this holds: what they are, and not what they use"),
        at(Place::Needed, key("by", Wants::List, "by these channels")),
    ],
};
