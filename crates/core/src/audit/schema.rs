//! The JSON Schema of a record.

use serde_json::{Value, json};

use super::record::FORMAT;
use super::words::{Kind, ReadsAs, SeverityWord, ToldWord};
use crate::answer::Answer;

/// The schema of one line of the trail.
pub fn schema() -> Value {
    let text = |what: &str| json!({ "type": "string", "description": what });
    let number = |what: &str| json!({ "type": "integer", "minimum": 0, "description": what });
    let hash = |what: &str| json!({ "type": "string", "pattern": "^[0-9a-f]{64}$", "description": what });
    let list = |what: &str, most: u32| json!({ "type": "array", "items": { "type": "string" }, "maxItems": most, "description": what });
    let subject = json!({
        "type": "object",
        "description": "the process; of a group the one that stands for it",
        "required": ["pid", "id", "start", "app", "owner", "uid", "parent", "path_proven"],
        "properties": {
            "pid": number("process ID"), "id": text("with check letters"), "start": number("clock ticks since boot"),
            "app": text("program"), "owner": text("user"), "uid": number("user ID"), "parent": number("its parent's PID"),
            "path": text("the file it runs"), "path_proven": { "type": "boolean" }, "command": text("command line, secrets masked"),
            "held": number("what it held in memory, bytes, in the intent of an act"), "cpu": number("percent of one core, in the intent of an act"),
            "children": list("its children, in the intent of an act", 32),
            "open": list("what it held open, in the intent of an act", 16),
            "of": { "type": "object", "required": ["judge", "name", "processes", "ids"], "description": "the group that was judged",
                "properties": { "judge": text("app, tree, owner, unit or machine"), "name": text("for people"),
                    "processes": number("how many"), "ids": list("checked PIDs", 32) } },
        },
    });
    let evidence = json!({
        "type": "object",
        "required": ["severity", "breach", "reading", "limit", "words"],
        "properties": {
            "severity": { "enum": SeverityWord::WORDS }, "reads_as": { "enum": ReadsAs::WORDS, "description": "of which kind the readings are; not in format 1" }, "breach": text("as the rule has it"),
            "field": text("what tells the story"), "reading": { "description": "base units" }, "limit": { "description": "base units" },
            "words": text("both for people"), "disk": { "type": "array", "items": { "type": "number" }, "minItems": 2, "maxItems": 2 },
            "points": { "type": "array", "maxItems": 32, "items": { "type": "array", "minItems": 2, "maxItems": 2 } },
        },
    });
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": format!("A record of Sophron's audit trail, format {FORMAT}"),
        "type": "object",
        "required": ["seq", "at", "host", "boot", "kind", "who", "prev", "hash"],
        "properties": {
            "seq": number("its place, from 1 without a gap"),
            "latest": { "type": "string", "format": "date-time", "description": "the latest time of any record before it, where the clock went back" },
            "at": { "type": "string", "format": "date-time" },
            "host": text("the machine"), "boot": text("32 hex digits"), "sophron": text("the version that wrote it"),
            "case": number("what belongs together"),
            "kind": { "enum": Kind::WORDS },
            "who": { "type": "object", "required": ["uid", "user"], "properties": { "uid": number("runs as"), "user": text("its name"), "login_uid": number("who logged in") } },
            "rule": text("its name"), "subject": subject, "evidence": evidence,
            "action": { "type": "object", "required": ["do"], "properties": { "do": text("what is done"), "step": number("from 1"),
                "nice": { "type": "integer" }, "originals": { "type": "object" }, "for": { "type": "number" },
                "force_after": { "type": "number" }, "ask": { "type": "number", "description": "seconds for which somebody is asked before" }, "counts_with": number("the case with which it counts as one, beyond its owner's share of the cap"), "tree": { "type": "boolean" }, "because": text("in the person's words") } },
            "result": { "type": "object", "required": ["outcome"], "properties": { "outcome": text("one word or two"), "seen": text("for people"), "took": { "type": "number" } } },
            "next": { "type": "object", "required": ["do", "at"], "description": "what comes next, if the breach goes on", "properties": { "do": text("the step"), "at": { "type": "string", "format": "date-time" } } },
            "wording": { "type": "object", "required": ["text", "digest"], "properties": { "text": text("the rule's own lines"), "digest": hash("of the rules files") } },
            "stamp": { "type": "object", "required": ["number", "next"], "properties": { "number": number("from 1; 0 where a key begins"),
                "key": hash("public key"), "next": hash("the next public key"), "signature": { "type": "string", "pattern": "^[0-9a-f]{128}$" } } },
            "retired": { "type": "object", "required": ["file", "records", "hash"], "properties": { "file": text("its name"),
                "records": { "type": "array", "items": { "type": "integer" }, "minItems": 2, "maxItems": 2 }, "hash": hash("of its last record") } },
            "told": { "type": "object", "required": ["channel", "outcome"], "properties": { "channel": text("its name"),
                "records": { "type": "array", "items": { "type": "integer" }, "description": "the records that were told of" }, "outcome": { "enum": ToldWord::WORDS },
                "seen": text("why, for people"), "took": { "type": "number" } } },
            "answer": { "type": "object", "required": ["answer", "uid", "over"], "description": "what was answered by somebody who was asked, as far as that is known", "properties": {
                "answer": { "enum": Answer::WORDS }, "uid": number("whose user ID the answer came with"), "over": text("by which way"),
                "session": text("of the login service"), "locked": { "type": "boolean", "description": "whether its screen was locked" } } },
            "prev": hash("of the record before it"), "hash": hash("of this line before `,\"hash\"`"),
        },
    })
}
