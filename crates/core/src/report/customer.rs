//! The same for the person whose machine it is: plain words, and no figure that does not help him.

use std::collections::BTreeSet;

use super::cases::Case;
use super::collect::Stretch;
use super::episodes::Episode;
use super::felt::Felt;
use super::figures;
use super::headline::capital;
use super::times::{Times, length, long};
use crate::checkup::{FindingKind, Watched};
use crate::document::{Block, Document};
use crate::units::scaled_percent;

/// What stands at the foot.
pub(super) const WHAT_IT_LOOKS_AT: &str =
    "From the figures that Sophron kept on this computer. It looks at programs, not at what is in your documents.";

/// The whole of it; `suggest` is what the technician suggests.
pub fn customer(
    stretch: &Stretch,
    episodes: &[Episode],
    cases: &[Case],
    rehearsed: bool,
    suggest: &[String],
) -> Document {
    let times = Times::new(&stretch.setting.zone, stretch.from, stretch.until);
    let axis = figures::axis(stretch, &times);
    let told: Vec<&Episode> = episodes.iter().filter(|episode| !episode.is_honest()).collect();
    let (slow, other): (Vec<&Episode>, Vec<&Episode>) = told.iter().partition(|episode| slows(stretch, episode));
    let mut document = Document::new(4);
    document.push(Block::Head(vec![stretch.machine.host.clone(), times.whole(stretch.from, stretch.until)]));
    document.push(Block::Verdict(None, verdict(stretch, &slow)));
    document.push(Block::Paragraph(how_long(stretch)));
    document.push(Block::Plot(Box::new(figures::felt(stretch, &axis))));
    list(&mut document, "What slowed it down", slow.iter().map(|episode| slowed(episode, &times)).collect());
    list(&mut document, "What else was noticed", other.iter().filter_map(|episode| noticed(episode, &times)).collect());
    let done = done(cases, rehearsed, &times);
    let done = if done.is_empty() { vec!["Nothing: this is only what was seen.".to_owned()] } else { done };
    list(&mut document, "What was done", done);
    list(&mut document, "What we suggest", suggest.to_vec());
    list(&mut document, "What is fine", fine(stretch, episodes));
    document.push(Block::Gap);
    document.push(Block::Paragraph(WHAT_IT_LOOKS_AT.to_owned()));
    document
}

fn list(document: &mut Document, heading: &str, lines: Vec<String>) {
    if !lines.is_empty() {
        document.push(Block::Heading(heading.to_owned()));
        document.push(Block::List(lines));
    }
}

/// Whether it was felt while it lasted.
fn slows(stretch: &Stretch, episode: &Episode) -> bool {
    let shortage =
        matches!(episode.kind, FindingKind::Memory | FindingKind::Cpu | FindingKind::Disk | FindingKind::Load);
    let felt = stretch.windows.iter().filter(|window| window.felt >= Felt::Slower);
    let within = |start: jiff::Timestamp, until: jiff::Timestamp| {
        episode.spans.iter().any(|(from, to)| start < *to && until > *from)
    };
    shortage && felt.into_iter().any(|window| within(window.start, window.until))
}

fn verdict(stretch: &Stretch, slow: &[&Episode]) -> String {
    let held_up = stretch.felt(Felt::HeldUp);
    let hardly =
        if held_up.is_zero() { String::new() } else { format!(", and for {} hardly usable", spoken(long(held_up))) };
    match slow.iter().map(|episode| episode.spans.len()).sum::<usize>() {
        0 if held_up.is_zero() && stretch.felt(Felt::Slower).is_zero() => "The computer was never slow".to_owned(),
        0 => {
            let slow = held_up + stretch.felt(Felt::Slower);
            format!("The computer was slow for {} in all, now and then", spoken(long(slow)))
        }
        1 => format!("The computer was slow once{hardly}"),
        2 => format!("The computer was slow twice{hardly}"),
        times => format!("The computer was slow {times} times{hardly}"),
    }
}

/// `1 h 01 m` as people say it.
pub(super) fn spoken(told: String) -> String {
    let mut words = Vec::new();
    let mut rest = told.split(' ');
    while let (Some(number), Some(unit)) = (rest.next(), rest.next()) {
        let number = number.trim_start_matches('0');
        let unit = match unit {
            "d" => "day",
            "h" => "hour",
            "m" => "minute",
            _ => "second",
        };
        if !number.is_empty() {
            words.push(format!("{number} {unit}{}", if number == "1" { "" } else { "s" }));
        }
    }
    if words.is_empty() { told } else { words.join(" ") }
}

fn how_long(stretch: &Stretch) -> String {
    let all = stretch.seen() - stretch.felt(Felt::NotCounted);
    let smooth = stretch.felt(Felt::Smooth);
    let within = if stretch.setting.hours.is_some() { " of working time" } else { "" };
    if smooth.is_zero() {
        return format!("Programs had to wait in all of the {}{within} that were seen.", spoken(long(all)));
    }
    match smooth == all {
        true => format!("In all of the {}{within} nobody had to wait.", spoken(long(all))),
        false => format!("For {} of {}{within} nobody had to wait.", spoken(long(smooth)), spoken(long(all))),
    }
}

fn name(episode: &Episode) -> String {
    episode.first().map_or("several programs".to_owned(), |first| format!("the program {}", first.app))
}

fn slowed(episode: &Episode, times: &Times) -> String {
    let spans: Vec<String> = episode.spans.iter().take(3).map(|span| times.span(*span)).collect();
    let more = episode.spans.len().saturating_sub(3);
    let more = if more > 0 { format!(", and {more} times more") } else { String::new() };
    let when = capital(&times.when(&episode.spans));
    let what = match episode.kind {
        FindingKind::Memory => format!("{} filled the memory. Everything else had to wait for room.", name(episode)),
        FindingKind::Disk => {
            format!("{} used the disk all the time. Everything else had to wait for it.", name(episode))
        }
        FindingKind::Cpu => {
            format!("{} kept the processor busy. Everything else had to wait for its turn.", name(episode))
        }
        _ => "many programs wanted to work at the same time.".to_owned(),
    };
    format!("{when}, {}{more}: {what}", spans.join(", "))
}

fn noticed(episode: &Episode, times: &Times) -> Option<String> {
    let first = episode.first();
    Some(match episode.kind {
        FindingKind::Grows => format!(
            "{} takes more memory the longer it runs: save your work in it and start it anew now and then.",
            capital(&name(episode))
        ),
        FindingKind::Core => format!(
            "{} kept itself busy for {} ({}). Nothing else had to wait for it.",
            capital(&name(episode)),
            spoken(length(episode.length())),
            episode.spans.iter().map(|span| times.span(*span)).collect::<Vec<_>>().join(", ")
        ),
        FindingKind::Files => "A disk is nearly full: room should be made before programs fail to save.".to_owned(),
        FindingKind::Memory => format!("Memory ran low, because of {}.", name(episode)),
        FindingKind::Disk | FindingKind::Cpu | FindingKind::Load => {
            format!("{} worked hard, and hardly anything had to wait for it.", capital(&name(episode)))
        }
        FindingKind::Stuck | FindingKind::Frozen | FindingKind::Suspended => {
            format!("{} stood still for a time.", capital(&first.map_or("a program".to_owned(), |_| name(episode))))
        }
        FindingKind::Zombies | FindingKind::Unseen => return None,
    })
}

/// What was done to whom; told to a person nothing is done that was only rehearsed.
fn done(cases: &[Case], rehearsed: bool, times: &Times) -> Vec<String> {
    if rehearsed {
        return Vec::new();
    }
    let mut lines = Vec::new();
    let mut seen: BTreeSet<(String, String)> = BTreeSet::new();
    for case in cases {
        for (at, word) in
            case.steps.iter().filter(|(_, word)| !word.starts_with("told") && !word.ends_with("held back"))
        {
            let whom = if case.app.is_empty() { "a program" } else { case.app.as_str() };
            if seen.insert((whom.to_owned(), format!("{word}{at}"))) {
                lines.push(format!("{}: {whom} was {word}.", times.clock(*at)));
            }
        }
    }
    lines
}

fn fine(stretch: &Stretch, episodes: &[Episode]) -> Vec<String> {
    let found = |kind: FindingKind| episodes.iter().any(|episode| episode.kind == kind && !episode.is_honest());
    let mut lines = Vec::new();
    if !found(FindingKind::Cpu) {
        lines.push("The processor never had too much to do.".to_owned());
    }
    if !found(FindingKind::Memory) {
        lines.push("There was always enough memory.".to_owned());
    }
    if !found(FindingKind::Disk) {
        lines.push("Programs never had to wait long for the disk.".to_owned());
    }
    if !found(FindingKind::Files)
        && let Some(full) = stretch.worst(Watched::FilesFull, stretch.from, stretch.until)
    {
        lines.push(format!("The disk has room: it is {} full.", scaled_percent(full)));
    }
    lines
}
