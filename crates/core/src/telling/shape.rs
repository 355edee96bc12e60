//! `shape` of a hook: what a chat wants instead of an event. Texts in it have placeholders, and whatever they are filled with stays within
//! its text.

use serde_json::Value;

use super::Message;

/// What can stand in braces.
pub const PLACEHOLDERS: [&str; 12] =
    ["line", "severity", "what", "host", "case", "rule", "process", "app", "owner", "at", "id", "subject"];

/// The shape of a message.
pub fn shaped(shape: &Value, message: &Message) -> Value {
    match shape {
        Value::String(text) => filled(text, message).into(),
        Value::Array(items) => items.iter().map(|item| shaped(item, message)).collect(),
        Value::Object(fields) => fields.iter().map(|(key, value)| (key.clone(), shaped(value, message))).collect(),
        other => other.clone(),
    }
}

/// The placeholders of a shape that there are none of.
pub fn unknown(shape: &Value) -> Vec<String> {
    match shape {
        Value::String(text) => {
            let braced = pieces(text).filter_map(|(_, name)| name);
            braced.filter(|name| !PLACEHOLDERS.contains(name)).map(str::to_owned).collect()
        }
        Value::Array(items) => items.iter().flat_map(unknown).collect(),
        Value::Object(fields) => fields.values().flat_map(unknown).collect(),
        _ => Vec::new(),
    }
}

/// Text, and the name in the braces behind it.
fn pieces(text: &str) -> impl Iterator<Item = (&str, Option<&str>)> {
    let mut rest = Some(text);
    std::iter::from_fn(move || {
        let text = rest?;
        let found = text.split_once('{').and_then(|(before, after)| Some((before, after.split_once('}')?)));
        let Some((before, (name, after))) = found else { return rest.take().map(|text| (text, None)) };
        rest = Some(after);
        Some((before, Some(name)))
    })
}

fn filled(text: &str, message: &Message) -> String {
    let mut full = String::new();
    for (before, name) in pieces(text) {
        full.push_str(before);
        full.push_str(&name.map(|name| value(name, message)).unwrap_or_default());
    }
    full
}

fn value(name: &str, message: &Message) -> String {
    let or_not = |text: &Option<String>| text.clone().unwrap_or_default();
    match name {
        "line" => message.line.clone(),
        "severity" => message.severity.word().to_owned(),
        "what" => message.word.clone(),
        "host" => message.host.clone(),
        "case" => message.case.map(|case| case.to_string()).unwrap_or_default(),
        "rule" => or_not(&message.rule),
        "process" => or_not(&message.process),
        "app" => or_not(&message.app),
        "owner" => or_not(&message.owner),
        "at" => message.at.to_string(),
        "id" => message.id.clone(),
        "subject" => message.heading(),
        _ => String::new(),
    }
}
