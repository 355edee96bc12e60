//! Functions over time: what they come to, when they are unknown, and that slots are what their definition says.

use std::collections::VecDeque;
use std::time::Duration;

use proptest::prelude::*;
use sophron_core::condition::{Condition, Place, Quantity, Truth};
use sophron_core::facts::Facts;
use sophron_core::units::Value;
use sophron_core::window::numbers::{Number, Numbers};
use sophron_core::window::{History, SLOTS, Series, Spec};
use sophron_testkit::{World, process};

use crate::script::MIB;

const PID: u32 = 7;

/// A process whose readings are told second by second, and one function over them.
struct Told {
    world: World,
    condition: Condition,
    specs: Vec<Spec>,
    history: History,
}

impl Told {
    fn new(condition: &str, every: u64) -> Told {
        let condition =
            Condition::parse(condition, Place::Any).unwrap_or_else(|errors| panic!("{condition}: {errors:?}"));
        let specs: Vec<Spec> = condition.series().into_iter().map(Spec::of).collect();
        let history = History::new(&specs, Duration::from_millis(every), 0);
        Told { world: World::new(vec![process(PID, "labelpress")]), condition, specs, history }
    }

    fn tick(&mut self, passed: u64, change: impl FnOnce(&mut World)) {
        self.world.pass(Duration::from_millis(passed));
        change(&mut self.world);
        let snapshot = self.world.snapshot();
        let facts = Facts::new(&snapshot.processes[0], &snapshot.machine);
        self.history.feed(&self.specs, snapshot.moment.monotonic, &facts);
    }

    fn held(&mut self, passed: u64, mib: Option<u64>) {
        self.tick(passed, |world| {
            let bytes = mib.map(|mib| mib * MIB);
            world.process(PID).memory_held = bytes;
            world.machine.memory_available = bytes;
        });
    }

    fn value(&self) -> Option<Value> {
        let snapshot = self.world.snapshot();
        let facts = Facts::new(&snapshot.processes[0], &snapshot.machine);
        self.history.value(self.series(), &facts)
    }

    fn series(&self) -> &Series {
        self.condition.series()[0]
    }

    fn truth(&self) -> Truth {
        let snapshot = self.world.snapshot();
        let facts = Facts::new(&snapshot.processes[0], &snapshot.machine).with_history(Some(&self.history));
        self.condition.evaluate(&facts)
    }
}

#[test]
fn a_window_that_is_not_full_is_unknown() {
    let mut told = Told::new("peak(memory.held, 60s) > 750 MiB", 2000);
    for _ in 0..29 {
        told.held(2000, Some(800));
        assert_eq!(told.truth(), Truth::Unknown, "a fresh start is its own warm-up");
    }
    told.held(2000, Some(100));
    assert_eq!(told.truth(), Truth::True, "full: the oldest reading is the window less 1.5 intervals old");
    told.history.clear();
    told.held(2000, Some(800));
    assert_eq!(told.truth(), Truth::Unknown, "after a gap what was before says nothing");
}

#[test]
fn the_mean_of_cpu_is_cpu_time_over_time_and_no_mean_of_shares() {
    let mut told = Told::new("avg(cpu, 1m) > 90%", 1000);
    // Ten seconds at full speed, then none, whatever the momentary share says.
    for second in 0..90 {
        told.tick(1000, |world| {
            let lamp = world.process(PID);
            lamp.cpu = Some(100.0);
            lamp.cpu_time += Duration::from_secs(if (60..70).contains(&second) { 1 } else { 0 });
        });
    }
    let Some(Value::Percent(mean)) = told.value() else { panic!("it is full") };
    assert!((mean - 100.0 * 10.0 / 60.0).abs() < 1.0, "{mean}");
}

#[test]
fn growth_climb_slope_and_until() {
    // A leak of 1 MiB a second under a program that fills and empties.
    let mut growth = Told::new("growth(memory.held, 2m) > 1 MiB", 1000);
    let mut since = Told::new("growth(memory.held) > 1 MiB", 1000);
    let mut climb = Told::new("climb(memory.held, 2m) > 1 MiB", 1000);
    let mut slope = Told::new("slope(memory.held, 2m) > 1 MiB/s", 1000);
    let mut until = Told::new("until(memory.held, 700 MiB, 2m) < 1h", 1000);
    for second in 0..300 {
        let saw = if second % 20 == 19 { 50 } else { 0 };
        climb.held(1000, Some(100 + second / 10 + saw));
        for told in [&mut growth, &mut since, &mut slope, &mut until] {
            told.held(1000, Some(100 + second));
        }
    }
    let size = |told: &Told| match told.value() {
        Some(Value::Size(bytes)) => bytes / MIB,
        other => panic!("{other:?}"),
    };
    assert!((118..=122).contains(&size(&growth)), "{}", size(&growth));
    assert_eq!(size(&since), 299);
    assert!((8..=10).contains(&size(&climb)), "the low-water mark rose by 0.1 MiB a second: {}", size(&climb));
    let Some(Value::Rate(rate)) = slope.value() else { panic!("it is full") };
    assert!((rate / MIB as f64 - 1.0).abs() < 0.01, "{rate}");
    let Some(Value::Duration(left)) = until.value() else { panic!("it is full") };
    assert!((295..=305).contains(&left.as_secs()), "399 MiB now, 1 MiB/s, 700 MiB: {left:?}");
    // Not approaching: never. Past it: now.
    for _ in 0..300 {
        until.held(1000, Some(399));
    }
    assert_eq!(until.value(), Some(Value::Duration(Duration::MAX)));
    assert_eq!(until.value().unwrap().to_json(), "never");
    until.held(1000, Some(701));
    assert_eq!(until.value(), Some(Value::Duration(Duration::ZERO)));
    // What there should be enough of falls to its level.
    let mut falls = Told::new("until(machine.memory.available, 256 MiB, 2m) < 15m", 1000);
    for second in 0..150 {
        falls.tick(1000, |world| world.machine.memory_available = Some((2000 - second) * MIB));
    }
    let Some(Value::Duration(left)) = falls.value() else { panic!("it is full") };
    assert!((1550..=1650).contains(&left.as_secs()), "{left:?}");
}

#[test]
fn what_is_usual_is_unknown_until_there_is_a_history() {
    let mut told = Told::new("memory.held > typical(memory.held)", 1000);
    told.held(1000, Some(800));
    assert_eq!(told.truth(), Truth::Unknown);
}

/// The slots of a window as their definition has them, from all readings ever: slot number and readings, in order.
fn slots(readings: &[(u64, Option<u64>)], window: u64) -> Vec<(u64, Vec<u64>)> {
    let width = window / SLOTS as u64;
    let last = readings.last().map_or(0, |(at, _)| at / width);
    let mut slots: Vec<(u64, Vec<u64>)> = Vec::new();
    for (at, value) in readings {
        let Some(value) = value else { continue };
        match slots.last_mut() {
            Some((number, values)) if *number == at / width => values.push(*value),
            _ => slots.push((at / width, vec![*value])),
        }
    }
    slots.retain(|(number, _)| number + SLOTS as u64 >= last);
    slots
}

proptest! {
    #[test]
    fn slots_are_what_their_definition_says(
        course in prop::collection::vec((1u64..4000, prop::option::weighted(0.9, 0u64..10_000)), 1..400),
        window in prop::sample::select(vec![6_000u64, 60_000, 120_000, 600_000]),
    ) {
        let begin = World::new(Vec::new()).moment.monotonic.as_millis() as u64;
        let mut at = begin;
        let readings: Vec<(u64, Option<u64>)> = course.iter().map(|(passed, value)| { at += passed; (at, *value) }).collect();
        let slots = slots(&readings, window);
        let mean = |values: &[u64]| values.iter().sum::<u64>() as f64 / values.len() as f64;
        let since = slots.first().map(|(number, _)| (number * (window / SLOTS as u64)).max(readings.iter().find(|(_, value)| value.is_some()).unwrap().0));
        let full = since.is_some_and(|since| at - since + 1500 >= window);
        // What costs a file of the process is read once a slot, but for a peak; what comes with every sample is taken of each.
        let held = ["peak", "low", "avg", "growth"].map(|function| (function, "memory.held", function != "peak"));
        let available = ["low", "avg"].map(|function| (function, "machine.memory.available", false));
        for (function, field, once) in held.into_iter().chain(available) {
            let slots: Vec<(u64, Vec<u64>)> =
                slots.iter().map(|(number, values)| (*number, values[..if once { 1 } else { values.len() }].to_vec())).collect();
            let each = |of: fn(&[u64]) -> u64| slots.iter().map(|(_, values)| of(values)).collect::<Vec<_>>();
            let mut told = Told::new(&format!("{function}({field}, {window}ms) > 1 MiB"), 1000);
            for (passed, value) in &course {
                told.held(*passed, *value);
            }
            let value = told.value();
            prop_assert_eq!(value.is_some(), full && (function != "growth" || course.last().unwrap().1.is_some()), "{}", function);
            let Some(Value::Size(bytes)) = value else { continue };
            let found = bytes as f64 / MIB as f64;
            let now = course.last().unwrap().1.unwrap_or_default();
            let expected = match function {
                "peak" => each(|values| *values.iter().max().unwrap()).into_iter().max().unwrap() as f64,
                "low" => each(|values| *values.iter().min().unwrap()).into_iter().min().unwrap() as f64,
                "growth" => now.saturating_sub(slots[0].1[0]) as f64,
                _ => slots.iter().map(|(_, values)| mean(values)).sum::<f64>() / slots.len() as f64,
            };
            prop_assert!((found - expected).abs() < 0.001, "{}: {} and not {}", function, found, expected);
        }
    }
}

/// A gap or a nap empties the windows of every rule; a suspension of ours keeps its readings out of them.
#[test]
fn gaps_empty_windows_and_suspensions_leave_nothing_in_them() {
    let rules = crate::script::rule("lasting = '0s'").rules[0].clone();
    assert!(rules.windows.is_empty());
    let peak = "[[rule]]\nname = 'a'\nbreach = 'peak(memory.held, 5s) > 750 MiB'\nlasting = '0s'";
    let mut script = crate::script::Script::new(&crate::script::load(peak));
    assert_eq!(script.ticks(10, 800), ["5:building", "5:opened 1", "5:alert"]);
    script.world.nap(Duration::from_secs(600));
    assert_eq!(script.ticks(3, 100), Vec::<String>::new(), "unknown: neither in breach nor calm");
    assert_eq!(script.ticks(4, 100), ["2:easing", "3:closed 1 Calm"]);
    script.suspended = true;
    script.ticks(3, 900);
    script.suspended = false;
    assert_eq!(script.ticks(3, 100), Vec::<String>::new(), "what it held while suspended was never read");
}

/// A condition that reads one thing twice reads one window.
#[test]
fn functions_that_keep_the_same_share_a_window() {
    let rules = crate::script::load(
        "[[rule]]\nname = 'a'\nbreach = 'avg(memory, 2m) > 1 MiB and slope(memory, 2m) > 1 MiB/s and low(memory, 2m) > 1 MiB'\n\
         calm = 'avg(memory, 2m) < 1 MiB and climb(memory, 2m) < 1 MiB'\nlasting = '1s'",
    );
    assert_eq!(rules.rules[0].windows.len(), 1, "a reading a slot serves all: {:?}", rules.rules[0].windows);
    let Condition::All(parts) = &rules.rules[0].breach else { panic!("three parts") };
    assert!(matches!(&parts[0], Condition::Compare(Quantity::Over(_), ..)));
}

proptest! {
    /// Whatever comes and goes, it is what a plain list is.
    #[test]
    fn it_is_a_list(counted: bool, steps: Vec<(u8, i64, u16)>) {
        let (mut numbers, mut list) = (Numbers::none(counted), VecDeque::new());
        for (what, value, offset) in steps {
            // Often the same, and then something else.
            let value = if what % 3 == 0 { value & 0xffff_ffff } else { 7 };
            let number = Number { value, offset: if counted { offset } else { 0 } };
            match what {
                0..200 => {
                    numbers.push(number);
                    list.push_back(number);
                }
                200..220 => prop_assert_eq!(numbers.pop_newest(), list.pop_back()),
                _ => {
                    let gone = usize::from(what - 220).min(list.len());
                    numbers.drop_oldest(gone);
                    list.drain(..gone);
                }
            }
            prop_assert_eq!((numbers.count(), numbers.newest()), (list.len(), list.back().copied()));
            prop_assert_eq!(numbers.iter().next(), list.front().copied());
                prop_assert!(numbers.iter().eq(list.iter().copied()));
        }
    }
}
