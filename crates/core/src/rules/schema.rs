//! The JSON Schema of a rules file, for editors: keys, kinds and words. What conditions mean is checked by `rules check`.

use serde_json::{Value, json};

use super::Pick;
use crate::subject::Judged;

const DURATION: &str = "^([0-9]+(\\.[0-9]+)?(ms|s|m|h|d))+$";

/// The schema.
pub fn schema() -> Value {
    let duration = |what: &str| json!({ "type": "string", "pattern": DURATION, "description": what });
    let condition = |what: &str| json!({ "type": "string", "minLength": 1, "maxLength": 65536, "description": what });
    let step = json!({
        "type": "object",
        "required": ["at", "do"],
        "additionalProperties": false,
        "properties": {
            "at": duration("breached time from the opening of the case"),
            "do": { "enum": ["alert", "lower", "suspend", "restart", "terminate", "run"] },
            "nice": { "type": "integer", "minimum": 1, "maximum": 19, "description": "of `lower`" },
            "for": duration("of `suspend`"),
            "force_after": duration("of `terminate`: by force after that time"),
            "hours": { "type": "string", "description": "a name of [hours], `not` such a name, or always" },
            "run": { "type": "array", "minItems": 1, "items": { "type": "string" }, "description": "of `run`: an absolute program and its arguments" },
        },
    });
    let again = json!({
        "type": "object",
        "additionalProperties": false,
        "properties": { "after": duration("since people were last told"), "risen": { "type": "string", "description": "further than when people were last told" } },
    });
    let budget = json!({
        "type": "object",
        "required": ["cases", "per"],
        "additionalProperties": false,
        "properties": { "cases": { "type": "integer", "minimum": 1, "maximum": 1000 }, "per": duration("a sliding time") },
    });
    let adjustable = json!({
        "note": { "type": "string", "description": "what people see in the alert" },
        "where": condition("which processes it covers"),
        "breach": condition("what is too much"),
        "lasting": duration("how long it must hold"),
        "calm": condition("when the case closes"),
        "severity": { "enum": ["notice", "warning", "critical"] },
        "armed": { "type": "boolean", "default": false },
        "hours": { "type": "string" },
        "again": again,
        "budget": budget,
        "pick": { "enum": Pick::ALL.map(Pick::words) },
        "ladder": { "type": "array", "minItems": 1, "items": step },
    });
    let mut rule = adjustable.clone();
    rule["name"] = json!({ "type": "string", "pattern": "^[\\p{L}\\p{N}_.-]{1,64}$" });
    rule["judge"] = json!({ "enum": Judged::ALL.map(Judged::word), "default": "process" });
    json!({
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Sophron rules file",
        "type": "object",
        "required": ["format"],
        "additionalProperties": false,
        "properties": {
            "format": { "const": super::FORMAT },
            "every": duration("the sampling interval"),
            "settle": duration("no acting for that long after a start or a nap"),
            "cap": {
                "type": "object",
                "additionalProperties": false,
                "properties": {
                    "acts": { "type": "integer", "minimum": 0, "maximum": 10000, "default": 20 },
                    "terminations": { "type": "integer", "minimum": 0, "maximum": 10000, "default": 5 },
                },
            },
            "hours": { "type": "object", "additionalProperties": { "type": ["array", "string"], "items": { "type": "string" } } },
            "protect": { "type": "object", "required": ["where"], "additionalProperties": false, "properties": { "where": condition("whom rules only ever alert on") } },
            "audit": {
                "type": "object",
                "additionalProperties": false,
                "properties": {
                    "command_lines": { "enum": crate::audit::CommandLines::ALL.map(crate::audit::CommandLines::word), "default": "masked" },
                    "readers": { "type": "string", "description": "the group that may read the trail" },
                    "piece": { "type": "string", "description": "a file of that size is followed by a new one" },
                    "keep": duration("files whose last record is older are removed"),
                    "most": { "type": "string", "description": "so are the oldest while all together are larger" },
                    "stamp": duration("the trail is signed that often"),
                },
            },
            "lookback": {
                "type": "object",
                "additionalProperties": false,
                "properties": { "keep": duration("how far back; 0s for not at all"), "most": { "type": "string", "description": "at most so much on disk" }, "every": duration("a sample this often") },
            },
            "checkup": { "type": "object", "description": "limits and known findings of checkup" },
            "rule": {
                "type": "array",
                "items": { "type": "object", "required": ["name", "breach", "lasting"], "additionalProperties": false, "properties": rule },
            },
            "adjust": {
                "type": "object",
                "additionalProperties": { "type": "object", "additionalProperties": false, "properties": adjustable },
            },
        },
    })
}
