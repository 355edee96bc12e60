//! A rehearsal for programs.

use serde_json::{Value, json};
use sophron_core::rehearsal::{Rehearsal, StepWord, Story};
use sophron_core::telling::Told;

use super::Replayed;

pub fn json(rehearsal: &Rehearsal, replayed: &Replayed, case: Option<u64>) -> String {
    let rules: Vec<Value> = rehearsal
        .rules()
        .rules
        .iter()
        .zip(rehearsal.sums())
        .map(|(rule, sum)| {
            json!({
                "rule": rule.name,
                "cases": sum.cases,
                "told": sum.alerts,
                "acts": sum.acts,
                "asked": sum.asked,
                "held_back": sum.held_back,
                "calmed": sum.calmed,
                "subjects": sum.subjects.len(),
                "lacking": sum.cannot_be_judged().map(|fields| fields.iter().map(|field| field.name()).collect::<Vec<_>>()),
            })
        })
        .collect();
    let hits: Vec<Value> = rehearsal
        .hits()
        .iter()
        .map(|hit| {
            json!({ "at": hit.at, "rule": hit.rule, "case": hit.case, "subject": hit.whom, "action": hit.action.word() })
        })
        .collect();
    let done: Vec<Value> = rehearsal
        .done()
        .iter()
        .map(|outcome| {
            json!({ "at": outcome.at, "pid": outcome.pid, "app": outcome.app, "owner": outcome.owner, "case": outcome.case,
                "action": outcome.verb, "outcome": outcome.outcome })
        })
        .collect();
    let stories = rehearsal.stories().filter(|story| case.is_none_or(|case| case == story.case));
    let rows: Vec<Value> = stories.map(|story| row(story, &story.rule)).collect();
    let told = |told: &Told| json!({ "channel": told.channel, "messages": told.messages, "mails": told.mails, "in_an_hour": told.in_an_hour });
    let channels: Vec<Value> = replayed.told.iter().map(told).collect();
    let span = rehearsal.span();
    let object = json!({
        "host": replayed.host,
        "from": span.map(|span| span.0),
        "until": span.map(|span| span.1),
        "samples": span.map(|span| span.2),
        "interval": replayed.every,
        "rules": rules,
        "hits": hits,
        "done": done,
        "channels": channels,
        "rows": rows,
    });
    format!("{object}\n")
}

fn row(story: &Story, rule: &str) -> Value {
    let value = |value: &Option<sophron_core::units::Value>| value.as_ref().map(sophron_core::units::Value::to_json);
    let steps: Vec<Value> = story
        .steps
        .iter()
        .map(|step| {
            let (what, action, why) = match &step.word {
                StepWord::Told => ("told", Some("alert"), None),
                StepWord::Reminded => ("told again", Some("alert"), None),
                StepWord::Asked(action, _) => ("asked", Some(action.word()), None),
                StepWord::Turned(what) => ("answer", None, Some(what.as_str())),
                StepWord::Done(action) => ("would", Some(action.word()), None),
                StepWord::HeldBack(action, why) => ("held back", Some(action.word()), Some(why.as_str())),
                StepWord::HoursEnded => ("hours ended", None, None),
                StepWord::CameBack => ("came back", None, None),
            };
            json!({ "at": step.at, "what": what, "action": action, "why": why, "subject": step.whom, "processes": step.count })
        })
        .collect();
    json!({
        "case": story.case,
        "rule": rule,
        "subject": story.label,
        "app": story.app,
        "owner": story.owner,
        "opened": story.opened,
        "closed": story.closed.map(|(at, _)| at),
        "end": story.closed.map(|(_, why)| why.end()),
        "breached": story.breached.as_secs_f64(),
        "measured": story.quantity,
        "reading": value(&story.reading),
        "worst": value(&story.worst),
        "limit": value(&story.limit),
        "steps": steps,
    })
}
