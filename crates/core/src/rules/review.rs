//! What is worth a second look in rules that are sound as they are written.

use std::time::Duration;

use super::{Action, Hours, Rule, RuleSet, Unasked};
use crate::condition::{Comparison, Condition, InWords, Quantity, Range, Truth};
use crate::facts::Facts;
use crate::model::{Field, Process, Snapshot};
use crate::protect::{Protections, says_whose};
use crate::sorted::{SortedMap, SortedSet};
use crate::subject::Judged;
use crate::telling::{Channel, To};
use crate::units::{Value, scaled_duration};

/// A warning.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Warning {
    /// The rule; empty for the file as a whole.
    pub rule: String,
    /// What is odd.
    pub what: String,
    /// What to do about it.
    pub mend: String,
}

/// What a look at a machine adds to what the file alone shows.
#[derive(Clone, Copy)]
pub struct Present<'a> {
    /// The machine now.
    pub snapshot: &'a Snapshot,
    /// Who is protected on it.
    pub protections: &'a Protections,
    /// Whether the machine has a user of that name or number.
    pub has_user: &'a dyn Fn(&str) -> bool,
}

/// Everything odd in these rules, in the file's order.
pub fn review(rules: &RuleSet, present: Option<Present<'_>>) -> Vec<Warning> {
    let mut found = Found(Vec::new());
    for protect in &rules.protect {
        protection(protect, &mut found);
    }
    found.telling(rules);
    // Rules of the same subjects: only they can be at odds.
    let mut acting_alike: SortedMap<(Judged, Option<String>), Vec<Acting<'_>>> = SortedMap::new();
    for rule in &rules.rules {
        found.times(rule, rules);
        found.ladder(rule);
        found.forkers(rule);
        found.limits(rule, present.map(|present| present.snapshot.machine.cores));
        found.never(rule);
        found.calm(rule);
        found.everybody(rule);
        found.asking(rule, rules);
        if let Some(present) = present {
            found.coverage(rule, present);
        }
        let Some(acting) = Acting::of(rule) else { continue };
        let alike = acting_alike.entry((rule.judge, rule.covers.as_ref().map(Condition::to_string))).or_default();
        for other in alike.iter() {
            found.at_odds(other, &acting);
            found.at_odds(&acting, other);
        }
        alike.push(acting);
    }
    found.0
}

/// An armed rule that acts: when it does, when it ends its subject, and on which range of readings.
struct Acting<'r> {
    rule: &'r Rule,
    acts: Duration,
    ends: Option<Duration>,
    range: Range,
}

impl Acting<'_> {
    fn of(rule: &Rule) -> Option<Acting<'_>> {
        let when = |of: fn(&Action) -> bool| {
            let step = rule.ladder.iter().find(|step| of(&step.action))?;
            Some(rule.lasting + step.at)
        };
        let acts = when(|action| action.is_act()).filter(|_| rule.armed)?;
        let ends = when(|action| matches!(action, Action::Terminate { .. }));
        Some(Acting { rule, acts, ends, range: rule.breach.range()? })
    }
}

struct Found(Vec<Warning>);

impl Found {
    fn say(&mut self, rule: &Rule, what: impl Into<String>, mend: impl Into<String>) {
        self.0.push(Warning { rule: rule.name.to_string(), what: what.into(), mend: mend.into() });
    }

    /// Ways by which nobody is told anything, and rules of which nobody hears.
    fn telling(&mut self, rules: &RuleSet) {
        let telling = &rules.telling;
        let mut of_file = |what: String, mend: String| self.0.push(Warning { rule: String::new(), what, mend });
        for channel in telling.channels.iter().filter(|channel| !telling.is_told(&channel.name)) {
            let name = &channel.name;
            of_file(format!("nothing is told by the channel {name}"), format!("add `[[tell]]`, `by = [\"{name}\"]`"));
        }
        let in_the_clear = |channel: &&Channel| {
            !channel.to.is_encrypted() && channel.to.server().is_some_and(|server| !server.is_here())
        };
        for channel in telling.channels.iter().filter(in_the_clear) {
            let (name, mend) = (
                &channel.name,
                match channel.to {
                    To::Mail(_) => "write `secure = \"starttls\"`",
                    To::Collector(_) => "write `over = \"tls\"`, if the collector takes that",
                    _ => "write `url = \"https://…\"`",
                },
            );
            of_file(format!("what the channel {name} tells can be read on its way, and forged"), mend.to_owned());
        }
        for pattern in telling.tells.iter().flat_map(|tell| &tell.rules) {
            if !rules.rules.iter().any(|rule| crate::condition::glob(pattern, &rule.name)) {
                let what = format!("a `[[tell]]` names the rules `{pattern}`, and none is called so");
                of_file(what, "name rules that there are, or leave `rules` out for all".to_owned());
            }
        }
        let unheard = |rule: &&Rule| !telling.channels.is_empty() && telling.of_rule(&rule.name).next().is_none();
        for rule in rules.rules.iter().filter(unheard) {
            self.say(rule, "no channel tells anybody of it: no `[[tell]]` fits it", "add it to the `rules` of one");
        }
    }

    fn times(&mut self, rule: &Rule, rules: &RuleSet) {
        let every = rules.every;
        if !rule.lasting.is_zero() && rule.lasting < every * 2 {
            let (lasting, every) = (scaled_duration(rule.lasting), scaled_duration(every));
            self.say(
                rule,
                format!("`lasting` of {lasting} is shorter than two samples, which are {every} apart"),
                "one sample decides: lengthen `lasting`, or shorten `every`",
            );
        }
        let short = rule.windows.iter().filter_map(|window| window.window).find(|window| *window < every * 3);
        if let Some(window) = short {
            let window = scaled_duration(window);
            self.say(
                rule,
                format!("a window of {window} holds fewer than three samples"),
                "lengthen it, or shorten `every`",
            );
        }
        let kept = !rules.usage.keep.is_zero();
        if !kept && rule.asks_what_is_usual() {
            self.say(
                rule,
                "`typical` is unknown without a history of usage, and [usage] keeps none",
                "an unknown condition never acts: compare with a limit of your own, or keep a history",
            );
        }
    }

    fn ladder(&mut self, rule: &Rule) {
        let ends = |action: Action| matches!(action, Action::Terminate { .. } | Action::Restart);
        if let Some(place) = rule.ladder.iter().position(|step| ends(step.action)) {
            let step = &rule.ladder[place];
            if !rule.ladder[..place].iter().any(|before| before.at < step.at) {
                let word = step.action.word();
                self.say(
                    rule,
                    format!("it would {word} without an alert before it that anybody could answer"),
                    format!("begin with `{{ at = \"0s\", do = \"alert\" }}`, and {word} later"),
                );
            }
            if rule.covers.is_none() {
                self.say(rule, "it may end any process: it has no `where`", "say in `where` which are meant");
            }
        }
        let memory = |field: &Field| field.name().contains("memory");
        let fields = rule.breach.fields();
        let lowers = rule.ladder.iter().any(|step| matches!(step.action, Action::Lower { .. }));
        if lowers && fields.iter().any(memory) && !fields.contains(&Field::Cpu) && !fields.contains(&Field::CpuPart) {
            self.say(
                rule,
                "it lowers against a breach of memory, and lowering frees none",
                "suspend it, which keeps it from growing, or terminate it",
            );
        }
        let timed: Vec<&Hours> =
            rule.ladder.iter().filter(|step| step.action.is_act()).map(|step| &step.hours).collect();
        if timed.len() > 1 && !timed.iter().any(|hours| hours.is_always()) {
            let hole = timed.windows(2).all(|pair| pair[0].leaves_a_hole_beside(pair[1]));
            if hole {
                self.say(
                    rule,
                    "the hours of its steps leave a hole: at some times none of them acts",
                    "let one step be at any hour, or end one's hours where the other's begin",
                );
            }
        }
    }

    /// Whoever forks is another process each time: what counts processes is judged on whose they are.
    fn forkers(&mut self, rule: &Rule) {
        let counts = |field: &Field| matches!(field, Field::Children | Field::Instances);
        if rule.judge == Judged::Process && rule.breach.fields().iter().any(counts) {
            self.say(
                rule,
                "it judges one process at a time by how many there are: who forks goes on as another process",
                "`judge = \"owner\"` or `judge = \"tree\"` holds all of them",
            );
        }
    }

    fn limits(&mut self, rule: &Rule, cores: Option<u32>) {
        for (quantity, comparison, limit) in rule.breach.limits() {
            let (field, Value::Percent(limit)) = (quantity.field(), limit) else { continue };
            let most = match field {
                Field::Cpu => cores.map(|cores| f64::from(cores) * 100.0),
                _ => Some(100.0),
            };
            if let Some(most) = most
                && matches!(comparison, Comparison::Greater | Comparison::AtLeast)
                && (*limit > most || (*limit >= most && comparison == Comparison::Greater))
            {
                let has = match field {
                    Field::Cpu => format!("this machine has {most}% ({} cores)", most / 100.0),
                    _ => "there is no more than 100%".to_owned(),
                };
                self.say(
                    rule,
                    format!("`{quantity}` is never over {limit}%: {has}"),
                    "lower the limit; `cpu` is percent of one core, `cpu.part` of the whole machine",
                );
            }
        }
    }

    /// A breach that no reading can be in.
    fn never(&mut self, rule: &Rule) {
        // A reading between two limits that exclude each other.
        if let Some(range) = rule.breach.range()
            && range.from > range.to
        {
            let (words, quantity) = (InWords(&rule.breach).to_string(), &range.quantity);
            let mend = format!("write `or` where either is meant, or turn the limits on `{quantity}` round");
            self.say(rule, format!("its `breach` can never hold: {words}"), mend);
        }
    }

    /// A rule on processes that looks at none of them hits all that it covers.
    fn everybody(&mut self, rule: &Rule) {
        let of_machine = |field: &Field| field.info().subject == crate::model::Subject::Machine;
        let fields = rule.breach.fields();
        if rule.judge == Judged::Process && !fields.is_empty() && fields.iter().all(of_machine) {
            self.say(
                rule,
                "its `breach` names only the machine: when that is so, it is so for every process that `where` covers",
                "`judge = \"machine\"` with `pick` chooses one; or add to `breach` what the process itself does",
            );
        }
    }

    fn calm(&mut self, rule: &Rule) {
        let Some(calm) = &rule.calm else { return };
        let Some(range) = calm.range() else { return };
        let never = range.from > range.to || (range.quantity_is_share() && range.from >= 100.0);
        let within = rule.breach.range().is_some_and(|breach| {
            breach.quantity == range.quantity && breach.from <= range.from && range.to <= breach.to
        });
        if never || within {
            self.say(
                rule,
                format!("its `calm` can never hold: {}", InWords(calm)),
                "a case is calm when the breach is well over: the limit of `calm` stands on the other side of it",
            );
            return;
        }
        if let Some(breach) = rule.breach.range().filter(|breach| breach.quantity == range.quantity) {
            let (from, to) = (breach.from.max(range.from), breach.to.min(range.to));
            if from < to {
                self.say(
                    rule,
                    format!("its `calm` overlaps its `breach`: between {from} and {to} both hold"),
                    "a case could be calm while it is breached: let `calm` end where `breach` begins, or before",
                );
            }
        }
    }

    /// Asking takes somebody to ask, and a way to him.
    fn asking(&mut self, rule: &Rule, rules: &RuleSet) {
        let is_desk =
            |name: &String| rules.telling.channel(name).is_some_and(|channel| matches!(channel.to, To::Desk(_)));
        let mut tells = rules.telling.of_rule(&rule.name).filter(|tell| tell.severity <= rule.severity);
        let desk = tells.any(|tell| tell.by.iter().any(is_desk));
        if rule.asks() && !desk {
            let then = match rule.unasked {
                Unasked::GoOn => "its steps are taken without",
                Unasked::Leave => "the steps that ask are never taken",
            };
            self.say(
                rule,
                format!("it asks first, and no channel `desk` tells of it: nobody is asked, and {then}"),
                "add `[[channel]]`, `name = \"owner\"`, `to = \"desk\"`, and it to a `[[tell]]`",
            );
        }
        if !rule.asks() {
            for (key, given) in [("keep", rule.keep.is_some()), ("unasked", rule.unasked != Unasked::default())] {
                if given {
                    let what = format!("`{key}` says what becomes of asking, and none of its steps asks");
                    self.say(rule, what, "add `ask = \"60s\"` to a step, or leave it out");
                }
            }
        }
    }

    /// Somebody who can be asked is one person, with a desk.
    fn people(&mut self, rule: &Rule, covered: &[&Process]) {
        if !rule.asks() {
            return;
        }
        let root = covered.iter().find(|process| process.person() == 0);
        let people: SortedSet<u32> = covered.iter().map(|process| process.person()).collect();
        let whole = matches!(rule.judge, Judged::Tree | Judged::Unit) && people.len() > 1;
        if let Some(process) = root {
            self.say(
                rule,
                format!("it asks first, and covers {}: nobody sits at a desk as root", process.label()),
                "say in `where` whose programs are meant",
            );
        } else if whole {
            let judged = rule.judge.with_article();
            self.say(
                rule,
                format!("it asks first, and judges {judged}: where that is of several people, nobody is asked"),
                "say in `where` whose programs are meant, or judge an `app`",
            );
        }
    }

    fn coverage(&mut self, rule: &Rule, present: Present<'_>) {
        let machine = &present.snapshot.machine;
        let covered = present.snapshot.processes.iter().filter(|process| !process.has_ended()).filter(|process| {
            let facts = Facts::new(process, machine);
            rule.covering(&facts) == Truth::True
        });
        let covered: Vec<_> = covered.collect();
        for owner in rule.covers.iter().flat_map(|covers| covers.words_of(Field::Owner)) {
            if !(present.has_user)(&owner) && !covered.iter().any(|process| process.owner == owner) {
                self.say(
                    rule,
                    format!("/etc/passwd knows no user {owner}, and nobody of that name has a process here"),
                    "`sophron list --group owner` shows who has processes here",
                );
            }
        }
        let restarts = rule.ladder.iter().any(|step| step.action == Action::Restart);
        let without = covered.iter().find(|process| process.unit.as_deref().is_none_or(str::is_empty));
        if let Some(process) = without.filter(|_| restarts) {
            self.say(
                rule,
                format!("it would restart {}, which belongs to no unit of a service manager", process.label()),
                "only what a service manager runs can be restarted: name its `unit` in `where`, or terminate it",
            );
        }
        if covered.is_empty() {
            self.say(rule, "it covers nothing at present", "see `sophron list` for what programs are called here");
            return;
        }
        self.people(rule, &covered);
        let acts = rule.ladder.iter().any(|step| step.action.is_act());
        let protected = covered.iter().filter_map(|process| {
            let reason = present.protections.reason(&Facts::new(process, machine))?;
            Some((process.label(), reason))
        });
        let protected: Vec<(String, String)> = protected.collect();
        // A rule for many covers some who are protected: no news. One that is mostly about them cannot be meant so.
        if let (true, true, Some((label, reason))) = (acts, protected.len() * 2 > covered.len(), protected.first()) {
            self.say(
                rule,
                format!("it covers {label}, which is protected: {reason}"),
                "rules only ever alert on it; leave it out in `where` if that is meant",
            );
        }
    }

    /// Where one ends what the other would only have begun to handle.
    fn at_odds(&mut self, first: &Acting<'_>, then: &Acting<'_>) {
        let (wider, narrower) = (&first.range, &then.range);
        let ends_first = first.ends.is_some_and(|end| end <= then.acts);
        let implied = wider.quantity == narrower.quantity && wider.from <= narrower.from && narrower.to <= wider.to;
        if ends_first && implied {
            self.say(
                then.rule,
                format!("it never gets to act: {} has the same `where` and terminates first", first.rule.name),
                "give them different `where`s, or one ladder",
            );
        }
    }
}

impl Range {
    fn quantity_is_share(&self) -> bool {
        matches!(&self.quantity, Quantity::Now(Field::CpuPart | Field::MemoryPart | Field::MachineCpu))
    }
}

/// What of a protection goes by a name alone, in words. Anybody can give himself a name: that protects only whom the watcher
/// itself runs as.
pub fn by_name_alone(protection: &Condition) -> Vec<String> {
    let branches = match protection {
        Condition::Any(parts) => parts.as_slice(),
        other => std::slice::from_ref(other),
    };
    let named = |branch: &&Condition| branch.fields().iter().any(|field| field.is_a_name()) && !says_whose(branch);
    branches.iter().filter(named).map(|branch| InWords(branch).to_string()).collect()
}

fn protection(condition: &Condition, found: &mut Found) {
    for branch in by_name_alone(condition) {
        found.0.push(Warning {
            rule: String::new(),
            what: format!("`[protect]` goes by a name alone: {branch}"),
            mend: "any program can be called so, and a watcher of root's protects only root's own by it; add \
                   `and owner = …` or `and unit = …`"
                .to_owned(),
        });
    }
}
