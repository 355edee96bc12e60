//! `[[tell]]`: who is told of what by which channel.

use toml::Spanned;

use super::keys::{self, Reading};
use super::load::severity;
use super::section::{Section, Source};
use crate::condition::{Condition, Place};
use crate::diag::Diagnostic;
use crate::model::Field;
use crate::severity::Severity;
use crate::telling::{Tell, Telling};
use crate::text::{clean, nearest};

/// What a record tells of a process.
const KNOWN: [Field; 8] =
    [Field::Pid, Field::Id, Field::Parent, Field::App, Field::Path, Field::Command, Field::Owner, Field::Uid];

/// `[[tell]]`.
pub(super) fn tells(source: &mut Source<'_>, section: &Section<'_>, telling: &mut Telling) {
    source.each(section, "tell", "a tell", |source, section, _| {
        source.only(section, &keys::TELL, Reading::All);
        let severity = severity(source, section).unwrap_or(Severity::Notice);
        let rules = source.texts(section, "rules", "[\"press-*\"]").unwrap_or_default();
        let covers = covers(source, section);
        if section.get("by").is_none() {
            source.missing(section, "by", "[\"machine-log\"]");
        }
        let by = source.texts(section, "by", "[\"machine-log\"]").unwrap_or_default();
        for (name, place) in &by {
            known(source, telling, name, place);
        }
        let words = |texts: Vec<(String, std::ops::Range<usize>)>| texts.into_iter().map(|(text, _)| text).collect();
        telling.tells.push(Tell { severity, rules: words(rules), covers, by: words(by) });
    });
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

/// An error where there is no channel of that name.
pub(super) fn known(source: &mut Source<'_>, telling: &Telling, name: &str, place: &std::ops::Range<usize>) {
    if telling.channel(name).is_some() {
        return;
    }
    let known = telling.channels.iter().map(|channel| channel.name.as_str());
    let all: Vec<&str> = known.clone().collect();
    let help = match nearest(name, known) {
        Some(near) => format!("write `{near}`"),
        None if all.is_empty() => "add it: `[[channel]]`, `name = \"machine-log\"`, `to = \"log\"`".to_owned(),
        None => format!("channels: {}", all.join(", ")),
    };
    let title = format!("there is no channel `{}`", clean(name.as_bytes()));
    source.error(Diagnostic::at(place.clone(), title, "not known").help(help));
}
