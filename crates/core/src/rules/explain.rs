//! A rule said back in plain sentences.

use super::{Action, Pick, Rule, Step, Unasked};
use crate::condition::InWords;
use crate::severity::Severity;
use crate::subject::Judged;
use crate::telling::{Channel, Tell, Telling};
use crate::text::counted;
use crate::units::exact_duration;

/// A part of the explanation: a word, and a sentence.
pub type Sentence = (&'static str, String);

/// Whom it covers, when it acts, what it does, until when, and who is told.
pub fn explain(rule: &Rule, telling: &Telling) -> Vec<Sentence> {
    let mut all: Vec<Sentence> = vec![("whom", whom(rule)), ("when", when(rule))];
    let steps = rule.ladder.iter().map(|step| ("then", then(step, rule)));
    all.extend(steps);
    all.extend(asking(rule).map(|asking| ("asked", asking)));
    let calm = match &rule.calm {
        Some(calm) => InWords(calm).to_string(),
        None => "that is over".to_owned(),
    };
    let undone = if rule.ladder.iter().any(|step| matches!(step.action, Action::Lower { .. } | Action::Suspend { .. }))
    {
        ": what was lowered or suspended is undone then"
    } else {
        ""
    };
    all.push(("until", format!("{calm}, for {} and two samples at least{undone}", exact_duration(rule.lasting))));
    let mut again = Vec::new();
    again.extend(rule.again.after.map(|after| format!("every {}", exact_duration(after))));
    again.extend(rule.again.risen.as_ref().map(|risen| format!("whenever it has gone {} further", risen.scaled())));
    let again =
        if again.is_empty() { "not told again".to_owned() } else { format!("told again {}", again.join(", and ")) };
    all.push((
        "people",
        format!("told when it opens, at every step and when it closes, as {}; {again}", rule.severity.word()),
    ));
    all.extend(told(rule, telling).into_iter().map(|told| ("told", told)));
    if let Some(budget) = rule.budget {
        let cases = counted(budget.cases, "case");
        all.push((
            "at most",
            format!(
                "{cases} of one subject in {}; past that people are told, as critical, and nothing is done",
                exact_duration(budget.per)
            ),
        ));
    }
    all.push((
        "acting",
        if rule.armed {
            "armed: it does what it says".to_owned()
        } else {
            "in shadow: it decides, records and says what it would have done, and does nothing".to_owned()
        },
    ));
    all
}

/// By which channels, and of what; none where there is no channel.
fn told(rule: &Rule, telling: &Telling) -> Vec<String> {
    if telling.channels.is_empty() {
        return Vec::new();
    }
    let way = |tell: &Tell| {
        let what = match tell.severity {
            Severity::Notice => "all of it".to_owned(),
            // What fails, and what is not done for want of a budget, is graver than the rule.
            least if least > rule.severity => {
                format!("only what is {} or worse: what fails, or is beyond its budget", least.word())
            }
            least => format!("what is {} or worse", least.word()),
        };
        let whom = tell.covers.as_ref().map(|covers| format!(", where {}", InWords(covers))).unwrap_or_default();
        let by = |name: &String| match telling.channel(name).map(Channel::manner).filter(|manner| !manner.is_empty()) {
            Some(manner) => format!("{name} ({})", manner.join("; ")),
            None => name.clone(),
        };
        format!("by {}: {what}{whom}", tell.by.iter().map(by).collect::<Vec<_>>().join(", "))
    };
    let ways: Vec<String> = telling.of_rule(&rule.name).map(way).collect();
    if ways.is_empty() { vec!["by no channel: no [[tell]] fits it".to_owned()] } else { ways }
}

fn whom(rule: &Rule) -> String {
    let of = rule.covers.as_ref().map(|covers| InWords(covers).to_string());
    let that = |what: &str| match &of {
        Some(of) => format!("{what} where {of}"),
        None => what.to_owned(),
    };
    match rule.judge {
        Judged::Process => that("each process by itself"),
        Judged::App => that("each program of each owner, all its processes together, of those"),
        Judged::Tree => format!("each topmost process where {}, with all its descendants", of.unwrap_or_default()),
        Judged::Owner => that("each owner, all his processes together, of those"),
        Judged::Unit => that("each unit (control group), all its processes together, of those"),
        Judged::Machine => match of {
            Some(of) => format!("the machine; acted on are processes where {of}"),
            None => "the machine".to_owned(),
        },
    }
}

fn when(rule: &Rule) -> String {
    let hours =
        if rule.hours.is_always() { "at any hour".to_owned() } else { format!("in the hours `{}`", rule.hours) };
    let lasting = if rule.lasting.is_zero() {
        "at once".to_owned()
    } else {
        format!("for {} without a gap", exact_duration(rule.lasting))
    };
    format!("{}, {lasting}, {hours}", InWords(&rule.breach))
}

/// What the person may decide who is asked, and what becomes of it if he cannot be.
fn asking(rule: &Rule) -> Option<String> {
    if !rule.asks() {
        return None;
    }
    let keep = match rule.keep {
        Some(keep) => format!("may let it run for {}", keep),
        None => "may not let it run".to_owned(),
    };
    let unasked = match rule.unasked {
        Unasked::GoOn => "the step is taken all the same",
        Unasked::Leave => "the step is not taken before somebody can be",
    };
    Some(format!(
        "the person whose program it is, at a desk: {keep}, may have it suspended for 5m or ended at once; if nobody can be asked {unasked}"
    ))
}

fn then(step: &Step, rule: &Rule) -> String {
    let at =
        if step.at.is_zero() { "at once".to_owned() } else { format!("after {} of breach", exact_duration(step.at)) };
    let what = match step.action {
        Action::Alert => "people are told".to_owned(),
        Action::Run => format!("{} is run, with the facts on its standard input", step.run.join(" ")),
        Action::Lower { nice } => format!("it is lowered to nice {nice}, every thread, disk too"),
        Action::Suspend { length } => format!("it is suspended for {}, and goes on by itself", exact_duration(length)),
        Action::Restart => "the service manager starts the unit anew".to_owned(),
        Action::Terminate { force_after: None } => "it is asked to end, and never forced".to_owned(),
        Action::Terminate { force_after: Some(wait) } => {
            format!("it is asked to end, and ended by force when it is still there {} later", exact_duration(wait))
        }
    };
    let pick = match rule.pick {
        Pick::All => "",
        _ if !step.action.is_act() => "",
        Pick::MostCpu => " (the one with most CPU)",
        Pick::MostMemory => " (the one with most memory)",
        Pick::Newest => " (the newest)",
    };
    let hours = if step.hours.is_always() { String::new() } else { format!(", only in the hours `{}`", step.hours) };
    let asked = step.ask.map(|ask| format!(", after whose it is was asked for {}", exact_duration(ask)));
    format!("{at} {what}{pick}{hours}{}", asked.unwrap_or_default())
}
