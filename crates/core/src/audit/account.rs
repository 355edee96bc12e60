//! The account of one case, as one stands before a customer with it: who it was, why, what was done, what can be undone, and words
//! that can be sent to the person whose program it was.

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};

use super::{InForce, Kind, Record, SubjectRecord, cases, stamps};
use crate::act::{Came, Verb};
use crate::document::{Block, Chart, Document, Text};
use crate::model::{ProcessId, is_at_work};
use crate::order::InOrder;
use crate::sorted::SortedSet;
use crate::text::{clean, processes};
use crate::units::Value;

const INDENT: usize = 10;

/// One case, and the trail that it stands in.
struct Account<'t> {
    all: &'t [Record],
    /// All of the case, in order.
    records: Vec<&'t Record>,
    opening: &'t Record,
    zone: &'t TimeZone,
    /// Whether a process is known to have ended.
    gone: &'t dyn Fn(&ProcessId) -> bool,
}

/// The account of a case, with times in that zone; none where the trail does not have it. `gone` says of whom more is known than
/// the trail tells: he has ended.
pub fn account(all: &[Record], case: u64, zone: &TimeZone, gone: &dyn Fn(&ProcessId) -> bool) -> Option<Document> {
    let records: Vec<&Record> = all.iter().filter(|record| record.case == Some(case)).collect();
    let opening = records.iter().copied().find(|record| record.kind == Kind::Breach)?;
    Some(Account { all, records, opening, zone, gone }.document())
}

impl Account<'_> {
    fn document(&self) -> Document {
        let stands = cases(&self.owned()).first().map_or("open", |case| case.story.word());
        let severity = self.opening.evidence.as_ref().map_or(String::new(), |evidence| evidence.severity.to_string());
        let mut document = Document::new(INDENT);
        document.push(Block::Head(vec![
            format!("case {}", self.opening.case.unwrap_or(0)),
            self.opening.host.clone(),
            format!("rule {}", self.rule()),
            severity,
            format!("began {}", self.date(self.opening.at)),
            stands.to_owned(),
        ]));
        document.entry("who", self.who());
        document.entry("why", self.why());
        document.entry("work", self.work());
        document.entry("told", self.told());
        document.entry("asked", self.asked());
        document.entry("done", self.done());
        document.entry("undone", self.undone());
        document.entry("rule", self.wording());
        document.entry("proof", self.proof());
        document.push(Block::Gap);
        document.push(Block::Heading("to be sent to the person whose program it was".to_owned()));
        let clock = |at| self.clock(at);
        document.push(Block::Paragraph(super::letter::letter(&self.records, self.opening, clock, |at| self.date(at))));
        document
    }

    fn owned(&self) -> Vec<Record> {
        self.records.iter().map(|record| (*record).clone()).collect()
    }

    fn clock(&self, at: Timestamp) -> String {
        at.to_zoned(self.zone.clone()).strftime("%H:%M:%S").to_string()
    }

    fn date(&self, at: Timestamp) -> String {
        at.to_zoned(self.zone.clone()).strftime("%Y-%m-%d %H:%M:%S %Z").to_string()
    }

    fn rule(&self) -> &str {
        self.opening.rule.as_deref().unwrap_or("unknown")
    }

    fn subjects(&self) -> impl Iterator<Item = &SubjectRecord> {
        self.records.iter().filter_map(|record| record.subject.as_ref())
    }

    fn who(&self) -> Vec<String> {
        let Some(subject) = &self.opening.subject else { return vec!["the machine itself".to_owned()] };
        let mut lines = Vec::new();
        if let Some(group) = &subject.of {
            // A group's name says how many it had when its case opened.
            let count = processes(group.processes);
            let count = if group.name.ends_with(&count) { String::new() } else { format!(": {count}") };
            lines.push(format!("{}{count}, judged as one {}", group.name, group.judge));
        }
        lines.push(format!("{}, user {}, started by process {}", subject.label(), subject.uid, subject.parent));
        if let Some(path) = &subject.path {
            let proven = if subject.path_proven { "proven: that very file ran" } else { "a claim of the process" };
            lines.push(format!("runs {path} ({proven})"));
        }
        let command = subject.command.as_ref().filter(|command| !command.is_empty());
        lines.extend(command.map(|command| format!("command {command}")));
        let mut others: Vec<String> =
            self.subjects().filter(|other| other.id != subject.id).map(SubjectRecord::label).collect();
        others.order();
        others.dedup();
        if !others.is_empty() {
            lines.push(format!("also {}", others.join(", ")));
        }
        if let Some(acted) = self.subjects().find(|subject| !subject.children.is_empty()) {
            lines.push(format!("its children: {}", acted.children.join(", ")));
        }
        if let Some(acted) = self.subjects().find(|subject| !subject.open.is_empty()) {
            lines.push(format!("it had open: {}", acted.open.join(", ")));
        }
        lines
    }

    fn why(&self) -> Vec<Text> {
        let Some(evidence) = &self.opening.evidence else { return vec!["the record does not tell".into()] };
        let mut lines = vec![format!("{}, which is: {}", evidence.words, evidence.breach).into()];
        lines.extend(self.chart().map(Text::Chart));
        lines
    }

    /// The readings against the limit, with the steps beneath.
    fn chart(&self) -> Option<Chart> {
        let mut points: Vec<(Timestamp, f64)> = Vec::new();
        for evidence in self.records.iter().filter_map(|record| record.evidence.as_ref()) {
            points.extend(evidence.points.iter().filter_map(|(at, value)| Some((*at, value.as_f64()?))));
        }
        points.order_by_key(|(at, _)| *at);
        points.dedup_by_key(|(at, _)| *at);
        let evidence = self.opening.evidence.as_ref()?;
        let (limit, first) = (evidence.limit.as_f64()?, points.first()?.0);
        let falls = evidence.reading.as_f64().is_some_and(|reading| reading < limit);
        let until = self.records.last().map_or(first, |record| record.at).max(first + SignedDuration::from_secs(1));
        let mut marks: Vec<(Timestamp, char)> = vec![(self.opening.at, 'b')];
        marks.extend(self.records.iter().filter_map(|record| Some((record.at, letter(record)?))));
        let legend = "half a bar is the limit; b begins, ? asked, l lowered, s suspended, r resumed, t ended, u undone, c calm, e over";
        Some(Chart { points, limit, falls, until, marks, legend })
    }

    fn work(&self) -> Vec<String> {
        let disk = self.opening.evidence.as_ref().and_then(|evidence| evidence.disk);
        vec![match disk {
            None => "whether it was doing honest work could not be seen: its disk figures were not read".to_owned(),
            Some([read, write]) if is_at_work(read + write) => format!(
                "it read {} and wrote {} as it did so: it may have been honest work",
                Value::Rate(read).scaled(),
                Value::Rate(write).scaled()
            ),
            Some(_) => "it did next to nothing with the disk meanwhile: no sign of honest work".to_owned(),
        }]
    }

    fn told(&self) -> Vec<String> {
        let alerts = self.records.iter().filter(|record| matches!(record.kind, Kind::Breach | Kind::Alert));
        let mut times: Vec<String> = alerts.map(|record| self.clock(record.at)).collect();
        times.dedup();
        let mut lines = vec![format!("on the watcher's own lines at {}", times.join(", "))];
        let by_channel: Vec<String> = self.all.iter().filter_map(|record| self.told_by(record)).collect();
        match by_channel.is_empty() {
            true => lines.push("by no channel".to_owned()),
            false => lines.extend(by_channel),
        }
        lines
    }

    /// Who was asked before what, and what became of that.
    fn asked(&self) -> Vec<String> {
        let line = |record: &&Record| {
            let seen = record.result.as_ref().map(|result| result.seen.as_str()).unwrap_or_default();
            let line = match (&record.kind, record.came()?) {
                (Kind::Asked, Came::Asked) => format!("{seen}, before: {}", record.verb().map_or("", Verb::word)),
                (Kind::Asked, _) => seen.to_owned(),
                (Kind::Answer, came) => format!("{came}: {seen}"),
                _ => return None,
            };
            Some(format!("{}  {line}", self.clock(record.at)))
        };
        self.records.iter().filter_map(line).collect()
    }

    /// What a channel was told of the case, and what became of it.
    fn told_by(&self, record: &Record) -> Option<String> {
        let told = record.told.as_ref()?;
        let of_it = self.records.iter().filter(|record| told.records.contains(&record.seq));
        let mut of_it: Vec<String> = of_it.map(|record| record.kind.to_string()).collect();
        // At a desk nothing is told of a record.
        of_it.extend((record.case.is_some() && record.case == self.opening.case).then(|| "a notice".to_owned()));
        let seen = if told.seen.is_empty() { String::new() } else { format!(": {}", told.seen) };
        let (at, channel, outcome) = (self.clock(record.at), &told.channel, &told.outcome);
        (!of_it.is_empty()).then(|| format!("by channel {channel} at {at}: {}; {outcome}{seen}", of_it.join(", ")))
    }

    fn done(&self) -> Vec<String> {
        let mut lines = Vec::new();
        let open: Vec<u64> =
            InForce::of(self.records.iter().copied()).announced().iter().map(|record| record.seq).collect();
        for record in &self.records {
            let verb = record.verb().map_or("", Verb::word);
            let result = record.result.as_ref();
            let outcome = record.came().map_or("", Came::word);
            let seen = result.map(|result| result.seen.as_str()).filter(|seen| !seen.is_empty());
            let seen = seen.map(|seen| format!(": {seen}")).unwrap_or_default();
            let on = record.subject.as_ref().map(|subject| format!(" {}", subject.id)).unwrap_or_default();
            let line = match record.kind {
                // What was done tells of itself.
                Kind::Intent if !open.contains(&record.seq) => continue,
                Kind::Intent => format!("announced and not told any further: {verb}{on}"),
                Kind::Outcome => format!("{verb}{on}: {outcome}{seen}"),
                Kind::Refused => format!("{verb}{on} refused{seen}"),
                Kind::Restored => format!("{outcome}{on}{seen}"),
                Kind::Superseded => format!("{verb}{on}: left as it is{seen}"),
                Kind::Effect | Kind::Spared | Kind::Shadow | Kind::Overtaken | Kind::StoodBack => {
                    format!("{}{on}{seen}", record.kind.word())
                }
                Kind::BudgetSpent | Kind::Capped => format!("{}{seen}", record.kind.word()),
                Kind::Calm => format!("calm: case closed{seen}"),
                Kind::Ended => format!("its subject has ended: case closed{seen}"),
                Kind::Left => format!("no longer covered: case closed{seen}"),
                Kind::Breach => "case opened".to_owned(),
                _ => continue,
            };
            let because = record.action.as_ref().and_then(|action| action.because.as_ref());
            let because = because.map(|because| format!(", since {because}")).unwrap_or_default();
            lines.push(format!("{}  {line}; by {}{because}", self.clock(record.at), self.by(record)));
        }
        lines.extend(self.beyond_share());
        lines
    }

    /// What counts as one with what, where its owner's share of the cap was used up.
    fn beyond_share(&self) -> Vec<String> {
        let counts_with = |record: &Record| record.action.as_ref().and_then(|action| action.counts_with);
        let mut lines = Vec::new();
        if let Some(first) = self.records.iter().find_map(|record| counts_with(record)) {
            lines.push(format!("beyond its owner's share of the cap: counts as one with case {first}"));
        }
        let with_it = self.all.iter().filter(|record| counts_with(record) == self.opening.case);
        let mut cases: Vec<u64> = with_it.filter_map(|record| record.case).collect();
        cases.sort_unstable();
        cases.dedup();
        if !cases.is_empty() {
            let cases: Vec<String> = cases.iter().map(u64::to_string).collect();
            lines.push(format!(
                "its owner's share of the cap was used up: these cases count as one with it: {}",
                cases.join(", ")
            ));
        }
        lines
    }

    fn by(&self, record: &Record) -> String {
        match (&record.rule, record.who.login_uid) {
            (Some(rule), _) => format!("rule {rule}"),
            (None, Some(login)) if login != record.who.uid => {
                format!("{} (logged in as user {login})", record.who.user)
            }
            (None, _) => record.who.user.clone(),
        }
    }

    fn undone(&self) -> Vec<String> {
        let in_force = InForce::of(self.records.iter().copied());
        // Who has ended has nothing left to take back.
        let ended: SortedSet<ProcessId> =
            self.records.iter().filter(|record| is_an_end(record)).filter_map(|record| record.identity()).collect();
        let lives = |id: &ProcessId| !ended.contains(id) && !(self.gone)(id);
        let boot = self.opening.boot.parse().unwrap_or_default();
        let mut lines: Vec<String> = in_force
            .holds()
            .filter(|hold| lives(&hold.subject.identity(boot)))
            .map(|hold| {
                format!(
                    "still in force: nice {} on {}; `sophron restore {}` takes it back",
                    hold.nice, hold.subject.id, hold.subject.id
                )
            })
            .collect();
        lines.extend(
            in_force
                .suspensions()
                .filter(|(id, _)| lives(id))
                .map(|(id, _)| format!("still suspended: {0}; `sophron resume {0}`", id.checked())),
        );
        if self.ended() {
            lines.push("ending it cannot be undone: what it had not saved is lost".to_owned());
        }
        if lines.is_empty() {
            lines.push("nothing is in force any more".to_owned());
        }
        lines
    }

    fn ended(&self) -> bool {
        self.records.iter().any(|record| record.tells_an_end())
    }

    fn wording(&self) -> Vec<Text> {
        let Some(wording) = &self.opening.wording else {
            return vec!["its wording at that time was not recorded".into()];
        };
        let lines = wording.text.lines().map(|line| Text::Verbatim(clean(line.as_bytes())));
        lines.chain([format!("of the rules with SHA-256 {}", wording.digest).into()]).collect()
    }

    fn proof(&self) -> Vec<String> {
        let (first, last) = (self.opening.seq, self.records.last().map_or(0, |record| record.seq));
        let all = self.all;
        let chain = format!("records {first} to {last} of the trail, unchanged since by its chain of hashes");
        let stamp = all.iter().find(|record| record.kind == Kind::Stamp && record.seq > last);
        let genuine = stamps::check(all, None, None).is_ok();
        let signed = match stamp {
            Some(stamp) if genuine => {
                format!("signed by the stamp of record {} ({})", stamp.seq, self.date(stamp.at))
            }
            Some(_) => "its stamps are not genuine: `sophron audit verify` says which".to_owned(),
            None => "not signed yet: the next stamp will be over it".to_owned(),
        };
        vec![chain, signed]
    }
}

/// The subject of it is there no longer.
fn is_an_end(record: &Record) -> bool {
    record.tells_an_end() || record.kind == Kind::Ended
}

fn letter(record: &Record) -> Option<char> {
    match (&record.kind, record.verb()) {
        (Kind::Asked, _) if record.came() == Some(&Came::Asked) => Some('?'),
        (Kind::Outcome, Some(Verb::Lower)) => Some('l'),
        (Kind::Outcome, Some(Verb::Suspend)) => Some('s'),
        (Kind::Outcome, Some(verb)) if verb.ends() => Some('t'),
        (Kind::Restored, Some(Verb::Resume)) => Some('r'),
        (Kind::Restored, _) => Some('u'),
        (Kind::Calm, _) => Some('c'),
        (Kind::Ended | Kind::Left, _) => Some('e'),
        _ => None,
    }
}
