//! `[[channel]]`: the ways to people; and `[deliver]`, how messages leave the machine.

use std::ops::Range;
use std::time::Duration;

use serde_json::Value;
use toml::Spanned;
use toml::de::DeValue;

use super::keys::{self, Reading};
use super::options::{self, Names};
use super::section::{Section, Source};
use super::telling::known;
use crate::diag::Diagnostic;
use crate::telling::{
    Channel, Collector, Desk, Hook, Mail, Over, PLACEHOLDERS, Pace, SECRET, Secure, Server, Telling, To, Url,
    unknown_placeholders,
};
use crate::text::{clean, nearest};

const MINUTE: Duration = Duration::from_secs(60);
const DAY: Duration = Duration::from_secs(86_400);

/// Most channels.
const MOST: usize = 32;

/// Most addresses of a mail.
const MOST_ADDRESSES: usize = 32;

/// So many mails an hour, unless another number is given.
const AT_MOST: u32 = 20;

/// What others call the ways to people.
const WORDS_OF_OTHERS: [(&str, &str); 20] = [
    ("desktop", "desk"),
    ("notification", "desk"),
    ("notice", "desk"),
    ("user", "desk"),
    ("owner", "desk"),
    ("syslog", "log"),
    ("journal", "log"),
    ("journald", "log"),
    ("system log", "log"),
    ("email", "mail"),
    ("e-mail", "mail"),
    ("smtp", "mail"),
    ("webhook", "hook"),
    ("web hook", "hook"),
    ("http", "hook"),
    ("https", "hook"),
    ("url", "hook"),
    ("chat", "hook"),
    ("remote", "collector"),
    ("server", "collector"),
];

/// `[[channel]]`.
pub(super) fn channels(source: &mut Source<'_>, section: &Section<'_>, hours: &Names, telling: &mut Telling) {
    let mut others = Vec::new();
    source.each(section, "channel", "a channel", |source, section, _| {
        source.only(section, &keys::CHANNEL, Reading::All);
        let name = name(source, section, telling);
        let word = word(source, section);
        let to = word.and_then(|word| to(source, section, word));
        let otherwise = source.text(section, "otherwise", "\"office-hook\"");
        let pace = pace(source, section, word, hours);
        let down_after = source.duration(section, "down_after", [MINUTE, DAY], "\"10m\"").unwrap_or(10 * MINUTE);
        let secret_file = source.path(section, "secret_file", "\"/etc/sophron/secrets/mail\"");
        let ca_file = source.path(section, "ca_file", "\"/etc/sophron/ca.pem\"");
        if let Some(to) = &to {
            secret(source, section, to, secret_file.is_some());
        }
        if telling.channels.len() == MOST {
            source.error(
                Diagnostic::at(section.place(), format!("there are more than {MOST} channels"), "one too many")
                    .help("one channel can be named by any number of `[[tell]]`"),
            );
        } else if matches!(to, Some(To::Desk(_))) && telling.desk().is_some() {
            let place = section.get("to").map_or_else(|| section.place(), Spanned::span);
            let title = "there is more than one channel to people's desks";
            let help = "everybody has one desk: name the one channel in each `[[tell]]`";
            source.error(Diagnostic::at(place, title, "one too many").help(help));
        } else if let (Some(name), Some(to)) = (name, to) {
            others.extend(otherwise.as_ref().map(|other| (name.clone(), other.value.clone(), other.span.clone())));
            let otherwise = otherwise.map(|other| other.value);
            telling.channels.push(Channel { name, to, secret_file, ca_file, down_after, otherwise, pace });
        }
    });
    for (name, other, place) in others {
        if name == other {
            let title = "a channel cannot stand in for itself";
            source
                .error(Diagnostic::at(place, title, "the same").help("name another channel, or leave `otherwise` out"));
        } else if telling.desk().is_some_and(|(desk, _)| desk.name == other) {
            let title = "nobody at a desk stands in for a channel: there each is told of his own programs only";
            source.error(Diagnostic::at(place, title, "not that one").help("name another channel"));
        } else {
            known(source, telling, &other, &place);
        }
    }
}

/// `[deliver]`.
pub(super) fn deliver(source: &mut Source<'_>, section: &Section<'_>, telling: &mut Telling) {
    let Some(section) = options::table(source, section, "deliver", "[deliver]", "{ as = \"sophron\" }") else { return };
    source.only(&section, &keys::DELIVER, Reading::All);
    let Some(user) = source.text(&section, "as", "\"sophron\"") else { return };
    if matches!(user.value.as_str(), "root" | "0" | "") {
        let title = "messages never leave the machine with root's rights";
        let mend = "name a user who may do nothing else: `as = \"sophron\"`";
        source.error(Diagnostic::at(user.span, title, "not that user").help(mend));
    } else {
        telling.as_user = user.value;
    }
}

fn name(source: &mut Source<'_>, section: &Section<'_>, telling: &Telling) -> Option<String> {
    let name = source.name(section, "\"machine-log\"")?;
    if telling.channel(&name.value).is_some() {
        source.error(
            Diagnostic::at(name.span, format!("two channels are called `{}`", name.value), "already used")
                .help("give each channel a name of its own: the record goes by it"),
        );
        return None;
    }
    Some(name.value)
}

/// Which way it is; and an error for every key that is of another.
fn word(source: &mut Source<'_>, section: &Section<'_>) -> Option<&'static str> {
    if section.get("to").is_none() {
        source.missing(section, "to", "\"log\"");
    }
    let ours = |theirs: &str| {
        if theirs.contains('@') {
            return Some(format!("write `to = \"mail\"` and `addresses = [\"{}\"]`", clean(theirs.as_bytes())));
        }
        let known = WORDS_OF_OTHERS.iter().find(|(word, _)| *word == theirs.to_lowercase());
        known.map(|(_, ours)| format!("write `to = \"{ours}\"`"))
    };
    let word = source.word(section, "to", &To::WORDS, ours)?;
    for (key, ways) in keys::OF_WAYS {
        let Some(value) = section.get(key).filter(|_| !ways.contains(&word)) else { continue };
        let title = format!("`{key}` is of {}, and this channel is a {word}", ways.join(" and "));
        source
            .error(Diagnostic::at(value.span(), title, "not of this way").help("leave it out, or write another `to`"));
    }
    Some(word)
}

fn to(source: &mut Source<'_>, section: &Section<'_>, word: &str) -> Option<To> {
    match word {
        "collector" => {
            let server = server(source, section, "\"logs.mossgate.example:6514\"");
            let over = source.word(section, "over", &Over::ALL.map(Over::word), |_| None);
            let over = Over::ALL.into_iter().find(|known| Some(known.word()) == over).unwrap_or(Over::Tls);
            let enterprise = source.integer(section, "enterprise", [1, i64::from(u32::MAX)], "32473");
            let enterprise = enterprise.and_then(|number| u32::try_from(number).ok());
            Some(To::Collector(Collector { server: server?, over, enterprise }))
        }
        "mail" => mail(source, section).map(|mail| To::Mail(Box::new(mail))),
        "hook" => hook(source, section).map(|hook| To::Hook(Box::new(hook))),
        "desk" => Some(To::Desk(Desk { terminals: source.flag(section, "terminals").unwrap_or_default() })),
        _ => Some(To::Log),
    }
}

fn mail(source: &mut Source<'_>, section: &Section<'_>) -> Option<Mail> {
    let server = server(source, section, "\"mail.mossgate.example:587\"");
    let secure = source.word(section, "secure", &Secure::ALL.map(Secure::word), |_| None);
    let secure = Secure::ALL.into_iter().find(|known| Some(known.word()) == secure).unwrap_or(Secure::StartTls);
    let user = source.text(section, "user", "\"sophron\"").map(|user| user.value);
    if user.is_some() && secure == Secure::None {
        let place = section.get("secure").map_or_else(|| section.place(), Spanned::span);
        let title = "a password is never sent where anybody can read it";
        source.error(
            Diagnostic::at(place, title, "in the clear").help("write `secure = \"starttls\"`, or leave `user` out"),
        );
    }
    let example = "\"sophron@mossgate.example\"";
    if section.get("from").is_none() {
        source.missing(section, "from", example);
    }
    let from = source.text(section, "from", example);
    let from = from.and_then(|from| address(source, from.value, from.span));
    let example = "[\"desk@mossgate.example\"]";
    if section.get("addresses").is_none() {
        source.missing(section, "addresses", example);
    }
    let given = source.texts(section, "addresses", example)?;
    if given.len() > MOST_ADDRESSES {
        let title = format!("there are more than {MOST_ADDRESSES} addresses");
        source.error(Diagnostic::at(section.place(), title, "in this table").help("give one address that goes to all"));
    }
    let addresses = given.into_iter().filter_map(|(text, place)| address(source, text, place)).collect();
    Some(Mail { server: server?, secure, user, from: from?, addresses })
}

/// `desk@mossgate.example`, in letters that need no coding.
fn address(source: &mut Source<'_>, text: String, place: Range<usize>) -> Option<String> {
    let plain = |c: char| c.is_ascii_alphanumeric() || "!#$%&'*+-/=?^_`{|}~.".contains(c);
    let is_part = |part: &str| {
        let dots = part.starts_with('.') || part.ends_with('.') || part.contains("..");
        !part.is_empty() && !dots && part.chars().all(plain)
    };
    let parts = text.split_once('@');
    if parts.is_some_and(|(user, machine)| is_part(user) && is_part(machine)) {
        return Some(text);
    }
    let title = format!("`{}` is no address", clean(text.as_bytes()));
    source.error(Diagnostic::at(place, title, "not an address").help("write it bare, as `desk@mossgate.example`"));
    None
}

fn hook(source: &mut Source<'_>, section: &Section<'_>) -> Option<Hook> {
    let example = "\"https://hooks.mossgate.example/in\"";
    if section.get("url").is_none() {
        source.missing(section, "url", example);
    }
    let url = source.text(section, "url", example).and_then(|text| match Url::parse(&text.value) {
        Ok(url) => Some(url),
        Err(why) => {
            let title = format!("this is no URL that can be used: {}", clean(why.as_bytes()));
            source.error(Diagnostic::at(text.span, title, "not used").help(format!("write `url = {example}`")));
            None
        }
    });
    let shape = section.get("shape");
    let table = shape.is_none_or(|value| matches!(value.get_ref(), DeValue::Table(_)));
    if let Some(value) = shape.filter(|_| !table) {
        source.wrong_type(value, "shape", "a table", "{ text = \"{line}\" }");
    }
    let shape = shape.map(|value| (json(value.get_ref()), value.span()));
    if let Some((shape, place)) = &shape
        && let Some(unknown) = unknown_placeholders(shape).into_iter().next()
    {
        let near = nearest(&unknown, PLACEHOLDERS).map(|near| format!("write `{{{near}}}`"));
        let all = || format!("placeholders: {}", PLACEHOLDERS.join(", "));
        let title = format!("nothing stands for `{{{}}}`", clean(unknown.as_bytes()));
        source.error(Diagnostic::at(place.clone(), title, "not known").help(near.unwrap_or_else(all)));
    }
    Some(Hook { url: url?, shape: shape.map(|(shape, _)| shape) })
}

fn json(value: &DeValue<'_>) -> Value {
    match value {
        DeValue::Integer(number) => i64::from_str_radix(number.as_str(), number.radix()).ok().into(),
        DeValue::Float(number) => number.as_str().parse::<f64>().ok().into(),
        DeValue::Boolean(flag) => (*flag).into(),
        DeValue::Array(items) => items.iter().map(|item| json(item.get_ref())).collect(),
        DeValue::Table(table) => {
            table.iter().map(|(key, value)| (key.get_ref().to_string(), json(value.get_ref()))).collect()
        }
        DeValue::String(text) => text.to_string().into(),
        DeValue::Datetime(time) => time.to_string().into(),
    }
}

fn server(source: &mut Source<'_>, section: &Section<'_>, example: &str) -> Option<Server> {
    if section.get("server").is_none() {
        source.missing(section, "server", example);
    }
    let text = source.text(section, "server", example)?;
    match Server::parse(&text.value) {
        Ok(server) => Some(server),
        Err(why) => {
            let title = format!("this is no server: {}", clean(why.as_bytes()));
            source.error(
                Diagnostic::at(text.span, title, "not a machine and a port")
                    .help(format!("write `server = {example}`")),
            );
            None
        }
    }
}

/// Whether it has the secret that it needs, and none that it has no use for, and keeps it.
fn secret(source: &mut Source<'_>, section: &Section<'_>, to: &To, given: bool) {
    let example = "\"/etc/sophron/secrets/mail\"";
    match to {
        To::Mail(mail) if mail.user.is_some() && !given => source.missing(section, "secret_file", example),
        To::Mail(mail) if mail.user.is_none() && given => source.missing(section, "user", "\"sophron\""),
        To::Hook(hook) if hook.url.path.contains(SECRET) => {
            if !given {
                source.missing(section, "secret_file", "\"/etc/sophron/secrets/chat\"");
            }
            if !hook.url.is_https && !hook.url.server.is_here() {
                let place = section.get("url").map_or_else(|| section.place(), Spanned::span);
                let title = "a secret is never sent where anybody can read it";
                source.error(Diagnostic::at(place, title, "in the clear").help("write `url = \"https://…\"`"));
            }
        }
        _ => {}
    }
}

fn pace(source: &mut Source<'_>, section: &Section<'_>, word: Option<&str>, hours: &Names) -> Pace {
    let gather = source.duration(section, "gather", [Duration::ZERO, DAY], "\"15m\"").unwrap_or_default();
    let at_most = source.integer(section, "at_most", [1, 1000], "20").and_then(|most| u32::try_from(most).ok());
    let quiet = section.get("quiet").and_then(|_| options::hours(source, section, "quiet", hours));
    let at_most = at_most.or(Some(AT_MOST)).filter(|_| word == Some("mail"));
    Pace { gather, at_most, quiet }
}
