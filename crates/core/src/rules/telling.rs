//! `[[channel]]` and `[[tell]]`: the ways to people, and who is told of what by which.

use std::time::Duration;

use toml::Spanned;
use toml::de::DeValue;

use super::keys::{self, Reading};
use super::load::severity;
use super::section::{Section, Source};
use crate::condition::{Condition, Place};
use crate::diag::Diagnostic;
use crate::model::Field;
use crate::severity::Severity;
use crate::telling::{Channel, Tell, Telling, To};
use crate::text::{clean, nearest};

const MINUTE: Duration = Duration::from_secs(60);
const DAY: Duration = Duration::from_secs(86_400);

/// Most channels.
const MOST: usize = 32;

/// What others call the ways to people.
const WORDS_OF_OTHERS: [(&str, &str); 4] =
    [("syslog", "log"), ("journal", "log"), ("journald", "log"), ("system log", "log")];

/// What a record tells of a process.
const KNOWN: [Field; 8] =
    [Field::Pid, Field::Id, Field::Parent, Field::App, Field::Path, Field::Command, Field::Owner, Field::Uid];

/// `[[channel]]`.
pub(super) fn channels(source: &mut Source<'_>, section: &Section<'_>, telling: &mut Telling) {
    source.each(section, "channel", "a channel", |source, section, _| {
        source.only(section, &keys::CHANNEL, Reading::All);
        let name = name(source, section, telling);
        let to = to(source, section);
        let down_after = source.duration(section, "down_after", [MINUTE, DAY], "\"10m\"").unwrap_or(10 * MINUTE);
        if telling.channels.len() == MOST {
            source.error(
                Diagnostic::at(section.place(), format!("there are more than {MOST} channels"), "one too many")
                    .help("one channel can be named by any number of `[[tell]]`"),
            );
        } else if let (Some(name), Some(to)) = (name, to) {
            telling.channels.push(Channel { name, to, down_after });
        }
    });
}

/// `[[tell]]`.
pub(super) fn tells(source: &mut Source<'_>, section: &Section<'_>, telling: &mut Telling) {
    source.each(section, "tell", "a tell", |source, section, _| {
        source.only(section, &keys::TELL, Reading::All);
        let severity = severity(source, section).unwrap_or(Severity::Notice);
        let rules = texts(source, section, "rules", "[\"press-*\"]").unwrap_or_default();
        let covers = covers(source, section);
        if section.get("by").is_none() {
            source.missing(section, "by", "[\"machine-log\"]");
        }
        let by = texts(source, section, "by", "[\"machine-log\"]").unwrap_or_default();
        for (name, place) in &by {
            if telling.channel(name).is_none() {
                let known = telling.channels.iter().map(|channel| channel.name.as_str());
                let all: Vec<&str> = known.clone().collect();
                let help = match nearest(name, known) {
                    Some(near) => format!("write `{near}`"),
                    None if all.is_empty() => {
                        "add it: `[[channel]]`, `name = \"machine-log\"`, `to = \"log\"`".to_owned()
                    }
                    None => format!("channels: {}", all.join(", ")),
                };
                let title = format!("there is no channel `{}`", clean(name.as_bytes()));
                source.error(Diagnostic::at(place.clone(), title, "not known").help(help));
            }
        }
        let words = |texts: Vec<(String, std::ops::Range<usize>)>| texts.into_iter().map(|(text, _)| text).collect();
        telling.tells.push(Tell { severity, rules: words(rules), covers, by: words(by) });
    });
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

fn to(source: &mut Source<'_>, section: &Section<'_>) -> Option<To> {
    let Some(text) = source.text(section, "to", "\"log\"") else {
        if section.get("to").is_none() {
            source.missing(section, "to", "\"log\"");
        }
        return None;
    };
    let found = To::ALL.into_iter().find(|to| to.word() == text.value);
    if found.is_none() {
        let ours =
            WORDS_OF_OTHERS.iter().find(|(theirs, _)| *theirs == text.value.to_lowercase()).map(|(_, ours)| *ours);
        let near = ours.or_else(|| nearest(&text.value, To::ALL.map(To::word)));
        let all = To::ALL.map(To::word).join(", ");
        let help = near.map_or(format!("ways: {all}"), |near| format!("write `to = \"{near}\"`"));
        let title = format!("`{}` is no way to people", clean(text.value.as_bytes()));
        source.error(Diagnostic::at(text.span, title, "not known").help(help));
    }
    found
}

/// What a record does not tell is not known of a message.
fn covers(source: &mut Source<'_>, section: &Section<'_>) -> Option<Condition> {
    let covers = source.condition(section, "where", Place::Look)?;
    if let Some(other) = covers.fields().into_iter().find(|field| !KNOWN.contains(field)) {
        let place = section.get("where").map_or_else(|| section.place(), Spanned::span);
        let title = format!("`{}` is not known of a message", other.name());
        let known = KNOWN.map(Field::name).join(", ");
        source.error(Diagnostic::at(place, title, "not told").help(format!("a tell goes by {known}")));
        return None;
    }
    Some(covers)
}

/// A list of texts, each with its place.
fn texts(
    source: &mut Source<'_>,
    section: &Section<'_>,
    key: &str,
    example: &str,
) -> Option<Vec<(String, std::ops::Range<usize>)>> {
    let value = section.get(key)?;
    let items: Vec<&Spanned<DeValue<'_>>> = match value.get_ref() {
        DeValue::Array(items) => items.iter().collect(),
        _ => Vec::new(),
    };
    let texts: Vec<_> =
        items.iter().filter_map(|item| Some((item.get_ref().as_str()?.to_owned(), item.span()))).collect();
    if items.is_empty() || texts.len() < items.len() {
        source.wrong_type(value, key, "a list of texts", example);
    }
    Some(texts)
}
