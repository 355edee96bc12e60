//! A checkup for people: the verdict on the second line, then the findings, the worst first.

use std::time::Duration;

use sophron_core::checkup::{Finding, NOT_EXAMINED, Next, Since, Suspect};
use sophron_core::units::{scaled_duration, scaled_percent};

use super::Checkup;
use crate::ui::style::{Label, Styled};
use crate::ui::{paragraph, table, when};

/// Where the text of a finding begins.
const INDENT: usize = 10;

pub(super) fn render(checkup: &Checkup) -> String {
    let width = table::terminal_width();
    let (snapshot, report) = (&checkup.scene.snapshot, &checkup.report);
    let looks = if checkup.scene.looks == 1 { "1 look".to_owned() } else { format!("{} looks", checkup.scene.looks) };
    let head = [
        Styled(Label::Heading, &snapshot.machine.host).to_string(),
        when::date_in(snapshot.moment.wall, checkup.zone.as_ref()),
        format!("over {}, {looks}", scaled_duration(checkup.scene.length)),
    ];
    let mut text = table::flow(&head, width);
    let worst = report.findings.iter().filter(|finding| finding.known.is_none()).map(|finding| finding.severity).max();
    let label = worst.map_or(Label::Heading, Label::from);
    text.push_str(&paragraph::styled("", 0, &report.verdict, width, label));
    for finding in &report.findings {
        text.push('\n');
        text.push_str(&one(checkup, finding, width));
    }
    text.push('\n');
    let mut section = |name: &str, lines: &[String]| {
        for (at, line) in lines.iter().enumerate() {
            text.push_str(&paragraph::under(if at == 0 { name } else { "" }, INDENT, line, width));
        }
    };
    section("fine", &report.fine);
    section("not read", &report.unread);
    section("not seen", &[format!("no checkup looks at: {NOT_EXAMINED}")]);
    section("watcher", std::slice::from_ref(&checkup.watcher));
    if let Some(own) = report.own {
        section(
            "Sophron",
            &[format!(
                "{} of a core went to Sophron itself: this checkup, and watchers where they run",
                scaled_percent(own)
            )],
        );
    }
    text
}

fn one(checkup: &Checkup, finding: &Finding, width: Option<usize>) -> String {
    let (label, word) = match &finding.known {
        Some(_) => (Label::Faint, "known"),
        None => (Label::from(finding.severity), finding.severity.word()),
    };
    let mut headline = finding.headline.clone();
    if let Some(since) = finding.since {
        headline.push_str(&format!(", {}", since_words(checkup, since)));
    }
    let mut text = paragraph::styled(word, INDENT, &headline, width, label);
    let mut say = |line: &str| text.push_str(&paragraph::under("", INDENT, line, width));
    if let Some(reason) = &finding.known {
        say(&format!("known: {reason}"));
    }
    for figure in &finding.figures {
        let limit = if figure.severity.is_some() { "limit" } else { "within its limit," };
        say(&format!("{} ({limit} {})", figure.words, figure.limit));
    }
    for remark in &finding.remarks {
        say(remark);
    }
    for (at, of) in finding.suspects.iter().enumerate() {
        text.push_str(&suspect(checkup, at + 1, of, width));
    }
    for (at, next) in finding.next.iter().enumerate() {
        let line = match next {
            Next::Say(advice) => advice.clone(),
            Next::Type(command, what) => {
                let suffix = &checkup.suffix;
                let command = if suffix.is_empty() { command.clone() } else { command.replace(" --for 5s", "") };
                format!("{}   {what}", Styled(Label::Notice, format!("sophron {command}{suffix}")))
            }
        };
        text.push_str(&paragraph::under(if at == 0 { "next" } else { "" }, INDENT, &line, width));
    }
    text
}

fn suspect(checkup: &Checkup, number: usize, suspect: &Suspect, width: Option<usize>) -> String {
    let several = if suspect.members > 1 {
        format!(", {} processes, the heaviest named", suspect.members)
    } else {
        String::new()
    };
    let name = format!("{} {} ({}){several}: {}", suspect.app, suspect.id.checked(), suspect.owner, suspect.amount);
    let mut text = paragraph::styled(&format!("suspect {number}"), INDENT, &name, width, Label::Heading);
    let mut facts = vec![format!(
        "started {} ({} ago)",
        clock(checkup, suspect.started),
        scaled_duration(Duration::from_secs(suspect.age.as_secs()))
    )];
    if !suspect.started_by.is_empty() {
        facts[0].push_str(&format!(" by {}", suspect.started_by.join(", from ")));
    }
    facts.push(match &suspect.path {
        Some(path) => format!("runs {path}{}", if suspect.path_proven { "" } else { " (by its own account)" }),
        None => "which file it runs may not be read".to_owned(),
    });
    facts.extend(suspect.unit.as_ref().map(|unit| format!("unit {unit}")));
    text.push_str(&paragraph::under("", INDENT, &facts.join("; "), width));
    // What speaks for the first one is the first advice.
    let honest = suspect.honest.iter().filter(|_| number > 1);
    for note in suspect.notes.iter().chain(honest) {
        text.push_str(&paragraph::under("", INDENT, note, width));
    }
    text
}

fn since_words(checkup: &Checkup, since: Since) -> String {
    match since {
        Since::At(at) => {
            let lasts = checkup.scene.snapshot.moment.wall.duration_since(at).unsigned_abs();
            format!("since {} ({})", clock(checkup, at), scaled_duration(Duration::from_secs(lasts.as_secs())))
        }
        Since::AtLeast(length) => format!("for at least {}", scaled_duration(length)),
    }
}

/// The time of day; with the date where it is another day's.
fn clock(checkup: &Checkup, at: jiff::Timestamp) -> String {
    when::clock_or_date(at, checkup.scene.snapshot.moment.wall, checkup.zone.as_ref())
}
