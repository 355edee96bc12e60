//! Plain words for the person whose program it was, who does not know this one.

use std::time::Duration;

use jiff::Timestamp;

use super::{Evidence, Kind, Record, SubjectRecord};
use crate::act::{Came, Verb};
use crate::text::counted;
use crate::units::{Value, parse_duration, scaled_duration};
use crate::window::Function;

/// A letter about the process that was acted on; of a case in which nothing was done, about the one that broke the rule.
/// `clock` and `date` write a moment as people do.
pub(super) fn letter(
    records: &[&Record],
    opening: &Record,
    clock: impl Fn(Timestamp) -> String,
    date: impl Fn(Timestamp) -> String,
) -> String {
    let acts: Vec<(&Record, &str)> = records.iter().filter_map(|record| Some((*record, done(record)?))).collect();
    let first_acted = acts.iter().find_map(|(record, _)| record.subject.as_ref());
    let Some(subject) = first_acted.or(opening.subject.as_ref()) else {
        return "This was about the machine as a whole: nobody's program was touched.".to_owned();
    };
    // In a case on several, its own figures stand where it was announced.
    let intent = records.iter().find(|record| {
        record.kind == Kind::Intent && record.subject.as_ref().is_some_and(|other| other.id == subject.id)
    });
    let own = intent.and_then(|record| record.subject.as_ref()).unwrap_or(subject);
    let evidence = opening.evidence.as_ref();
    let is_of_one = opening.subject.as_ref().is_some_and(|judged| judged.of.is_none() && judged.id == subject.id);
    let figure = evidence.filter(|_| is_of_one).and_then(of_program).or_else(|| of_its_own(own));
    let figure = figure.map(|figure| format!(": it {figure}")).unwrap_or_default();
    let because = evidence.filter(|_| !is_of_one).map(|evidence| because(evidence, opening)).unwrap_or_default();
    let closed = |record: &&&Record| matches!(record.kind, Kind::Calm | Kind::Ended | Kind::Left);
    let lasted = match records.iter().find(closed) {
        Some(over) => {
            let lasted = Duration::try_from(over.at.duration_since(opening.at)).unwrap_or_default();
            format!("until {}, for {}", clock(over.at), scaled_duration(lasted))
        }
        None => "and it was not over when this was written".to_owned(),
    };
    let told = acts.iter().map(|(record, did)| {
        let other = record.subject.as_ref().filter(|other| other.id != subject.id);
        let whose = other.map(|other| format!("of your {} ", other.app)).unwrap_or_default();
        format!("{} {whose}{did}", clock(record.at))
    });
    let told: Vec<String> = told.collect();
    let asked = asked(records, &clock);
    let told = match told.is_empty() {
        true => "Nothing was done to it; people were told.".to_owned(),
        false => format!("What was done: {}.", told.join("; ")),
    };
    let ended = records.iter().any(|record| record.tells_an_end());
    let end = if ended { " If you miss something that was not saved, tell us: we have the exact times." } else { "" };
    format!(
        "Hello {}, this is about your program {} on {}{figure}{because}. That was so from {}, {lasted}; the rule for it is called {}. {asked}{told}{end}",
        subject.owner,
        subject.app,
        opening.host,
        date(opening.at),
        opening.rule.as_deref().unwrap_or("unknown"),
    )
}

/// Whether he was asked, and what became of it.
fn asked(records: &[&Record], clock: impl Fn(Timestamp) -> String) -> String {
    let turn = |record: &&&Record| record.kind == Kind::Answer && record.came() != Some(&Came::TurnedDown);
    let asked = records.iter().find(|record| record.kind == Kind::Asked && record.came() == Some(&Came::Shown));
    let Some(asked) = asked else { return String::new() };
    let answer = match records.iter().rfind(turn).map(|record| (record.came(), &record.answer)) {
        Some((Some(Came::Answered), Some(answer))) => format!("the answer was: {}", answer.answer),
        Some((Some(Came::Unanswered), _)) => "nobody answered".to_owned(),
        _ => "it was over before an answer".to_owned(),
    };
    format!("You were asked at {}; {answer}. ", clock(asked.at))
}

/// Why somebody's program was chosen where not it alone was judged.
fn because(evidence: &Evidence, opening: &Record) -> String {
    let of = opening.subject.as_ref().and_then(|subject| subject.of.as_ref());
    match (of, evidence.field.as_deref()) {
        (_, Some("machine.memory.available")) => ", when the machine had little memory left".to_owned(),
        (_, Some(field)) if field.starts_with("machine.") => ", when the machine as a whole was short".to_owned(),
        (Some(of), _) => format!(", as part of {}, which together used too much", of.name),
        _ => String::new(),
    }
}

/// `held 812 MiB of memory`: the reading of what the rule goes by, in words; `None` where it says nothing of a program.
pub fn of_program(evidence: &Evidence) -> Option<String> {
    let reading = evidence.reading_in_words()?;
    let quantity = evidence.field.as_deref()?;
    let Some((function, arguments)) = quantity.strip_suffix(')').and_then(|inner| inner.split_once('(')) else {
        return of_field(quantity, &reading);
    };
    let mut arguments = arguments.split(", ");
    let field = arguments.next()?;
    let span = arguments.last().and_then(|window| parse_duration(window).ok()).map(spelled);
    let over = |joint: &str| span.as_ref().map(|span| format!("{joint} {span}")).unwrap_or_default();
    match Function::named(function)? {
        Function::Avg => Some(of_field(field, &reading)? + &over(", on average over")),
        Function::Peak => Some(of_field(field, &reading)? + &over(", at the most, within")),
        Function::Low => Some(of_field(field, &format!("at least {reading}"))? + &over(" all through")),
        Function::Growth | Function::Climb => {
            let then = span.map_or("when it was first seen".to_owned(), |span| format!("{span} before"));
            Some(format!("{} than {then}", of_field(field, &format!("{reading} more"))?))
        }
        Function::Slope if field.starts_with("memory") => Some(format!("held memory that grew by {reading}")),
        Function::Slope | Function::Until | Function::Typical => None,
    }
}

/// `5 minutes`.
fn spelled(span: Duration) -> String {
    match span.as_secs() {
        seconds if seconds > 0 && seconds % 3600 == 0 => counted(seconds / 3600, "hour"),
        seconds if seconds > 0 && seconds % 60 == 0 => counted(seconds / 60, "minute"),
        seconds => counted(seconds, "second"),
    }
}

fn of_field(field: &str, reading: &str) -> Option<String> {
    Some(match field {
        "cpu" => format!("used {reading} of a core"),
        "cpu.part" => format!("used {reading} of the whole machine's cores"),
        "cpu.children" => format!("started programs that ended at once and used {reading} of a core together"),
        "cpu.time" => format!("had used {reading} of computing time"),
        "memory" | "memory.held" | "memory.private" | "memory.proportional" => format!("held {reading} of memory"),
        "memory.part" => format!("held {reading} of all memory"),
        "memory.swapped" => format!("had {reading} of memory swapped out to the disk"),
        "memory.virtual" => format!("had {reading} of address space"),
        "disk" => format!("read and wrote {reading}"),
        "disk.read" => format!("read {reading} from the disk"),
        "disk.write" => format!("wrote {reading} to the disk"),
        "faults" => format!("waited for the disk {reading} times a second, for want of memory"),
        "threads" => format!("had {reading} threads"),
        "files" => format!("had {reading} files open"),
        "children" => format!("had started {reading} other processes"),
        "instances" => format!("ran {reading} times at once"),
        "age" => format!("had been running for {reading}"),
        field if field.starts_with("machine.") => return None,
        _ => format!("came to {reading}"),
    })
}

/// What the process itself used when it was acted on.
fn of_its_own(subject: &SubjectRecord) -> Option<String> {
    let held = subject.held.map(|held| format!("held {} of memory", Value::Size(held).scaled()));
    let cpu = subject.cpu.filter(|cpu| *cpu >= 1);
    let cpu = cpu.map(|cpu| format!("used {} of a core", Value::Percent(cpu.into()).scaled()));
    let both: Vec<String> = held.into_iter().chain(cpu).collect();
    (!both.is_empty()).then(|| both.join(" and "))
}

/// What was done, as it came out.
fn done(record: &Record) -> Option<&'static str> {
    Some(match (&record.kind, record.verb(), record.came()?) {
        (Kind::Restored, _, Came::Resumed) => "it went on",
        (Kind::Restored, _, Came::Restored) => "that was taken back",
        (Kind::Outcome, Some(Verb::Lower), Came::Lowered) => "it was made to give way to other programs",
        (Kind::Outcome, Some(Verb::Suspend), Came::Suspended) => "it was held for a while",
        (Kind::Outcome, Some(Verb::Terminate), Came::Ended) => "it was asked to end, and ended",
        (Kind::Outcome, Some(Verb::Terminate), Came::EndedByForce) => {
            "it did not end when asked, and was ended by force"
        }
        (Kind::Outcome, Some(Verb::Restart), Came::Restarted) => "it was started anew",
        _ => return None,
    })
}
