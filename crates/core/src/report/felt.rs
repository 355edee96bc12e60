//! How the machine felt to whoever sat at it: by how long programs stood still.

use std::time::Duration;

use jiff::Timestamp;

use super::collect::{Minute, Setting, Stretch};
use crate::checkup::Watched;
use crate::severity::{Severity, Tone};

/// Figures of which waiting is told.
pub(super) const WAITING: [Watched; 3] = [Watched::StallCpu, Watched::StallMemory, Watched::StallIo];

/// How a minute felt.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Felt {
    /// Outside the hours in which somebody works.
    NotCounted,
    /// Hardly anybody waited.
    Smooth,
    /// It was felt.
    Slower,
    /// Programs seemed to hang.
    HeldUp,
}

impl Felt {
    /// In words.
    pub fn word(self) -> &'static str {
        match self {
            Felt::NotCounted => "outside the hours",
            Felt::Smooth => "smooth",
            Felt::Slower => "slower",
            Felt::HeldUp => "held up",
        }
    }

    pub(super) fn tone(self) -> Option<Tone> {
        match self {
            Felt::NotCounted => Some(Tone::Faint),
            Felt::Smooth => None,
            Felt::Slower => Some(Tone::Notice),
            Felt::HeldUp => Some(Tone::Critical),
        }
    }
}

/// By the kernel's shares of time stood still. Where there are none, nothing is known of waiting, and only a full CPU or memory is
/// felt.
pub(super) fn of_minute(number: i64, minute: &Minute, setting: &Setting) -> Felt {
    let at = Timestamp::from_second(number * 60).unwrap_or_default();
    if setting.hours.as_ref().is_some_and(|hours| !hours.covers(at, &setting.zone)) {
        return Felt::NotCounted;
    }
    let weigh = |watched: &Watched| setting.checkup.limits.weigh(*watched, minute.mean(*watched)?);
    let known = WAITING.iter().any(|watched| minute.mean(*watched).is_some());
    let worst = match known {
        true => WAITING.iter().filter_map(weigh).max(),
        false => [Watched::Cpu, Watched::MemoryAvailable].iter().filter_map(weigh).max(),
    };
    match worst {
        Some(Severity::Critical) => Felt::HeldUp,
        Some(_) => Felt::Slower,
        None => Felt::Smooth,
    }
}

impl Stretch {
    /// For how long it felt so, minute by minute.
    pub fn felt(&self, felt: Felt) -> Duration {
        let of = self.minutes.iter().filter(|(at, minute)| of_minute(**at, minute, &self.setting) == felt);
        of.map(|(_, minute)| minute.seen()).sum()
    }
}
