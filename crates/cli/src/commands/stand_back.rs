//! `sophron stand-back`: rules keep their hands off a process, a rule's subjects or everything for a time, by a person's word; and
//! act again.

use std::path::Path;

use sophron_core::dispatch::{Back, Request, Status};
use sophron_core::model::{CheckedPid, Snapshot};
use sophron_core::order::InOrder;
use sophron_core::stand_back::StandBack;
use sophron_core::text::{clean, counted};
use sophron_core::units::scaled_duration;
use sophron_linux::here;

use crate::args;
use crate::commands::target::{self, Target};
use crate::exit::{Exit, Failure};
use crate::ui::{self, paragraph, table, when};
use crate::watcher::control::{self, Reply, Said, Unanswered};
use crate::{places, source};

const INDENT: usize = 10;

pub fn run(args: &args::StandBack) -> Result<Exit, Failure> {
    let state = args.state.folder.as_deref();
    let status = status(state)?;
    if args.targets.is_empty() && !args.all {
        if args.end {
            return Err(Failure::new(Exit::Usage, "on whom are rules to act again?")
                .hint("name them as they were, or --all --end for everything that holds"));
        }
        show(&status.stand_backs);
        return Ok(Exit::Fine);
    }
    let mut back = Back {
        all: args.all,
        seconds: args.length.as_secs(),
        because: args.because.as_deref().map(|because| clean(because.as_bytes())),
        ..Back::default()
    };
    if !args.targets.is_empty() {
        let snapshot = source::present()?;
        for text in &args.targets {
            meant(text, &status, &snapshot, &mut back)?;
        }
    }
    if !args.end {
        back.check().map_err(|why| Failure::new(Exit::Usage, why))?;
    }
    let request = if args.end { Request::ActAgain(back) } else { Request::StandBack(back) };
    match control::request(state, &request).map_err(unanswered)? {
        Reply::StandBack(said) => told(args.end, &said),
        Reply::Refused(why) => Err(Failure::new(Exit::Refused, why)),
        _ => Err(other_version()),
    }
}

fn told(end: bool, said: &Said) -> Result<Exit, Failure> {
    if end && said.ended.is_empty() {
        ui::out("rules did not stand back from that\n");
        show(&said.stand_backs);
        return Ok(Exit::Fine);
    }
    for ended in &said.ended {
        ui::out(format_args!("rules no longer stand back from {}\n", ended.whom));
    }
    show(&said.stand_backs);
    match &said.forgotten {
        Some(why) => {
            Err(Failure::new(Exit::Failed, "it holds, and ends with the watcher: the next one would not know of it")
                .hint(why.clone()))
        }
        None => Ok(Exit::Fine),
    }
}

/// What holds, the longest first.
fn show(all: &[StandBack]) {
    if all.is_empty() {
        ui::out("rules stand back from nothing\n");
    }
    let mut all: Vec<&StandBack> = all.iter().collect();
    all.order_by_key(|one| std::cmp::Reverse(one.over.1));
    for one in all {
        ui::out(paragraph::under("back", INDENT, &in_words(one), table::terminal_width()));
    }
}

/// `from everything until 14:30:00 (28m), root: the month-end run`.
pub fn in_words(one: &StandBack) -> String {
    let now = here::now();
    let because = one.because.as_ref().map(|because| format!(": {because}")).unwrap_or_default();
    let login = one.by.login_uid.filter(|login| *login != one.by.uid);
    let login =
        login.map(|login| format!(" (logged in as {})", here::Users::default().name(login))).unwrap_or_default();
    let until = when::clock_or_date(one.over.1, now.wall, None);
    let left = scaled_duration(std::time::Duration::from_secs(one.left(now).as_secs()));
    format!("from {} until {until} ({left}), by {}{login}{because}", one.whom, one.by.user)
}

/// A rule by its name, or processes.
fn meant(text: &str, status: &Status, snapshot: &Snapshot, back: &mut Back) -> Result<(), Failure> {
    let is_rule = status.rules.iter().any(|rule| rule.rule == text);
    let found = target::find(text, snapshot);
    match (is_rule, found) {
        (true, Ok(Target::App(members))) => {
            let failure = Failure::new(
                Exit::Usage,
                format!("{text} is a rule, and an app of {} now", counted(members.len(), "process")),
            );
            Err(failure.hint(
                "the app's processes are meant by their checked PIDs; a rule of another name would tell them apart",
            ))
        }
        (true, _) => {
            back.rules.push(text.to_owned());
            Ok(())
        }
        (false, Ok(Target::Process(process))) => {
            if text.parse::<CheckedPid>().is_err() {
                ui::err(format_args!("sophron: {text} is {}\n", process.label()));
            }
            back.processes.push((process.id.pid, process.id.start));
            Ok(())
        }
        (false, Ok(Target::App(members))) => {
            back.processes.extend(members.iter().map(|process| (process.id.pid, process.id.start)));
            Ok(())
        }
        (false, Err(failure)) => {
            let all: Vec<&str> = status.rules.iter().map(|rule| rule.rule.as_str()).collect();
            Err(failure.hint(format!("nor is it a rule of the watcher that runs: it has {}", all.join(", "))))
        }
    }
}

fn status(state: Option<&Path>) -> Result<Status, Failure> {
    match control::request(state, &Request::Status).map_err(unanswered)? {
        Reply::Status(report) => Ok(report.status),
        Reply::Refused(why) => Err(Failure::new(Exit::Failed, why)),
        _ => Err(other_version()),
    }
}

pub fn unanswered(why: Unanswered) -> Failure {
    match why {
        Unanswered::NoWatcher => {
            let failure = Failure::new(Exit::Failed, "no watcher runs here that could be asked")
                .hint("`sophron watch` runs the rules; one on another state folder is named with --state DIR");
            match places::of_machine_may_run() {
                true => failure.hint("the machine's own watcher, if it runs, answers to root alone"),
                false => failure,
            }
        }
        Unanswered::Silent(why) => Failure::new(Exit::Failed, why),
    }
}

pub fn other_version() -> Failure {
    Failure::new(Exit::Failed, "the watcher answers something else than was asked: it is of another version")
        .hint("restart it: `systemctl restart sophron`, or end and start `sophron watch`")
}
