//! The rules file: TOML, `format = 1`. All errors of a file are reported in one go.

use std::time::Duration;

use sha2::{Digest, Sha256};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::keys::{self, Reading};
use super::options::Names;
use super::section::{Section, Source};
use super::wording::wording;
use super::{
    Action, Again, Audit, Budget, Cap, FORMAT, Hours, Keep, Lookback, Pick, Rule, RuleSet, Severity, Step, Unasked,
    Usage, asking, channels, checkup, figures, keeping, ladder, options, telling,
};
use crate::condition::{Condition, Place};
use crate::diag::Diagnostic;
use crate::order::InOrder;
use crate::sorted::SortedMap;
use crate::subject::Judged;
use crate::telling::Telling;
use crate::text::{hex, nearest};

/// Largest rules file, in bytes.
pub const LARGEST: usize = 1024 * 1024;

const MINUTE: Duration = Duration::from_secs(60);
const WEEK: Duration = Duration::from_secs(7 * 86_400);
const DEFAULT_EVERY: Duration = Duration::from_secs(2);

/// A rules file that cannot be used: its text as far as it is text, and everything wrong with it.
#[derive(Debug, Clone)]
pub struct Rejected {
    /// The text that the places refer to.
    pub text: String,
    /// At least one.
    pub errors: Vec<Diagnostic>,
}

/// One of the files that rules are read from.
#[derive(Debug, Clone, Copy)]
pub struct File<'b> {
    /// What stands in it.
    pub bytes: &'b [u8],
}

/// Reads one rules file.
///
/// # Errors
/// Everything wrong with it, each with its place and a mend.
pub fn load(bytes: &[u8]) -> Result<RuleSet, Rejected> {
    load_files(&[File { bytes }]).map_err(|mut rejected| match rejected.pop() {
        Some((_, rejected)) => rejected,
        None => Rejected { text: String::new(), errors: vec![Diagnostic::whole("nothing was read")] },
    })
}

/// Reads a rules file and the further ones beside it, in that order: rules add up, protections are joined, and
/// `[adjust.NAME]` changes keys of an earlier rule.
///
/// # Errors
/// Everything wrong with them, by the place of the file.
pub fn load_files(files: &[File<'_>]) -> Result<RuleSet, Vec<(usize, Rejected)>> {
    let mut so_far = SoFar::default();
    let mut rejected = Vec::new();
    let mut digest = Sha256::new();
    for (place, file) in files.iter().enumerate() {
        digest.update(file.bytes);
        if let Err(error) = one_file(&mut so_far, place, file.bytes) {
            rejected.push((place, error));
        }
    }
    // What is only known when all are read: which windows each rule keeps.
    let mut rules = so_far.rules;
    rules.hours = so_far.hours;
    rules.rules.iter_mut().for_each(bind_windows);
    rules.digest = hex(&digest.finalize());
    if rejected.is_empty() { Ok(rules) } else { Err(rejected) }
}

fn bind_windows(rule: &mut Rule) {
    rule.windows.clear();
    let conditions = rule.covers.iter_mut().chain([&mut rule.breach]).chain(&mut rule.calm);
    conditions.for_each(|condition| condition.bind(&mut rule.windows));
}

/// What the files read so far say.
struct SoFar {
    rules: RuleSet,
    hours: Names,
    /// The names of rules and where they stand: file and place in it.
    names: SortedMap<String, (usize, usize)>,
}

impl Default for SoFar {
    fn default() -> Self {
        let rules = RuleSet {
            every: DEFAULT_EVERY,
            settle: Duration::ZERO,
            cap: Cap::default(),
            protect: Vec::new(),
            rules: Vec::new(),
            hours: Names::new(),
            checkup: crate::checkup::Settings::default(),
            lookback: Lookback::default(),
            usage: Usage::default(),
            audit: Audit::default(),
            telling: Telling::default(),
            figures: None,
            digest: String::new(),
        };
        SoFar { rules, hours: Names::new(), names: SortedMap::new() }
    }
}

fn one_file(so_far: &mut SoFar, place: usize, bytes: &[u8]) -> Result<(), Rejected> {
    let reject = |text: String, errors| Err(Rejected { text, errors });
    if bytes.len() > LARGEST {
        return reject(String::new(), vec![Diagnostic::whole(format!("a rules file is at most {LARGEST} bytes long"))]);
    }
    let text = match str::from_utf8(bytes) {
        Ok(text) => text,
        Err(error) => {
            let at = error.valid_up_to();
            let lossy = String::from_utf8_lossy(bytes).into_owned();
            let byte = bytes.get(at).copied().unwrap_or_default();
            let place = at..(at + char::REPLACEMENT_CHARACTER.len_utf8()).min(lossy.len());
            let diagnostic = Diagnostic::at(place, "the file is not UTF-8", format!("byte {byte:#04x} at offset {at}"))
                .help("save it as UTF-8 in your editor");
            return reject(lossy, vec![diagnostic]);
        }
    };
    let mut source = Source { text, errors: Vec::new() };
    let (table, syntax_errors) = DeTable::parse_recoverable(text);
    for error in &syntax_errors {
        let span = error.span().unwrap_or(0..0);
        let title = format!("not valid TOML: {}", crate::text::clean(error.message().as_bytes()));
        let rest = text.get(span.start..).unwrap_or_default();
        let word: String = rest.chars().take_while(|c| c.is_alphanumeric()).collect();
        let help = match word.to_lowercase().as_str() {
            "yes" | "on" => "write `true`".to_owned(),
            "no" | "off" => "write `false`".to_owned(),
            _ => "a rules file is TOML: `key = \"value\"` lines under `[[rule]]` headings".to_owned(),
        };
        source.error(Diagnostic::at(span, title, "here").help(help));
    }
    // After an error of syntax the rest of the tree is what could be made of it: further errors could be its echo.
    if syntax_errors.is_empty() {
        file(&mut source, &table, so_far, place);
    }
    let mut errors = source.errors;
    if errors.is_empty() {
        return Ok(());
    }
    errors.order_by_key(|error| error.span.as_ref().map_or(0, |span| span.start));
    reject(text.to_owned(), errors)
}

fn file(source: &mut Source<'_>, table: &Spanned<DeTable<'_>>, so_far: &mut SoFar, place: usize) {
    let section = Section { table: table.get_ref(), start: 0, name: "the rules file" };
    if !format_is_ours(source, &section) {
        return;
    }
    source.only(&section, &keys::FILE, if place == 0 { Reading::All } else { Reading::Further });
    if place == 0 {
        let rules = &mut so_far.rules;
        let every = source.duration(&section, "every", [Duration::from_millis(100), MINUTE], "\"2s\"");
        rules.every = every.unwrap_or(DEFAULT_EVERY);
        rules.settle = source.duration(&section, "settle", [Duration::ZERO, 60 * MINUTE], "\"2m\"").unwrap_or_default();
        rules.cap = options::cap(source, &section);
        rules.audit = keeping::audit(source, &section);
        rules.lookback = keeping::lookback(source, &section);
        rules.usage = keeping::usage(source, &section, &rules.audit);
        channels::deliver(source, &section, &mut rules.telling);
        rules.figures = figures::figures(source, &section);
        rules.checkup = section.get("checkup").map(|value| checkup::settings(source, value)).unwrap_or_default();
    }
    options::names(source, &section, &mut so_far.hours);
    so_far.rules.protect.extend(protect(source, &section));
    rules(source, &section, so_far, place);
    adjust(source, &section, so_far);
    channels::channels(source, &section, &so_far.hours, &mut so_far.rules.telling);
    telling::tells(source, &section, &mut so_far.rules.telling);
}

fn protect(source: &mut Source<'_>, section: &Section<'_>) -> Option<Condition> {
    let value = section.get("protect")?;
    let DeValue::Table(table) = value.get_ref() else {
        source.wrong_type(value, "protect", "a table", "{ where = 'app = \"fernpanel\"' }");
        return None;
    };
    let section = Section { table, start: value.span().start, name: "[protect]" };
    source.only(&section, &keys::PROTECT, Reading::All);
    if section.get("where").is_none() {
        source.missing(&section, "where", "'app = \"fernpanel\"'");
    }
    source.condition(&section, "where", Place::Protect)
}

/// `[adjust.NAME]`: keys of an earlier rule, changed.
fn adjust(source: &mut Source<'_>, section: &Section<'_>, so_far: &mut SoFar) {
    let Some(value) = section.get("adjust") else { return };
    let DeValue::Table(tables) = value.get_ref() else {
        source.wrong_type(value, "adjust", "a table for each rule", "…` under `[adjust.press-leak]");
        return;
    };
    for (name, value) in tables.iter() {
        let known = so_far.rules.rules.iter_mut().find(|rule| rule.name == name.get_ref().as_ref());
        let (Some(rule), DeValue::Table(table)) = (known, value.get_ref()) else {
            let shown = crate::text::clean(name.get_ref().as_bytes());
            let near = nearest(name.get_ref(), so_far.names.keys().map(String::as_str));
            let help = near
                .map_or("it changes a rule of a file before it".to_owned(), |near| format!("write `[adjust.{near}]`"));
            source.error(
                Diagnostic::at(name.span(), format!("there is no rule `{shown}` to adjust"), "not known").help(help),
            );
            continue;
        };
        let section = Section { table, start: value.span().start, name: "an adjustment" };
        source.only(&section, &keys::RULE, Reading::Adjusting);
        let changed = keys(source, &section, &so_far.hours, rule.judge, Some(&rule.breach));
        changed.change(rule);
        rule.text = format!("{}\n\n{}", rule.text, wording(source.text, value));
        check_pick(source, &section, rule);
    }
}

fn format_is_ours(source: &mut Source<'_>, section: &Section<'_>) -> bool {
    let Some(value) = section.get("format") else {
        source.error(
            Diagnostic::at(0..0, "the rules file lacks `format`", "not the first line")
                .help("begin the file with `format = 1`"),
        );
        return false;
    };
    match source.integer(section, "format", [1, i64::MAX], "1") {
        Some(FORMAT) => true,
        Some(newer) => {
            let title = format!("this rules file has format {newer}, written for a newer version of Sophron");
            source.error(
                Diagnostic::at(value.span(), title, format!("this version reads format {FORMAT}"))
                    .help("update Sophron, or write the file in `format = 1`"),
            );
            false
        }
        None => false,
    }
}

fn rules(source: &mut Source<'_>, section: &Section<'_>, so_far: &mut SoFar, place: usize) {
    // A file that only protects is a whole file: the machine's protections bind every user's rules. So is one that
    // only says what checkup goes by, who is told, or changes another file's rules.
    let enough = ["rule", "protect", "lookback", "usage", "audit", "checkup", "adjust", "hours", "channel", "tell"];
    if !enough.iter().any(|key| section.get(key).is_some()) {
        source.error(
            Diagnostic::at(section.place(), "the rules file has no rule and no protection", "nothing in it to watch for").help(
                "add a table: `[[rule]]`, `name = \"press-leak\"`, `breach = 'memory.held > 750 MiB'`, `lasting = \"20s\"`",
            ),
        );
    }
    source.each(section, "rule", "a rule", |source, section, value| {
        let wording = wording(source.text, value);
        let rule = rule(source, section, &so_far.hours, &mut so_far.names, place);
        so_far.rules.rules.extend(rule.map(|rule| Rule { text: wording, ..rule }));
    });
}

/// The keys that a rule may leave out, and an adjustment may change.
struct Given {
    note: Option<String>,
    covers: Option<Condition>,
    breach: Option<Condition>,
    lasting: Option<Duration>,
    calm: Option<Condition>,
    severity: Option<Severity>,
    armed: Option<bool>,
    hours: Option<Hours>,
    again: Option<Again>,
    budget: Option<Budget>,
    pick: Option<Pick>,
    keep: Option<Keep>,
    unasked: Option<Unasked>,
    ladder: Option<Vec<Step>>,
}

impl Given {
    fn change(self, rule: &mut Rule) {
        fn set<T>(place: &mut T, given: Option<T>) {
            if let Some(given) = given {
                *place = given;
            }
        }
        fn put<T>(place: &mut Option<T>, given: Option<T>) {
            if given.is_some() {
                *place = given;
            }
        }
        put(&mut rule.note, self.note);
        put(&mut rule.covers, self.covers);
        set(&mut rule.breach, self.breach);
        set(&mut rule.lasting, self.lasting);
        put(&mut rule.calm, self.calm);
        set(&mut rule.severity, self.severity);
        set(&mut rule.armed, self.armed);
        set(&mut rule.hours, self.hours);
        set(&mut rule.again, self.again);
        put(&mut rule.budget, self.budget);
        set(&mut rule.pick, self.pick);
        put(&mut rule.keep, self.keep);
        set(&mut rule.unasked, self.unasked);
        set(&mut rule.ladder, self.ladder);
    }
}

fn keys(
    source: &mut Source<'_>,
    section: &Section<'_>,
    names: &Names,
    judge: Judged,
    before: Option<&Condition>,
) -> Given {
    let note = source
        .text(section, "note", "\"The label press leaks.\"")
        .map(|text| crate::text::clean(text.value.as_bytes()));
    let covers = source.condition(section, "where", Place::Look);
    let breach = source.condition(section, "breach", Place::Judged(judge));
    let lasting = source.duration(section, "lasting", [Duration::ZERO, WEEK], "\"20s\"");
    let calm = source.condition(section, "calm", Place::Judged(judge));
    let severity = severity(source, section);
    let armed = source.flag(section, "armed");
    let hours = options::hours(source, section, "hours", names);
    let again = options::again(source, section, breach.as_ref().or(before));
    let budget = options::budget(source, section);
    let pick = options::pick(source, section);
    let keep = asking::keep(source, section);
    let unasked = asking::unasked(source, section);
    let ladder = section.get("ladder").map(|_| ladder::ladder(source, section, names, judge));
    Given { note, covers, breach, lasting, calm, severity, armed, hours, again, budget, pick, keep, unasked, ladder }
}

fn rule(
    source: &mut Source<'_>,
    section: &Section<'_>,
    hours: &Names,
    names: &mut SortedMap<String, (usize, usize)>,
    place: usize,
) -> Option<Rule> {
    source.only(section, &keys::RULE, Reading::All);
    let name = rule_name(source, section, names, place);
    let judge = judged(source, section);
    let mut given = keys(source, section, hours, judge, None);
    for (key, example) in [("breach", "'memory.held > 750 MiB'"), ("lasting", "\"20s\"")] {
        if section.get(key).is_none() {
            source.missing(section, key, example);
        }
    }
    let mut rule = Rule {
        text: String::new(),
        name: name?.into(),
        note: None,
        covers: None,
        judge,
        breach: given.breach.take()?,
        lasting: given.lasting.take()?,
        calm: None,
        severity: Severity::Warning,
        armed: false,
        hours: Hours::default(),
        again: Again::default(),
        budget: None,
        pick: Pick::All,
        keep: None,
        unasked: Unasked::default(),
        ladder: vec![Step::new(Duration::ZERO, Action::Alert)],
        windows: Vec::new(),
        file: place,
    };
    given.change(&mut rule);
    check_pick(source, section, &rule);
    Some(rule)
}

fn judged(source: &mut Source<'_>, section: &Section<'_>) -> Judged {
    let Some(text) = source.text(section, "judge", "\"process\"") else { return Judged::Process };
    Judged::named(&text.value).unwrap_or_else(|| {
        let shown = crate::text::clean(text.value.as_bytes());
        let words = Judged::ALL.map(Judged::word);
        let near = nearest(&text.value, words);
        let help = near.map_or(format!("subjects: {}", words.join(", ")), |near| format!("write `{near}`"));
        source.error(Diagnostic::at(text.span, format!("`{shown}` is not a subject"), "not judged").help(help));
        Judged::Process
    })
}

/// Whom a rule acts on must be said: a tree's root and the machine's offenders by `where`, one of the machine's by `pick`.
fn check_pick(source: &mut Source<'_>, section: &Section<'_>, rule: &Rule) {
    let acts = rule.ladder.iter().any(|step| step.action.is_act());
    let place = |key| section.get(key).map_or_else(|| section.place(), Spanned::span);
    if acts && rule.covers.is_none() && matches!(rule.judge, Judged::Tree | Judged::Machine) {
        source.error(
            Diagnostic::at(
                place("ladder"),
                format!("a rule that judges {} and acts needs a `where`", rule.judge.with_article()),
                "on whom?",
            )
            .help("add `where = 'app = \"labelpress\"'`"),
        );
    }
    if acts && rule.judge == Judged::Machine && rule.pick == Pick::All {
        source.error(
            Diagnostic::at(
                place("pick"),
                "a rule that judges the machine may act on one process, and not on all",
                "on whom?",
            )
            .help("add `pick = \"most memory\"`"),
        );
    }
    if rule.judge == Judged::Process && rule.pick != Pick::All {
        source.error(
            Diagnostic::at(place("pick"), "a rule that judges a process has nothing to pick from", "has no effect")
                .help("remove it"),
        );
    }
}

fn rule_name(
    source: &mut Source<'_>,
    section: &Section<'_>,
    names: &mut SortedMap<String, (usize, usize)>,
    place: usize,
) -> Option<String> {
    let name = source.name(section, "\"press-leak\"")?;
    if let Some(first) = names.get(&name.value) {
        let used = if first.0 == place {
            format!("already used in line {}", crate::diag::line_and_column(source.text, first.1).0)
        } else {
            "already used in a file before".to_owned()
        };
        source.error(
            Diagnostic::at(name.span, format!("two rules are called `{}`", name.value), used)
                .help("give each rule a name of its own: the record goes by it"),
        );
        return None;
    }
    names.insert(name.value.clone(), (place, name.span.start));
    Some(name.value)
}

pub(super) fn severity(source: &mut Source<'_>, section: &Section<'_>) -> Option<Severity> {
    let text = source.text(section, "severity", "\"warning\"")?;
    let all = [Severity::Notice, Severity::Warning, Severity::Critical];
    let known = all.into_iter().find(|severity| severity.word() == text.value);
    if known.is_none() {
        let shown = crate::text::clean(text.value.as_bytes());
        let near = nearest(&text.value, all.map(Severity::word));
        let help = near.map_or("write notice, warning or critical".to_owned(), |near| format!("write `{near}`"));
        source.error(Diagnostic::at(text.span, format!("`{shown}` is not a severity"), "unknown severity").help(help));
    }
    known
}
