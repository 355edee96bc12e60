//! The person at the desk: a notice in his own session, from a root watcher too; a question before what cannot be undone, and what becomes
//! of his answer. A private world with a real message bus; what counts is what the kernel says afterwards.

use std::process::Command;

use serde_json::Value;
use sophron_testkit::desk::{INES, Notices, Office, TOMAS};
use sophron_testkit::{Offender, Running, Stage, eventually, is_gone, is_suspended};

use crate::stage;

const RULE: &str = "format = 1\nevery = '200ms'\n[[channel]]\nname = 'owner'\nto = 'desk'\n[[tell]]\nby = ['owner']\n\
    [[rule]]\nname = 'press-leak'\nwhere = 'path ~ \"PLACE/*\"'\nbreach = 'memory.held > 10 MiB'\nlasting = '200ms'\narmed = true\n\
    keep = { for = '30m', times = 1 }\nladder = [ { at = '0s', do = 'alert' }, { at = '400ms', do = 'terminate', ask = 'ASK' } ]\n";

/// A root watcher in an office, and an offender of ines's.
struct Scene {
    roots: Stage,
    theirs: Stage,
    office: Office,
}

impl Scene {
    fn set() -> Option<Scene> {
        let roots = stage();
        let theirs = stage().as_user(INES);
        let office = Office::in_folder(&roots.path(""))?;
        let roots = roots.within(office.within());
        Some(Scene { roots, theirs, office })
    }

    fn offender(&self) -> Offender {
        self.theirs.offender("labelpress", &["--grow", "100MiB/s", "--up-to", "30MiB"])
    }

    fn watch(&self, ask: &str, more: &str) -> Running {
        let place = self.theirs.path("").display().to_string();
        let rules = RULE.replace("PLACE", place.trim_end_matches('/')).replace("ASK", ask);
        let rules = self.roots.write("rules.toml", format!("{rules}{more}"));
        self.roots.watch(&rules, &[])
    }

    /// The outcomes of the records of that kind.
    fn outcomes(&self, kind: &str) -> Vec<String> {
        let of_kind = |record: &&Value| record["kind"] == kind;
        let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
        self.roots.records().iter().filter(of_kind).map(|record| text(&record["result"]["outcome"])).collect()
    }

    fn record(&self, outcome: &str) -> Value {
        eventually(outcome, || self.roots.records().into_iter().rfind(|record| record["result"]["outcome"] == outcome))
    }
}

#[test]
fn a_person_is_told_and_asked_and_lets_it_run() {
    let Some(mut scene) = Scene::set() else { return };
    let notices = Notices::on(&scene.office.bus(INES), INES);
    let offender = scene.offender();
    let watcher = scene.watch("10m", "");
    let opened = notices.with("uses a lot of memory");
    assert!(
        opened.urgency == 1 && opened.actions.is_empty() && opened.body.contains("the limit is 10.0 MiB"),
        "{opened:?}"
    );
    let asked = notices.with("will be ended at");
    assert_eq!((asked.instead, asked.urgency), (opened.number, 2), "one notice a case, and in front while asking");
    let labels: Vec<&String> = asked.actions.iter().skip(1).step_by(2).collect();
    assert_eq!(labels, ["Let it run 30 minutes", "Suspend it for 5 minutes", "End it now"]);
    // Another program of his has pressed nothing, and neither has an old key.
    notices.forge(asked.number, &asked.key("end").unwrap());
    assert_eq!(scene.record("turned down")["answer"]["answer"], "end");
    notices.press(asked.number, "end.0123");
    notices.press(asked.number, &asked.key("let-run").unwrap());
    notices.with("runs on until");
    let answer = scene.record("answered");
    assert_eq!(answer["answer"]["over"], format!("the bus of user {INES}"));
    notices.press(asked.number, &asked.key("end").unwrap());
    assert!(!is_gone(offender.pid()), "the first answer counts");
    let _ = watcher.interrupt();
    assert!(!is_gone(offender.pid()));
    eventually("what is open is taken down", || {
        notices.taken_down.lock().unwrap().contains(&asked.number).then_some(())
    });
}

#[test]
fn what_is_answered_is_done_and_whoever_does_not_is_not_waited_for() {
    let Some(mut scene) = Scene::set() else { return };
    let notices = Notices::on(&scene.office.bus(INES), INES);
    let offender = scene.offender();
    let watcher = scene.watch("5s", "");
    let asked = notices.with("will be ended at");
    notices.press(asked.number, &asked.key("suspend").unwrap());
    eventually("it stands still", || is_suspended(offender.pid()).then_some(()));
    notices.with("stands still until");
    drop(watcher.interrupt());
    eventually("it goes on with the end of the watcher", || (!is_suspended(offender.pid())).then_some(()));

    let watcher = scene.watch("5s", "");
    let asked = eventually("asked anew", || {
        notices.latest("will be ended at").filter(|shown| shown.key("end") != asked.key("end"))
    });
    notices.put_away(asked.number);
    eventually("nobody answers", || is_gone(offender.pid()).then_some(()));
    assert!(scene.outcomes("answer").contains(&"unanswered".to_owned()));
    notices.with("was ended");
    drop(watcher.interrupt());
}

/// Root's word and his own count, another's does not; each is the kernel's word.
#[test]
fn answers_by_command() {
    let Some(mut scene) = Scene::set() else { return };
    let notices = Notices::on(&scene.office.bus(INES), INES);
    let offender = scene.offender();
    let _watcher = scene.watch("10m", "");
    notices.with("will be ended at");
    let state = scene.roots.state().display().to_string();
    let answer = |word: &str| scene.roots.run(&["answer", "1", word, "--state", &state]);
    let refused = answer("restart");
    assert_eq!((refused.status, refused.stderr.contains("let-run, suspend, end")), (Some(4), true), "{refused:?}");
    let heard = answer("end");
    assert_eq!((heard.status, heard.stdout.as_str()), (Some(0), "case 1: it is asked to end\n"), "{heard:?}");
    eventually("it ends", || is_gone(offender.pid()).then_some(()));
    let record = scene.record("answered");
    assert_eq!(
        (record["answer"]["uid"].as_u64(), record["answer"]["over"].as_str()),
        (Some(0), Some("the command of user 0"))
    );
    assert_eq!(answer("end").status, Some(4), "an answer twice");
    let _ = Command::new("true").status();
    let _ = TOMAS;
}

/// Who cannot be asked is not waited for: no session, nobody who shows notices, one who is mute.
#[test]
fn who_cannot_be_asked_holds_nothing_up() {
    let Some(mut scene) = Scene::set() else { return };
    let why = |scene: &Scene| {
        let record = scene.record("unasked");
        record["result"]["seen"].as_str().unwrap_or_default().to_owned()
    };
    let offender = scene.offender();
    let watcher = scene.watch("10m", "");
    eventually("done all the same", || is_gone(offender.pid()).then_some(()));
    assert!(why(&scene).contains("not logged in at a desktop"), "{}", why(&scene));
    drop(watcher.interrupt());

    let socket = scene.office.bus(INES);
    let offender = scene.offender();
    let watcher = scene.watch("10m", "");
    eventually("done all the same", || is_gone(offender.pid()).then_some(()));
    assert!(why(&scene).contains("no program shows notices there"), "{}", why(&scene));
    drop(watcher.interrupt());

    let notices = Notices::on(&socket, INES);
    notices.manner.lock().unwrap().mute = true;
    let offender = scene.offender();
    let watcher = scene.watch("10m", "");
    eventually("done all the same", || is_gone(offender.pid()).then_some(()));
    assert!(why(&scene).contains("not within") || why(&scene).contains("nothing was heard"), "{}", why(&scene));
    drop(watcher.interrupt());
}
