//! What the history of usage adds: it reaches further than samples do, and knows what an app does now and then.

use std::collections::BTreeMap;

use jiff::SignedDuration;

use crate::usage::History;

/// An hour counts in which an app was there for so long, seconds; and so many hours there must be.
const SEEN: f64 = 600.0;
const LEAST: usize = 20;

/// What an app did at most in 19 of 20 hours, over a longer time: what comes more often than that is usual, and a runaway is rarer.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Most {
    /// CPU of all its processes, percent of one core.
    pub cpu: f64,
    /// What one of its processes held, bytes.
    pub held: f64,
}

/// The same of all apps, by the owner's user ID and the app's name.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Longer {
    /// Over how many days.
    pub days: i64,
    /// The apps.
    pub apps: BTreeMap<(u32, String), Most>,
}

impl Longer {
    /// What a history tells of the time before the last `apart`; none where it does not reach further back.
    pub fn of(history: &History, apart: SignedDuration) -> Option<Longer> {
        let (first, end) = history.span()?;
        let until = end.checked_sub(apart).ok().filter(|until| *until > first)?;
        let mut hours: BTreeMap<(u32, String), (Vec<f64>, Vec<f64>)> = BTreeMap::new();
        for row in history.rows.iter().take_while(|row| row.start < until) {
            for (app, hour) in row.apps.iter().filter(|(_, hour)| hour.seconds >= SEEN) {
                let (cpu, held) = hours.entry((app.uid, app.app.clone())).or_default();
                cpu.push(100.0 * hour.accounted() / hour.seconds);
                held.push(hour.held / f64::from(hour.most.max(1)));
            }
        }
        let apps = hours.into_iter().filter(|(_, (cpu, _))| cpu.len() >= LEAST);
        let apps = apps.map(|(app, (cpu, held))| (app, Most { cpu: most_of(cpu), held: most_of(held) })).collect();
        let days = end.duration_since(first).as_hours() / 24;
        (days > 0).then_some(Longer { days, apps })
    }
}

/// Of 19 in 20 the greatest.
fn most_of(mut of: Vec<f64>) -> f64 {
    let place = (of.len() * 19 / 20).min(of.len().saturating_sub(1));
    of.sort_by(f64::total_cmp);
    of.get(place).copied().unwrap_or(0.0)
}
