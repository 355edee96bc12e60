//! Whether the person whose program it is is asked before a step, and what he may decide: `ask` of a step, `keep` and `unasked` of a
//! rule.

use std::fmt;
use std::ops::Range;
use std::time::Duration;

use toml::Spanned;

use super::keys::{self, Reading};
use super::section::{Section, Source};
use super::{Action, Rule, options};
use crate::diag::Diagnostic;
use crate::subject::Judged;
use crate::text::counted;
use crate::units::exact_duration;

/// Nobody reads and decides in less.
const SHORTEST: Duration = Duration::from_secs(5);

/// Who has not answered by then is not there.
const LONGEST: Duration = Duration::from_secs(600);

/// The longest that a person may keep a program running by one answer.
const LONGEST_KEEP: Duration = Duration::from_secs(24 * 3600);

/// How far the person whose program it is may let it run against the rule: without it, not at all.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Keep {
    /// So long by one answer.
    pub length: Duration,
    /// So many times in a case.
    pub times: u32,
}

impl fmt::Display for Keep {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}, {} a case", exact_duration(self.length), counted(self.times, "time"))
    }
}

/// What becomes of a step before which somebody is to be asked, and nobody can be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Unasked {
    /// It is taken.
    #[default]
    GoOn,
    /// It is not: it is tried again later.
    Leave,
}

impl Unasked {
    /// Both.
    pub const ALL: [Unasked; 2] = [Unasked::GoOn, Unasked::Leave];

    /// Its words, as in `unasked = "…"`.
    pub fn words(self) -> &'static str {
        match self {
            Unasked::GoOn => "go on",
            Unasked::Leave => "leave",
        }
    }
}

impl Rule {
    /// Whether somebody is asked before any of its steps.
    pub fn asks(&self) -> bool {
        self.ladder.iter().any(|step| step.ask.is_some())
    }
}

/// `ask = "60s"` of a step.
pub(super) fn ask(source: &mut Source<'_>, section: &Section<'_>, action: Action, judge: Judged) -> Option<Duration> {
    let ask = source.duration(section, "ask", [SHORTEST, LONGEST], "\"60s\"")?;
    let place: Range<usize> = section.get("ask").map_or_else(|| section.place(), Spanned::span);
    if !action.is_act() {
        let title = format!("`{action}` does nothing to a program: there is nothing to ask about");
        source.error(Diagnostic::at(place, title, "has no effect here").help("remove it, or ask before a later step"));
        return None;
    }
    if judge == Judged::Machine {
        let title = "a rule that judges the machine has no person to ask";
        let help = "remove it; or judge a `process`, an `app` or an `owner`, whose person that is";
        source.error(Diagnostic::at(place, title, "ask whom?").help(help));
        return None;
    }
    Some(ask)
}

/// `keep = { for = "30m", times = 2 }`.
pub(super) fn keep(source: &mut Source<'_>, section: &Section<'_>) -> Option<Keep> {
    let section = options::table(source, section, "keep", "keep", "{ for = \"30m\", times = 2 }")?;
    source.only(&section, &keys::KEEP, Reading::All);
    for (key, example) in [("for", "\"30m\""), ("times", "2")] {
        if section.get(key).is_none() {
            source.missing(&section, key, example);
        }
    }
    let length = source.duration(&section, "for", [Duration::from_secs(1), LONGEST_KEEP], "\"30m\"");
    let times = source.integer(&section, "times", [1, 100], "2");
    Some(Keep { length: length?, times: u32::try_from(times?).ok()? })
}

/// `unasked = "go on"`.
pub(super) fn unasked(source: &mut Source<'_>, section: &Section<'_>) -> Option<Unasked> {
    let of_others = |theirs: &str| match theirs {
        "act" | "continue" | "proceed" | "go" => Some("write `unasked = \"go on\"`".to_owned()),
        "wait" | "skip" | "never" | "spare" => Some("write `unasked = \"leave\"`".to_owned()),
        _ => None,
    };
    let word = source.word(section, "unasked", &Unasked::ALL.map(Unasked::words), of_others)?;
    Unasked::ALL.into_iter().find(|unasked| unasked.words() == word)
}
