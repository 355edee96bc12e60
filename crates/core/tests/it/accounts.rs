//! From what happens to its record, and from the records to the account of a case: nothing is read out of prose, old trails are
//! read, and words of newer versions are kept.

use jiff::tz::TimeZone;
use serde_json::Value;
use sophron_core::act::{Ending, Outcome, Restoring, Verb};
use sophron_core::audit::{Came, Draft, InForce, Kind, Link, Record, SeverityWord, account, cases};
use sophron_core::dispatch::Input;

use crate::script::{PID, load, seconds};
use crate::watch::{Watch, lowered, suspended};

const WRITER: &str = "[[rule]]\nname = 'bake-flood'\nnote = 'It writes without end.'\nbreach = 'disk.write > 19 MB/s'\nlasting = '1s'\nseverity = 'critical'\narmed = true\nladder = [ { at = '0s', do = 'lower' }, { at = '2s', do = 'terminate', force_after = '10s' } ]\n";

/// The story of a writer without end, as the trail has it.
fn drafts() -> Vec<Draft> {
    let mut watch = Watch::new(&load(WRITER));
    watch.world.process(PID).disk_write = Some(20_866_662.0);
    watch.ticks(2, 100);
    let mut drafts = watch.drafts();
    watch.came(lowered(15));
    watch.ticks(2, 100);
    drafts.extend(watch.drafts());
    watch.came(Outcome::Ended(Ending { forced: true, ..Ending::default() }));
    watch.world.processes.clear();
    watch.step(Input::Time);
    watch.ticks(2, 100);
    while !watch.under_way.is_empty() {
        watch.came(Outcome::Restored(Restoring::default()));
    }
    drafts.extend(watch.drafts());
    drafts
}

pub fn sealed(drafts: &[Draft], change: impl Fn(String) -> String) -> Vec<Record> {
    let mut link = Link::default();
    let lines: Vec<String> = drafts.iter().map(|draft| change(link.seal(draft).unwrap())).collect();
    // What is changed after it was sealed is no sound trail, but it is read all the same.
    lines.iter().map(|line| serde_json::from_str(line).unwrap()).collect()
}

fn entry<'a>(document: &'a Value, word: &str) -> Vec<&'a str> {
    let entries = document["entries"].as_array().unwrap();
    let lines =
        entries.iter().filter(|entry| entry["word"] == word).flat_map(|entry| entry["lines"].as_array().unwrap());
    lines.filter_map(Value::as_str).collect()
}

#[test]
fn a_rate_stays_a_rate_from_the_sample_to_the_letter() {
    let records = sealed(&drafts(), |line| line);
    let told = account(&records, 1, &TimeZone::UTC, &|_| false).unwrap().json();
    let why = entry(&told, "why").concat();
    assert!(why.contains("19.9 MiB/s"), "{why}");
    let letter = told["entries"].as_array().unwrap().last().unwrap()["lines"][0].as_str().unwrap().to_owned();
    assert!(letter.contains("19.9 MiB/s") && !letter.contains("19.9 MiB "), "{letter}");
    let done = entry(&told, "done").join("\n");
    assert!(done.contains("lower") && done.contains("ended by force"), "{done}");
    let case = &cases(&records)[0];
    assert_eq!((&case.severity, case.story.word()), (&SeverityWord::Critical, "ended"));
    assert_eq!(case.done.first().map(ToString::to_string).as_deref(), Some("lowered"));
}

/// A trail of format 1 does not say of which kind a reading is: it is told in the words of that time, and nothing is made up.
#[test]
fn an_old_trail_is_still_told() {
    let records = sealed(&drafts(), |line| line.replace("\"reads_as\":\"rate\",", ""));
    assert!(records.iter().filter_map(|record| record.evidence.as_ref()).all(|evidence| evidence.reads_as.is_none()));
    let told = account(&records, 1, &TimeZone::UTC, &|_| false).unwrap().json().to_string();
    assert!(told.contains("19.9 MiB/s"), "the words of that time: {told}");
    let bare = told.replace("19.9 MiB/s", "");
    assert!(!bare.contains("19.9 MiB"), "{told}");
}

/// A newer version's words are kept as they stand, and taken for none of ours.
#[test]
fn words_of_a_newer_version_are_kept() {
    let newer = |line: String| {
        let line = line.replace("\"severity\":\"critical\"", "\"severity\":\"dire\"");
        line.replace("\"outcome\":\"lowered\"", "\"outcome\":\"put to sleep\"")
            .replace("\"do\":\"lower\"", "\"do\":\"lull\"")
    };
    let records = sealed(&drafts(), newer);
    let case = &cases(&records)[0];
    assert_eq!((case.severity.word(), case.severity.known()), ("dire", None), "unknown, and no warning");
    let lulled = records.iter().find(|record| record.kind == Kind::Outcome).unwrap();
    let (verb, came) = (&lulled.action.as_ref().unwrap().verb, &lulled.result.as_ref().unwrap().outcome);
    assert_eq!((verb, came), (&Verb::Other("lull".to_owned()), &Came::Other("put to sleep".to_owned())));
    assert_eq!(InForce::of(&records).holds().count(), 0, "an act that is not known is not taken for a lowering");
    let again = serde_json::to_string(&records).unwrap();
    assert!(again.contains("\"severity\":\"dire\"") && again.contains("\"outcome\":\"put to sleep\""), "{again}");
    let told = account(&records, 1, &TimeZone::UTC, &|_| false).unwrap().json().to_string();
    assert!(told.contains("put to sleep") && told.contains("dire"), "{told}");
}

/// A rule on the machine picks somebody: the letter is about him and by his own figure, and nothing is left to take back of who has
/// ended meanwhile.
#[test]
fn the_letter_is_about_whom_something_was_done_to() {
    let rules = "settle = '0s'\n[[rule]]\nname = 'short'\njudge = 'machine'\nwhere = 'not kernel'\nbreach = 'machine.memory.available < 500 MiB'\n\
                 lasting = '0s'\narmed = true\npick = 'most memory'\nladder = [ { at = '0s', do = 'suspend', for = '5m' } ]\n";
    let mut watch = Watch::new(&load(rules));
    watch.world.machine.memory_available = Some(100 << 20);
    watch.world.process(PID).memory_held = Some(2 << 30);
    watch.world.process(PID).cpu = Some(42.0);
    watch.sample();
    let mut drafts = watch.drafts();
    let now = watch.world.moment;
    watch.came(suspended(now, seconds(300)));
    drafts.extend(watch.drafts());
    let records = sealed(&drafts, |line| line);
    let told = |gone: bool| account(&records, 1, &TimeZone::UTC, &move |_| gone).unwrap().json();
    let letter = told(false)["entries"].as_array().unwrap().last().unwrap()["lines"][0].as_str().unwrap().to_owned();
    let about = "Hello ines, this is about your program labelpress on mossgate-desk-03: it held 2.00 GiB of memory and used 42% of a core, \
                 when the machine had little memory left.";
    assert!(letter.starts_with(about), "{letter}");
    assert!(letter.contains("it was held for a while") && letter.contains("it was not over"), "{letter}");
    assert!(entry(&told(false), "undone").concat().contains("still suspended"));
    assert_eq!(entry(&told(true), "undone"), ["nothing is in force any more"]);
    // What was taken back since is told as well.
    watch.step(Input::End);
    watch.came(Outcome::Resumed(None));
    drafts.extend(watch.drafts());
    let records = sealed(&drafts, |line| line);
    let account = account(&records, 1, &TimeZone::UTC, &|_| false).unwrap().json();
    assert!(account.to_string().contains("it was held for a while; 07:30:00 it went on."), "{account}");
}

/// An outcome stands with the reading that it was done for, and not with what a process that is ending has left; and of several
/// each line says whom it was about.
#[test]
fn what_was_done_is_told_with_why_and_to_whom() {
    let rules = |armed: bool| {
        load(&format!(
            "[[rule]]\nname = 'presses'\njudge = 'app'\nwhere = 'app = \"labelpress\"'\nbreach = 'memory.held > 1500 MiB'\n\
             lasting = '0s'\narmed = {armed}\nladder = [ {{ at = '0s', do = 'terminate' }} ]\n"
        ))
    };
    let story = |armed: bool| {
        let mut watch = Watch::new(&rules(armed));
        watch.world.processes.push(sophron_testkit::process(PID + 1, "labelpress"));
        watch.ticks(1, 800);
        let mut drafts = watch.drafts();
        watch.ticks(1, 10);
        while !watch.under_way.is_empty() {
            watch.came(Outcome::Ended(Ending::default()));
        }
        let lines = watch.told.iter().filter_map(|happening| Some(happening.line(&TimeZone::UTC)?.text.to_string()));
        let lines: Vec<String> = lines.collect();
        drafts.extend(watch.drafts());
        let told = account(&sealed(&drafts, |line| line), 1, &TimeZone::UTC, &|_| true).unwrap().json();
        (lines, entry(&told, "done").join("\n"), entry(&told, "who").join("\n"))
    };
    let (lines, ..) = story(true);
    let outcomes = lines.iter().filter(|line| line.contains("memory.held was 1.56 GiB, limit 1.46 GiB"));
    assert_eq!(outcomes.count(), 2, "{lines:?}");
    let (_, done, who) = story(false);
    assert!(done.contains("shadow 51907-") && done.contains("shadow 51908-"), "{done}");
    assert!(who.starts_with("labelpress (ines), 2 processes, judged as one app"), "{who}");
}
