//! Suggestions: rules with limits from what is normal on this machine, by statistics that a few bad hours do not move.
//!
//! What is normal is the middle of a figure's minutes (the median) and its spread (the median distance from it, scaled as
//! a standard deviation). A limit stands six spreads above the middle and never below a floor under which nothing is a
//! runaway. A rule is suggested where that limit was passed for long enough and without a sign of honest work.

mod draft;
mod figures;
mod longer;
mod rule;

pub use draft::{Course, Trouble, draft};
pub use figures::{App, Figures, middle};
pub use longer::{Longer, Most};
pub use rule::Written;

use crate::model::is_at_work;
use crate::units::{exact_duration, scaled_size};
use rule::{percent, size};

use crate::units::quoted;
use std::time::Duration;

/// Spreads from the middle to a limit.
const SPREADS: f64 = 6.0;
/// So many minutes of samples are needed before anything is said.
const LEAST_MINUTES: usize = 120;
/// And so many of an app.
const LEAST_OF_APP: usize = 30;
/// Less than that share of one core for minutes is no runaway, percent.
const LEAST_CPU: f64 = 80.0;
/// The limit stands so much above what an app does in one of 20 hours.
const ABOVE: f64 = 1.2;
/// CPU is averaged over so many minutes, and has to be over the limit for as many.
const CPU_MINUTES: usize = 5;
/// Memory is looked at over so many minutes; one step up is over in them.
const CLIMB_MINUTES: usize = 20;
/// A climb below that share of RAM in that time is none.
const LEAST_CLIMB: f64 = 0.005;
/// The machine is not short of memory while more than that share can be had.
const MOST_AVAILABLE: f64 = 0.15;
/// And it is with less than that.
const LEAST_AVAILABLE: f64 = 0.05;

/// One rule, and what it rests on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Suggestion {
    /// The rule.
    pub rule: Written,
    /// What is normal and what was seen, in sentences.
    pub because: Vec<String>,
}

/// Everything that can be said.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Advice {
    /// The rules.
    pub suggestions: Vec<Suggestion>,
    /// How many apps were looked at.
    pub apps: usize,
    /// How many of them were there for too short a time.
    pub too_short: usize,
    /// Apps that were busy, and left alone: why.
    pub left_alone: Vec<String>,
}

/// There is too little to say anything.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TooLittle {
    /// Of the machine.
    #[error("not enough data: {have} min of samples, and {LEAST_MINUTES} min are needed to know what is normal")]
    Machine {
        /// Minutes there are.
        have: usize,
    },
    /// Of the app that was asked for.
    #[error("not enough data: {app} was seen for {have} min, and {LEAST_OF_APP} min are needed to know what is normal")]
    App {
        /// Its name.
        app: String,
        /// Minutes there are.
        have: usize,
    },
}

/// Draws suggestions from what was seen; for one app, also where it never passed its limit.
///
/// # Errors
/// There is too little to know what is normal.
pub fn suggest(figures: &Figures, only: Option<&str>) -> Result<Advice, TooLittle> {
    if figures.minutes() < LEAST_MINUTES {
        return Err(TooLittle::Machine { have: figures.minutes() });
    }
    let mut advice = Advice::default();
    let climbs = Climbs::of(figures);
    for (key, app) in figures.apps.iter().filter(|((_, name), _)| only.is_none_or(|only| only == name)) {
        advice.apps += 1;
        if app.minutes.len() < LEAST_OF_APP {
            advice.too_short += 1;
            continue;
        }
        let longer = figures.longer.as_ref().and_then(|longer| Some((longer.days, *longer.apps.get(key)?)));
        of_cpu(&key.1, app, longer, only.is_some(), &mut advice);
        of_memory(key, app, figures, (&climbs, longer), only.is_some(), &mut advice);
    }
    if let Some(app) = only
        && advice.apps == advice.too_short
    {
        let longest = figures.apps.iter().filter(|((_, name), _)| name == app).map(|(_, app)| app.minutes.len()).max();
        return Err(TooLittle::App { app: crate::text::clean(app.as_bytes()), have: longest.unwrap_or(0) });
    }
    if only.is_none() {
        of_the_machine(figures, &mut advice);
    }
    Ok(advice)
}

fn minutes(count: usize) -> String {
    exact_duration(Duration::from_secs(count as u64 * 60))
}

/// The longest run of minutes, one after the other, of which `over` is true.
fn longest_run(of: impl Iterator<Item = (u32, bool)>) -> usize {
    let (mut longest, mut run, mut before) = (0, 0, None);
    for (minute, over) in of {
        let follows = before.is_some_and(|before: u32| before + 1 == minute);
        run = if !over {
            0
        } else if follows {
            run + 1
        } else {
            1
        };
        longest = longest.max(run);
        before = Some(minute);
    }
    longest
}

fn of_cpu(name: &str, app: &App, longer: Option<(i64, Most)>, asked: bool, advice: &mut Advice) {
    let all: Vec<(u32, _)> = app.minutes.iter().map(|(minute, of)| (*minute, *of)).collect();
    let cpu: Vec<f64> = all.iter().map(|(_, minute)| minute.cpu()).collect();
    let Some((normal, spread)) = middle(&cpu) else { return };
    // What an app does now and then all the time is no runaway.
    let now_and_then = longer.map_or(0.0, |(_, longer)| longer.cpu * ABOVE);
    let limit = (normal + SPREADS * spread).max(LEAST_CPU).max(now_and_then);
    // The mean of the last minutes, where they follow on each other.
    let means = |figure: fn(&figures::Minute) -> f64| -> Vec<(u32, f64)> {
        let mean = |window: &[(u32, figures::Minute)]| {
            let (first, last) = (window.first()?.0, window.last()?.0);
            let whole = last - first + 1 == CPU_MINUTES as u32;
            whole.then(|| (last, window.iter().map(|(_, minute)| figure(minute)).sum::<f64>() / CPU_MINUTES as f64))
        };
        all.windows(CPU_MINUTES).filter_map(mean).collect()
    };
    let (used, disk) = (means(figures::Minute::cpu), means(figures::Minute::disk));
    let both = || used.iter().zip(&disk);
    let busy = longest_run(both().map(|((minute, cpu), _)| (*minute, *cpu > limit)));
    let runaway = longest_run(both().map(|((minute, cpu), (_, disk))| (*minute, *cpu > limit && !is_at_work(*disk))));
    if runaway < CPU_MINUTES && !asked {
        if busy >= CPU_MINUTES {
            advice.left_alone.push(format!(
                "{name} ({}) kept {} busy for {}, and worked with the disk meanwhile: honest work as far as can be seen",
                app.owner,
                cores(used.iter().map(|(_, cpu)| *cpu).fold(0.0, f64::max)),
                minutes(busy + CPU_MINUTES - 1)
            ));
        }
        return;
    }
    let because = vec![
        format!(
            "normal is {normal:.1}% of a core (middle of {} minutes, spread {spread:.1}%); the limit is six spreads above, and at least {LEAST_CPU}%",
            all.len()
        ),
        match runaway {
            0 => "it was never passed without work at the disk".to_owned(),
            run => format!("it was passed without work at the disk for {} at most", minutes(run + CPU_MINUTES - 1)),
        },
    ];
    let because = because
        .into_iter()
        .chain(longer.map(|(days, longer)| in_hours(days, &format!("{:.1}% of a core", longer.cpu))))
        .collect();
    advice.suggestions.push(Suggestion { rule: rule_of_cpu(name, app, normal, limit), because });
}

/// What the history says.
fn in_hours(days: i64, most: &str) -> String {
    format!("over {days} days, by the history of usage, it was at most {most} in 19 of 20 hours")
}

fn rule_of_cpu(name: &str, app: &App, normal: f64, limit: f64) -> Written {
    let (used, children) = app
        .minutes
        .values()
        .fold((0.0, 0.0), |(used, children), minute| (used + minute.cpu(), children + minute.waited()));
    let (judge, why_judge) = match children > used / 2.0 {
        true => ("tree", "most of it was used by short-lived children"),
        false => ("app", "all its processes together"),
    };
    let mildest = match app.unit.ends_with(".service") {
        true => "mildest first; it is a service: { at = \"15m\", do = \"restart\" } could follow",
        false => "mildest first",
    };
    let breach = format!("avg(cpu, {CPU_MINUTES}m) > {} and avg(disk.read, {CPU_MINUTES}m) < 100 kB/s", percent(limit));
    Written::new(&format!("{name}-cpu"), "it stands in every alert")
        .text("note", &format!("{name} keeps a core busy and does nothing with the disk."), "people see this")
        .text("where", &whom(name, app), ON_WHOM)
        .text("judge", judge, why_judge)
        .text("breach", &breach, &format!("normal is {normal:.1}%"))
        .text("lasting", &format!("{CPU_MINUTES}m"), "a burst is over sooner")
        .raw("armed", "false".to_owned(), IN_SHADOW)
        .raw("ladder", "[ { at = \"0s\", do = \"alert\" }, { at = \"5m\", do = \"lower\" } ]".to_owned(), mildest)
}

const ON_WHOM: &str = "the owner as well: another user's program of that name is not meant";
const IN_SHADOW: &str = "shadow: it only says what it would do";

fn whom(name: &str, app: &App) -> String {
    format!("app = {} and owner = {}", quoted(name), quoted(&app.owner))
}

fn cores(percent: f64) -> String {
    if percent < 150.0 { "a core".to_owned() } else { format!("{:.0} cores", percent / 100.0) }
}

/// How far the low-water mark of each process rose over each stretch of time.
struct Climbs {
    of: Vec<(crate::model::ProcessId, Vec<(u32, f64)>)>,
    middle: f64,
    limit: f64,
}

impl Climbs {
    fn of(figures: &Figures) -> Climbs {
        let quarter = CLIMB_MINUTES / 4;
        let climb = |window: &[(u32, f64)]| {
            let (first, last) = (window.first()?.0, window.last()?.0);
            let least = |part: &[(u32, f64)]| part.iter().map(|(_, held)| *held).fold(f64::INFINITY, f64::min);
            let whole = last - first + 1 == CLIMB_MINUTES as u32;
            whole.then(|| (last, least(&window[CLIMB_MINUTES - quarter..]) - least(&window[..quarter])))
        };
        let of: Vec<_> = figures
            .held
            .iter()
            .map(|(id, held)| {
                let all: Vec<(u32, f64)> = held.least.iter().map(|(minute, bytes)| (*minute, *bytes as f64)).collect();
                (*id, all.windows(CLIMB_MINUTES).filter_map(climb).collect::<Vec<_>>())
            })
            .collect();
        let all: Vec<f64> = of.iter().flat_map(|(_, climbs)| climbs.iter().map(|(_, climb)| climb.max(0.0))).collect();
        let (middle, spread) = middle(&all).unwrap_or_default();
        Climbs { of, middle, limit: (middle + SPREADS * spread).max(LEAST_CLIMB * figures.total as f64) }
    }
}

fn of_memory(
    key: &(u32, String),
    app: &App,
    figures: &Figures,
    (climbs, longer): (&Climbs, Option<(i64, Most)>),
    asked: bool,
    advice: &mut Advice,
) {
    let name = &key.1;
    let mine = |id: &crate::model::ProcessId| figures.held.get(id).is_some_and(|held| held.app == *key);
    let of_app = || climbs.of.iter().filter(|(id, _)| mine(id));
    let run = |climbs_of: &[(u32, f64)]| longest_run(climbs_of.iter().map(|(at, climb)| (*at, *climb > climbs.limit)));
    let longest = of_app().map(|(_, of)| run(of)).max().unwrap_or(0);
    let most = app.minutes.values().map(|minute| minute.held).fold(0.0, f64::max);
    if longest < CLIMB_MINUTES {
        if asked && most > 0.0 {
            advice.suggestions.push(never_climbed(name, app, most, longer));
        }
        return;
    }
    // What a process held when such a rise began: the most of these.
    let began = of_app().filter(|(_, of)| run(of) >= CLIMB_MINUTES).filter_map(|(id, of)| {
        let (at, _) = of.iter().find(|(_, climb)| *climb > climbs.limit)?;
        figures.held[id].least.get(&at.saturating_sub(CLIMB_MINUTES as u32 - 1)).map(|bytes| *bytes as f64)
    });
    let began = began.fold(0.0, f64::max);
    let holds = began * 1.5;
    let because = vec![
        format!(
            "normal for all programs of this machine is a rise of {} in {} (middle of all processes); the limit is {}",
            scaled_size(climbs.middle),
            minutes(CLIMB_MINUTES),
            scaled_size(climbs.limit)
        ),
        format!(
            "one of its processes rose by more than that for {} on end, from {} at most when it began, to {}",
            minutes(longest + CLIMB_MINUTES - 1),
            scaled_size(began),
            scaled_size(most)
        ),
    ];
    let rule = rule_of_memory(name, app, &format!("{name} holds more and more memory."))
        .text(
            "breach",
            &format!("climb(memory.held, {CLIMB_MINUTES}m) > {} and memory.held > {}", size(climbs.limit), size(holds)),
            "its low-water mark rises: what fills and empties does not raise it",
        )
        .text("lasting", &format!("{CLIMB_MINUTES}m"), "a program that loads something is done by then")
        .raw("armed", "false".to_owned(), IN_SHADOW)
        .raw("ladder", ALERT.to_owned(), "lowering frees no memory: if it is to be ended, say so here");
    advice.suggestions.push(Suggestion { rule, because });
}

const ALERT: &str = "[ { at = \"0s\", do = \"alert\" } ]";

fn rule_of_memory(name: &str, app: &App, note: &str) -> Written {
    Written::new(&format!("{name}-memory"), "it stands in every alert").text("note", note, "people see this").text(
        "where",
        &whom(name, app),
        ON_WHOM,
    )
}

fn never_climbed(name: &str, app: &App, seen: f64, longer: Option<(i64, Most)>) -> Suggestion {
    let most = longer.map_or(seen, |(_, longer)| longer.held.max(seen));
    let rule = rule_of_memory(name, app, &format!("{name} holds more memory than it ever did."))
        .text("breach", &format!("memory.held > {}", size(most * 1.5)), "half as much again as the most it held")
        .text("lasting", "2m", "a moment's need is over sooner")
        .raw("armed", "false".to_owned(), IN_SHADOW)
        .raw("ladder", ALERT.to_owned(), "what to do besides is yours to say");
    let mut because = vec![format!(
        "it never climbed for {} on end; one of its processes held {} at most",
        minutes(CLIMB_MINUTES),
        scaled_size(seen)
    )];
    because
        .extend(longer.map(|(days, longer)| in_hours(days, &format!("{} for each process", scaled_size(longer.held)))));
    Suggestion { rule, because }
}

fn of_the_machine(figures: &Figures, advice: &mut Advice) {
    let available: Vec<f64> = figures.available.values().map(|bytes| *bytes as f64).collect();
    let Some((normal, spread)) = middle(&available) else { return };
    let total = figures.total as f64;
    let limit = (normal - SPREADS * spread).clamp(LEAST_AVAILABLE * total, MOST_AVAILABLE * total);
    let low = |bytes: &u64| (*bytes as f64) < limit;
    let run = longest_run(figures.available.iter().map(|(minute, bytes)| (*minute, low(bytes))));
    if run < 2 {
        return;
    }
    let because = vec![
        format!(
            "normal is {} that can be had (middle of {} minutes, spread {}); the limit is six spreads below, and 5% to 15% of RAM",
            scaled_size(normal),
            available.len(),
            scaled_size(spread)
        ),
        format!("there was less than that for {} on end", minutes(run)),
    ];
    let calm = size(limit * 1.5);
    let rule = Written::new("memory-short", "it stands in every alert")
        .text("note", "The machine runs out of memory.", "people see this")
        .text("judge", "machine", "nobody is acted upon: a rule that acts needs a `where`")
        .text(
            "breach",
            &format!("machine.memory.available < {}", size(limit)),
            &format!("normal is {}", scaled_size(normal)),
        )
        .text("lasting", "1m", "a moment's need is over sooner")
        .text("calm", &format!("machine.memory.available > {calm}"), "well above, so that it does not flap")
        .text("severity", "critical", "everybody on it feels this")
        .raw("armed", "false".to_owned(), "shadow: it only says what it would do")
        .raw("ladder", "[ { at = \"0s\", do = \"alert\" } ]".to_owned(), "`sophron checkup` then says because of whom");
    advice.suggestions.push(Suggestion { rule, because });
}
