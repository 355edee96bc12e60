//! What watching with a rules file costs on this machine: measured, by watching with it for a short time, and with each of its rules
//! alone. Nothing is acted upon and nothing recorded.

use std::sync::Arc;
use std::time::Duration;

use jiff::tz::TimeZone;
use sophron_core::dispatch::{Beside, Dispatcher, Input, Settings, Wants};
use sophron_core::model::Snapshot;
use sophron_core::order::InOrder;
use sophron_core::protect::Protections;
use sophron_core::rules::{Rule, RuleSet};
use sophron_core::text::processes;
use sophron_core::units::exact_duration;
use sophron_linux::Sampler;
use sophron_linux::here::thread_time;

use crate::exit::{Exit, Failure};
use crate::source;
use crate::ui::table::{self, Column};
use crate::watcher;

/// Samples that are measured; two before them read everything, and are not.
const SAMPLES: u32 = 8;

/// Longest time between two of them: a watcher that samples less often costs less by as much.
const LONGEST: Duration = Duration::from_secs(2);

/// More of a core than that is worth a word.
const MUCH: f64 = 1.0;

/// CPU of watching, percent of one core.
pub struct Cost {
    every: Duration,
    processes: usize,
    all: f64,
    without_rules: f64,
    /// What each rule adds by itself, the most first.
    each: Vec<(String, f64)>,
}

/// A watcher by some of the rules.
struct Trial {
    sampler: Sampler,
    dispatcher: Dispatcher,
    snapshot: Snapshot,
    used: Duration,
}

impl Trial {
    fn new(rules: &RuleSet, only: impl Fn(&Rule) -> bool) -> Result<Trial, Failure> {
        let mut rules = rules.clone();
        rules.rules.retain(only);
        let rules = Arc::new(rules);
        let sampler = watcher::sampler(&Wants::of(&rules), false)?;
        let own = Some(std::process::id());
        let settings = Settings { shadow: true, assumed: false, own, only: None, zone: TimeZone::system() };
        let dispatcher = Dispatcher::new(settings, rules, Protections::default(), 1);
        Ok(Trial { sampler, dispatcher, snapshot: Snapshot::default(), used: Duration::ZERO })
    }

    fn tick(&mut self, counts: bool) -> Result<(), Failure> {
        let before = thread_time();
        self.sampler.sample(&mut self.snapshot).map_err(|error| Failure::of(Exit::Failed, error))?;
        let moment = self.snapshot.moment;
        let _ = self.dispatcher.step(moment, Input::Look(&mut self.snapshot, &mut self.sampler, &Beside::default()));
        if counts {
            self.used += thread_time().saturating_sub(before);
        }
        Ok(())
    }
}

impl Cost {
    /// Measures.
    ///
    /// # Errors
    /// No samples can be taken.
    pub fn measure(rules: &RuleSet) -> Result<Cost, Failure> {
        let mut all = Trial::new(rules, |_| true)?;
        let mut none = Trial::new(rules, |_| false)?;
        let each = rules.rules.iter().map(|rule| Trial::new(rules, |other| other.name == rule.name));
        let mut each: Vec<Trial> = each.collect::<Result<_, _>>()?;
        let apart = rules.every.min(LONGEST);
        source::measuring(apart * (SAMPLES + 1));
        for sample in 0..SAMPLES + 2 {
            if sample > 0 {
                std::thread::sleep(apart);
            }
            let mut trials = [&mut all, &mut none].into_iter().chain(&mut each);
            trials.try_for_each(|trial| trial.tick(sample >= 2))?;
        }
        source::measured();
        let percent = |trial: &Trial| {
            100.0 * trial.used.as_secs_f64() / f64::from(SAMPLES) / rules.every.as_secs_f64().max(f64::EPSILON)
        };
        let without_rules = percent(&none);
        let added = each.iter().map(|trial| (percent(trial) - without_rules).max(0.0));
        let mut each: Vec<(String, f64)> = rules.rules.iter().map(|rule| rule.name.to_string()).zip(added).collect();
        each.order_by(|a, b| b.1.total_cmp(&a.1));
        let processes = all.snapshot.processes.len();
        Ok(Cost { every: rules.every, processes, all: percent(&all), without_rules, each })
    }

    /// Where it is much: that, and what of it most.
    pub fn warning(&self) -> Option<(String, String)> {
        let most = self.each.first().filter(|(_, cost)| *cost > 0.1);
        let most = most.map(|(rule, cost)| format!(", {cost:.1}% of it for `{rule}`")).unwrap_or_default();
        let mend = format!("a longer `every` than {} costs less by as much", exact_duration(self.every));
        (self.all > MUCH)
            .then(|| (format!("watching with these rules takes {:.1}% of a core here{most}", self.all), mend))
    }

    /// As it is shown.
    pub fn text(&self) -> String {
        let columns = [Column::number("cpu, % of a core"), Column::text("of what")];
        let row = |cost: f64, what: String| vec![format!("{cost:.2}"), what];
        let mut rows = vec![
            row(self.all, "watching with all of the rules".to_owned()),
            row(self.without_rules, "watching without any".to_owned()),
        ];
        rows.extend(self.each.iter().map(|(rule, cost)| row(*cost, format!("more for {rule} alone"))));
        format!(
            "\nMeasured here, beside {}, with a sample every {}. The lookback is not in it. Rules that go by the same files cost less together than one by one.\n{}",
            processes(self.processes),
            exact_duration(self.every),
            table::render(&columns, &rows, table::terminal_width())
        )
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_much_is_said_with_whose_it_is() {
        let cost = |all: f64| Cost {
            every: Duration::from_secs(2),
            processes: 630,
            all,
            without_rules: 0.2,
            each: vec![("leak".to_owned(), 1.2), ("spin".to_owned(), 0.1)],
        };
        assert_eq!(cost(0.9).warning(), None);
        let (what, mend) = cost(1.6).warning().unwrap_or_default();
        assert_eq!(what, "watching with these rules takes 1.6% of a core here, 1.2% of it for `leak`");
        assert_eq!(mend, "a longer `every` than 2s costs less by as much");
    }
}
