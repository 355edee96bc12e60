//! The headline: what it comes to, in one line and a second one.

use jiff::SignedDuration;

use super::collect::{Run, Stretch};
use super::episodes::Episode;
use super::felt::Felt;
use super::times::{Times, length, long};
use crate::checkup::FindingKind;
use crate::order::InOrder;
use crate::severity::{Severity, Tone};
use crate::text::counted;

/// Most things of which the headline tells.
const MOST: usize = 3;

/// The worst things, or that nothing was short.
pub fn headline(episodes: &[Episode], times: &Times) -> (Option<Tone>, String) {
    let told: Vec<&Episode> = episodes.iter().filter(|episode| !episode.is_honest()).collect();
    let graver: Vec<&Episode> = told.iter().copied().filter(|episode| episode.severity > Severity::Notice).collect();
    let tone = told.first().map(|episode| Tone::from(episode.severity));
    let names = told.iter().filter_map(|episode| episode.first()).map(|first| first.app.as_str());
    if graver.is_empty() {
        let shortages: Vec<&Episode> = told.iter().copied().filter(|episode| is_felt(episode.kind)).collect();
        let words = parts(&shortages, times);
        let words = if words.is_empty() { parts(&told, times) } else { words };
        return match words.is_empty() {
            true => (None, "Nothing was short".to_owned()),
            false => (tone, sentence(&words.join("; "), names)),
        };
    }
    (tone, sentence(&parts(&graver, times).join("; "), names))
}

/// Whether whoever sits there feels it.
fn is_felt(kind: FindingKind) -> bool {
    matches!(kind, FindingKind::Memory | FindingKind::Cpu | FindingKind::Disk | FindingKind::Load)
}

/// One kind of shortage is told once, with all its time.
fn parts(episodes: &[&Episode], times: &Times) -> Vec<String> {
    let mut parts: Vec<String> = Vec::new();
    let mut kinds: Vec<FindingKind> = Vec::new();
    for episode in episodes {
        if is_felt(episode.kind) && kinds.contains(&episode.kind) {
            continue;
        }
        kinds.push(episode.kind);
        let same = episodes.iter().filter(|other| is_felt(episode.kind) && other.kind == episode.kind);
        let mut spans: Vec<Run> = same.flat_map(|other| other.spans.iter().copied()).collect();
        spans.order();
        let all: SignedDuration = spans.iter().map(|(from, until)| until.duration_since(*from)).sum();
        let when = times.when(&spans);
        let part = match short_name(episode) {
            Some(what) => format!("{what} for {} {when}", length(all)),
            None => subject(episode),
        };
        if !parts.contains(&part) {
            parts.push(part);
        }
    }
    let more = parts.len().saturating_sub(MOST);
    parts.truncate(MOST);
    if more > 0 {
        parts.push(format!("{more} more"));
    }
    parts
}

fn short_name(episode: &Episode) -> Option<&'static str> {
    Some(match episode.kind {
        FindingKind::Memory if episode.of.is_some() => "short of memory in a control group",
        FindingKind::Memory => "short of memory",
        FindingKind::Cpu => "short of CPU",
        FindingKind::Disk => "waiting on disk",
        FindingKind::Load => "a high load",
        _ => return None,
    })
}

/// What an episode is about, where it is no shortage.
pub(super) fn subject(episode: &Episode) -> String {
    let app = episode.first().map_or("a program", |first| first.app.as_str());
    match episode.kind {
        FindingKind::Grows => match episode.grew.iter().any(|grew| grew.ended) {
            true => format!("{app} grows until it ends"),
            false => format!("{app} grows"),
        },
        FindingKind::Core => {
            let cores = cores(episode);
            match episode.by_children {
                true => format!("short-lived children of {app} kept {cores} busy"),
                false => format!("{app} kept {cores} to itself"),
            }
        }
        FindingKind::Files => match &episode.of {
            Some(point) => format!("{point} was nearly full"),
            None => "a file system was nearly full".to_owned(),
        },
        _ => episode.said.clone(),
    }
}

/// `one core`, `2 cores`: as many as it kept busy on average.
pub(super) fn cores(episode: &Episode) -> String {
    let seconds = episode.length().as_secs_f64().max(1.0);
    let used = episode.first().map_or(0.0, |first| first.did.accounted()) / seconds;
    if used < 1.75 { "one core".to_owned() } else { format!("{used:.0} cores") }
}

/// `1 critical, 1 warning, 3 notices. For 9 h 31 m of 10 h 39 m hardly anything had to wait.`
pub fn second_line(stretch: &Stretch, episodes: &[Episode]) -> String {
    let count = |severity: Severity| {
        episodes.iter().filter(|episode| !episode.is_honest() && episode.severity == severity).count()
    };
    let (critical, warnings, notices) = (count(Severity::Critical), count(Severity::Warning), count(Severity::Notice));
    let mut counts: Vec<String> = Vec::new();
    if critical > 0 {
        counts.push(format!("{critical} critical"));
    }
    if warnings > 0 {
        counts.push(counted(warnings, "warning"));
    }
    if notices > 0 {
        counts.push(counted(notices, "notice"));
    }
    let counts = if counts.is_empty() { String::new() } else { format!("{}. ", counts.join(", ")) };
    format!("{counts}{}", waited(stretch))
}

/// For how long nobody had to wait.
pub(super) fn waited(stretch: &Stretch) -> String {
    let counted = stretch.seen() - stretch.felt(Felt::NotCounted);
    let smooth = stretch.felt(Felt::Smooth);
    let within = match &stretch.setting.hours {
        Some(hours) => format!(" within the hours {hours}"),
        None => String::new(),
    };
    match () {
        () if counted.is_zero() => format!("Nothing was seen{within}."),
        () if smooth.is_zero() => {
            format!("Programs had to wait in all of the {} that were seen{within}.", long(counted))
        }
        () if smooth == counted => {
            format!("In all of the {} that were seen{within} hardly anything had to wait.", long(counted))
        }
        () => format!("For {} of {}{within} hardly anything had to wait.", long(smooth), long(counted)),
    }
}

/// With a capital, unless it begins with one of those names: they are written as they are.
pub(super) fn sentence<'a>(text: &str, mut names: impl Iterator<Item = &'a str>) -> String {
    if names.any(|name| !name.is_empty() && text.starts_with(name)) { text.to_owned() } else { capital(text) }
}

pub(super) fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or(String::new(), |first| first.to_uppercase().chain(letters).collect())
}
