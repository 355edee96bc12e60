//! A checkup for people: the verdict on the second line, then the findings, the worst first.

use std::time::Duration;

use sophron_core::checkup::{Finding, NOT_EXAMINED, Next, Since, Suspect};
use sophron_core::document::{Block, Document, Text};
use sophron_core::severity::Tone;
use sophron_core::text::counted;
use sophron_core::units::{scaled_duration, scaled_percent};

use super::Checkup;
use crate::ui::{document, table, when};

/// Where the text of a finding begins.
const INDENT: usize = 10;

pub(super) fn render(checkup: &Checkup) -> String {
    document::text(&told(checkup), table::terminal_width())
}

fn told(checkup: &Checkup) -> Document {
    let (snapshot, report) = (&checkup.scene.snapshot, &checkup.report);
    let looks = counted(checkup.scene.looks, "look");
    let mut document = Document::new(INDENT);
    document.push(Block::Head(vec![
        snapshot.machine.host.clone(),
        when::date_in(snapshot.moment.wall, checkup.zone.as_ref()),
        format!("over {}, {looks}", scaled_duration(checkup.scene.length)),
    ]));
    let worst = report.findings.iter().filter(|finding| finding.known.is_none()).map(|finding| finding.severity).max();
    document.push(Block::Verdict(worst.map(Tone::from), report.verdict.clone()));
    for finding in &report.findings {
        document.push(Block::Gap);
        tell(checkup, finding, &mut document);
    }
    document.push(Block::Gap);
    document.entry("fine", report.fine.iter().cloned());
    document.entry("not read", report.unread.iter().cloned());
    document.entry("not seen", [format!("no checkup looks at: {NOT_EXAMINED}")]);
    document.entry("watcher", [checkup.watcher.clone()]);
    let own = |own| {
        let share = scaled_percent(own);
        format!("{share} of a core went to Sophron itself: this checkup, and watchers where they run")
    };
    document.entry("Sophron", report.own.map(own));
    document
}

fn tell(checkup: &Checkup, finding: &Finding, document: &mut Document) {
    let (tone, word) = match &finding.known {
        Some(_) => (Tone::Faint, "known"),
        None => (Tone::from(finding.severity), finding.severity.word()),
    };
    let mut headline = finding.headline.clone();
    if let Some(since) = finding.since {
        headline.push_str(&format!(", {}", since_words(checkup, since)));
    }
    let known = finding.known.iter().map(|reason| format!("known: {reason}"));
    let figures = finding.figures.iter().map(|figure| {
        let limit = if figure.severity.is_some() { "limit" } else { "within its limit," };
        format!("{} ({limit} {})", figure.words, figure.limit)
    });
    let rest = known.chain(figures).chain(finding.remarks.iter().cloned()).map(Text::Words);
    document.toned(word, Some(tone), std::iter::once(Text::Marked(headline)).chain(rest));
    for (at, of) in finding.suspects.iter().enumerate() {
        document.entry(&format!("suspect {}", at + 1), suspect(checkup, at + 1, of));
    }
    document.entry("next", finding.next.iter().map(|next| of_next(checkup, next)));
}

fn of_next(checkup: &Checkup, next: &Next) -> Text {
    match next {
        Next::Say(advice) => Text::Words(advice.clone()),
        Next::Type(command, what) => {
            let suffix = &checkup.suffix;
            let command = if suffix.is_empty() { command.clone() } else { command.replace(" --for 5s", "") };
            Text::Command(format!("sophron {command}{suffix}"), (*what).to_string())
        }
    }
}

fn suspect(checkup: &Checkup, number: usize, suspect: &Suspect) -> Vec<Text> {
    let several = if suspect.members > 1 {
        format!(", {} processes, the heaviest named", suspect.members)
    } else {
        String::new()
    };
    let name = format!("{} {} ({}){several}: {}", suspect.app, suspect.id.checked(), suspect.owner, suspect.amount);
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
    // What speaks for the first one is the first advice.
    let honest = suspect.honest.iter().filter(|_| number > 1);
    let notes = suspect.notes.iter().chain(honest).cloned().map(Text::Words);
    [Text::Marked(name), Text::Words(facts.join("; "))].into_iter().chain(notes).collect()
}

fn since_words(checkup: &Checkup, since: Since) -> String {
    match since {
        Since::At(at) => {
            let lasts = checkup.scene.snapshot.moment.wall.duration_since(at).unsigned_abs();
            format!("since {} ({})", clock(checkup, at), scaled_duration(Duration::from_secs(lasts.as_secs())))
        }
        Since::OnAverage(length) => format!("on average over {}", scaled_duration(length)),
    }
}

/// The time of day; with the date where it is another day's.
fn clock(checkup: &Checkup, at: jiff::Timestamp) -> String {
    when::clock_or_date(at, checkup.scene.snapshot.moment.wall, checkup.zone.as_ref())
}
