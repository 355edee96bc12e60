//! `sophron audit explain CASE`: one case from beginning to end, as one stands before a customer with it.

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use sophron_core::audit::stamps;
use sophron_core::audit::{self, Came, Evidence, InForce, Kind, Record, SubjectRecord, Verb};
use sophron_core::units::{Value, scaled_duration};

use super::{Trail, nothing_there, read};
use crate::args;
use crate::exit::{Exit, Failure};
use crate::ui::style::{Label, Styled};
use crate::ui::timeline::Canvas;
use crate::ui::{self, paragraph, table, when};

const INDENT: usize = 10;

/// The width where there is no terminal.
const PAGE: usize = 110;

/// Who moves less than that from and to disks shows no sign of work there, bytes a second.
const AT_WORK: f64 = 100_000.0;

pub fn run(args: &args::AuditExplain) -> Result<Exit, Failure> {
    let Some(trail) = read(&args.state)? else { return nothing_there(&args.state) };
    let broken = trail.complain();
    let of_case = trail.verified.records.iter().filter(|record| record.case == Some(args.case));
    let records: Vec<Record> = of_case.cloned().collect();
    let Some(opening) = records.iter().find(|record| record.kind == Kind::Breach) else {
        return Err(Failure::new(Exit::Failed, format!("the record has no case {}", args.case))
            .hint("`sophron audit` lists all cases"));
    };
    ui::page(&Explained { trail: &trail, records: &records, opening, width: table::terminal_width() }.text());
    Ok(if broken { Exit::Found } else { Exit::Fine })
}

struct Explained<'t> {
    trail: &'t Trail,
    /// All of the case, in order.
    records: &'t [Record],
    opening: &'t Record,
    width: Option<usize>,
}

impl Explained<'_> {
    fn text(&self) -> String {
        let summary = audit::cases(self.records);
        let stands = summary.first().map_or("open", |case| case.story.word());
        let severity = self.opening.evidence.as_ref().map_or(String::new(), |evidence| evidence.severity.to_string());
        let head = [
            Styled(Label::Heading, &format!("case {}", self.opening.case.unwrap_or(0))).to_string(),
            self.opening.host.clone(),
            format!("rule {}", self.rule()),
            severity,
            format!("began {}", when::date(self.opening.at)),
            stands.to_owned(),
        ];
        let mut text = table::flow(&head, self.width);
        for (word, lines) in [
            ("who", self.who()),
            ("why", self.why()),
            ("work", self.work()),
            ("told", self.told()),
            ("done", self.done()),
            ("undone", self.undone()),
            ("rule", self.wording()),
            ("proof", self.proof()),
        ] {
            for (number, line) in lines.iter().enumerate() {
                let word = if number == 0 { word } else { "" };
                text.push_str(&match line.strip_prefix('\u{0}') {
                    // Drawn, and not to be wrapped.
                    Some(drawn) => format!("{}{drawn}\n", Styled(Label::Heading, &format!("{word:<INDENT$}"))),
                    None => paragraph::under(word, INDENT, line, self.width),
                });
            }
        }
        text.push_str(&format!("\n{}\n", Styled(Label::Heading, "to be sent to the person whose program it was")));
        text.push_str(&paragraph::under("", 0, &self.letter(), self.width));
        text
    }

    fn rule(&self) -> &str {
        self.opening.rule.as_deref().unwrap_or("unknown")
    }

    fn subjects(&self) -> impl Iterator<Item = &SubjectRecord> {
        self.records.iter().filter_map(|record| record.subject.as_ref())
    }

    fn who(&self) -> Vec<String> {
        let Some(subject) = &self.opening.subject else { return vec!["the machine itself".to_owned()] };
        let name = |subject: &SubjectRecord| format!("{} {} ({})", subject.app, subject.id, subject.owner);
        let mut lines = Vec::new();
        if let Some(group) = &subject.of {
            lines.push(format!("{}: {} processes, judged as one {}", group.name, group.processes, group.judge));
        }
        lines.push(format!("{}, user {}, started by process {}", name(subject), subject.uid, subject.parent));
        if let Some(path) = &subject.path {
            let proven = if subject.path_proven { "proven: that very file ran" } else { "a claim of the process" };
            lines.push(format!("runs {path} ({proven})"));
        }
        lines.extend(subject.command.as_ref().map(|command| format!("command {command}")));
        let mut others: Vec<String> = self.subjects().filter(|other| other.id != subject.id).map(name).collect();
        others.sort();
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

    fn why(&self) -> Vec<String> {
        let Some(evidence) = &self.opening.evidence else { return vec!["the record does not tell".to_owned()] };
        let mut lines = vec![format!("{}, which is: {}", evidence.words, evidence.breach)];
        lines.extend(self.chart().into_iter().map(|line| format!("\u{0}{line}")));
        lines
    }

    /// The readings against the limit, with the steps beneath.
    fn chart(&self) -> Vec<String> {
        let mut points: Vec<(Timestamp, f64)> = Vec::new();
        for evidence in self.records.iter().filter_map(|record| record.evidence.as_ref()) {
            points.extend(evidence.points.iter().filter_map(|(at, value)| Some((*at, value.as_f64()?))));
        }
        points.sort_by_key(|(at, _)| *at);
        points.dedup_by_key(|(at, _)| *at);
        let limit = self.opening.evidence.as_ref().and_then(|evidence| evidence.limit.as_f64());
        let (Some(limit), Some(first)) = (limit, points.first()) else { return Vec::new() };
        let reading = self.opening.evidence.as_ref().and_then(|evidence| evidence.reading.as_f64());
        let falls = reading.is_some_and(|reading| reading < limit);
        let end = self.records.last().map_or(first.0, |record| record.at).max(first.0 + SignedDuration::from_secs(1));
        let columns = self.width.unwrap_or(PAGE).saturating_sub(INDENT).clamp(24, 100);
        let zone = TimeZone::system();
        let canvas = Canvas { from: first.0, to: end, columns, zone: &zone };
        let mut marks: Vec<(Timestamp, char)> = vec![(self.opening.at, 'b')];
        marks.extend(self.records.iter().filter_map(|record| Some((record.at, letter(record)?))));
        vec![
            canvas.bars(&points, limit, falls).trim_end().to_owned(),
            canvas.marks(&marks),
            canvas.axis(),
            "half a bar is the limit; b begins, l lowered, s suspended, r resumed, t ended, u undone, c calm, e over"
                .to_owned(),
        ]
    }

    fn work(&self) -> Vec<String> {
        let disk = self.opening.evidence.as_ref().and_then(|evidence| evidence.disk);
        vec![match disk {
            None => "whether it was doing honest work could not be seen: its disk figures were not read".to_owned(),
            Some([read, write]) if read + write >= AT_WORK => format!(
                "it read {} and wrote {} as it did so: it may have been honest work",
                Value::Rate(read).scaled(),
                Value::Rate(write).scaled()
            ),
            Some(_) => "it did next to nothing with the disk meanwhile: no sign of honest work".to_owned(),
        }]
    }

    fn told(&self) -> Vec<String> {
        let alerts: Vec<&Record> =
            self.records.iter().filter(|record| matches!(record.kind, Kind::Breach | Kind::Alert)).collect();
        let mut times: Vec<String> = alerts.iter().map(|record| when::clock(record.at)).collect();
        times.dedup();
        vec![format!("on the watcher's own lines at {}: shown there; no other way was set up", times.join(", "))]
    }

    fn done(&self) -> Vec<String> {
        let mut lines = Vec::new();
        let open: Vec<u64> = InForce::of(self.records).announced().iter().map(|record| record.seq).collect();
        for record in self.records {
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
                    format!("{}{seen}", record.kind.word())
                }
                Kind::BudgetSpent | Kind::Capped => format!("{}{seen}", record.kind.word()),
                Kind::Calm => format!("calm: case closed{seen}"),
                Kind::Ended => format!("its subject has ended: case closed{seen}"),
                Kind::Left => format!("no longer covered: case closed{seen}"),
                Kind::Breach => "case opened".to_owned(),
                _ => continue,
            };
            lines.push(format!("{}  {line}; by {}", when::clock(record.at), self.by(record)));
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
        let in_force = InForce::of(self.records);
        let mut lines: Vec<String> = in_force
            .holds()
            .map(|hold| {
                format!(
                    "still in force: nice {} on {}; `sophron restore {}` takes it back",
                    hold.nice, hold.subject.id, hold.subject.id
                )
            })
            .collect();
        lines.extend(
            in_force.suspensions().map(|(id, _)| format!("still suspended: {0}; `sophron resume {0}`", id.checked())),
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
        self.records.iter().any(Record::tells_an_end)
    }

    fn wording(&self) -> Vec<String> {
        match &self.opening.wording {
            None => vec!["its wording at that time was not recorded".to_owned()],
            Some(wording) => {
                let mut lines: Vec<String> = wording
                    .text
                    .lines()
                    .map(|line| format!("\u{0}{}", sophron_core::text::clean(line.as_bytes())))
                    .collect();
                lines.push(format!("of the rules with SHA-256 {}", wording.digest));
                lines
            }
        }
    }

    fn proof(&self) -> Vec<String> {
        let (first, last) = (self.opening.seq, self.records.last().map_or(0, |record| record.seq));
        let all = &self.trail.verified.records;
        let chain = format!("records {first} to {last} of the trail, unchanged since by its chain of hashes");
        let stamp = all.iter().find(|record| record.kind == Kind::Stamp && record.seq > last);
        let genuine = stamps::check(all, None, None).is_ok();
        let signed = match stamp {
            Some(stamp) if genuine => {
                format!("signed by the stamp of record {} ({})", stamp.seq, when::date(stamp.at))
            }
            Some(_) => "its stamps are not genuine: `sophron audit verify` says which".to_owned(),
            None => "not signed yet: the next stamp will be over it".to_owned(),
        };
        vec![chain, signed]
    }

    /// Plain words for somebody who does not know this program.
    fn letter(&self) -> String {
        let Some(subject) = &self.opening.subject else {
            return "This was about the machine as a whole, and nobody's program.".to_owned();
        };
        let evidence = self.opening.evidence.as_ref();
        let read = evidence.and_then(reading_of);
        let read = read.map(|words| format!(" ({words})")).unwrap_or_default();
        let acts: Vec<String> = self
            .records
            .iter()
            .filter(|record| record.kind == Kind::Outcome)
            .filter_map(|record| {
                Some(format!("{} {}", when::clock(record.at), in_plain_words(record.verb()?, record.came()?)?))
            })
            .collect();
        let done = match acts.is_empty() {
            true => "Nothing was done to it; people were told.".to_owned(),
            false => format!("What was done: {}.", acts.join("; ")),
        };
        let end = if self.ended() {
            " If you miss something that was not saved, tell us: we have the exact times."
        } else {
            ""
        };
        let lasted = self.records.last().map_or(SignedDuration::ZERO, |last| last.at.duration_since(self.opening.at));
        let lasted = scaled_duration(std::time::Duration::try_from(lasted).unwrap_or_default());
        format!(
            "Hello {}, your program {} on {} used too much from {}{read}, for {lasted} in all; the rule for that is called {}. {done}{end}",
            subject.owner,
            subject.app,
            self.opening.host,
            when::date(self.opening.at),
            self.rule(),
        )
    }
}

fn letter(record: &Record) -> Option<char> {
    match (&record.kind, record.verb()) {
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

/// `memory.held 812 MiB`.
fn reading_of(evidence: &Evidence) -> Option<String> {
    Some(format!("{} {}", evidence.field.as_deref()?, evidence.reading_in_words()?))
}

fn in_plain_words(verb: &Verb, outcome: &Came) -> Option<&'static str> {
    Some(match (verb, outcome) {
        (Verb::Lower, Came::Lowered) => "it was made to give way to other programs",
        (Verb::Suspend, Came::Suspended) => "it was held for a moment",
        (Verb::Terminate, Came::Ended) => "it was asked to end, and ended",
        (Verb::Terminate, Came::EndedByForce) => "it did not end when asked, and was ended by force",
        (Verb::Restart, Came::Restarted) => "it was started anew",
        _ => return None,
    })
}
