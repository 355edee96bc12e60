//! `sophron demo`: the whole way on real, harmless offenders of its own. Nothing else on the machine is judged.

use std::env;
use std::fs;
use std::io::{BufRead, BufReader};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use jiff::tz::TimeZone;
use rustix::process::{Pid, Signal, kill_process};
use sophron_core::answer::Answer;
use sophron_core::happening::Subject;
use sophron_core::model::{Needs, ProcessId};
use sophron_core::telling::Notice;
use sophron_linux::{Sampler, here};

use crate::args::{AuditCommand, AuditFilter, AuditList, AuditVerify, State, TextOrJson};
use crate::exit::{Exit, Failure};
use crate::ui::style::{Label, Styled};
use crate::ui::table::{self, Column};
use crate::ui::{self, events};
use crate::watcher::{self, Plan, rules_file};

const RULES: &str = include_str!("../../../../examples/demo.toml");
/// The longest that it takes: on a machine that is busy with something else all of it comes later.
const LENGTH: Duration = Duration::from_secs(60);

/// An offender: its app, how it misbehaves, what is to become of it, and the word for how that ends.
struct Role {
    app: &'static str,
    options: &'static [&'static str],
    story: &'static str,
    end: &'static str,
}

const CAST: [Role; 5] = [
    Role {
        app: "labelpress",
        options: &["--grow", "40MiB/s", "--up-to", "160MiB"],
        story: "leaks: alerted, lowered, suspended, resumed; its owner asked; terminated",
        end: "ended",
    },
    Role {
        app: "sheetlamp",
        options: &["--cpu", "40%"],
        story: "spins: alerted, suspended, resumed, terminated",
        end: "ended",
    },
    Role {
        app: "tilebaker",
        options: &["--cpu", "30%", "--deaf"],
        story: "deaf to the polite signal: ended by force, when the rule says so",
        end: "ended",
    },
    Role {
        app: "plantledger",
        options: &["--cpu", "30%"],
        story: "honestly busy: left alone, its rule is in shadow",
        end: "shadow",
    },
    Role { app: "fernpanel", options: &["--cpu", "30%"], story: "busy and protected: left alone", end: "spared" },
];

/// An offender at work.
struct Player {
    role: &'static Role,
    child: Child,
    id: ProcessId,
    ended: bool,
}

pub fn run() -> Result<Exit, Failure> {
    let folder = make_folder()?;
    let (rules, state, stage) = (folder.join("rules.toml"), folder.join("state"), folder.join("offenders"));
    write_rules(&rules, &stage)?;
    heading("The offenders", "started now, harmless, and ended by the demo in any case");
    let mut players = start(&stage)?;
    let done = perform(&folder, &rules, &state, &mut players);
    for player in &mut players {
        player.end();
    }
    // What stays is the rules file and the record.
    let _ = fs::remove_dir_all(&stage);
    done?;
    ui::out(format_args!("\nNothing of it runs any more. Its rules and its record are in {}\n", folder.display()));
    Ok(Exit::Fine)
}

fn perform(folder: &Path, rules: &Path, state: &Path, players: &mut [Player]) -> Result<(), Failure> {
    heading(
        "The rules at work",
        &format!("{}; on these five processes only, for {} s at most", rules.display(), LENGTH.as_secs()),
    );
    let loaded = rules_file::load(rules)?;
    let enough = Arc::new(AtomicBool::new(false));
    let plan = Plan {
        protections: loaded.protections()?,
        origin: loaded.origin(),
        rules: loaded.rules,
        state: state.to_owned(),
        control: Some(state.to_owned()),
        record: None,
        shadow: false,
        length: Some(LENGTH),
        only: Some(players.iter().map(|player| player.id).collect()),
        service_manager: None,
        own_state: false,
        asks_here: true,
        enough: Arc::clone(&enough),
        owner: rules_file::owner(rules),
        rules_file: None,
        service: false,
        system_log: None,
    };
    let (width, zone, rules) = (table::terminal_width(), TimeZone::system(), plan.rules.rules.clone());
    let place = state.display().to_string();
    let mut waits_for: Vec<&Role> = CAST.iter().collect();
    watcher::run(plan, move |happening| {
        if let Some(line) = happening.line(&zone) {
            let is_of =
                |role: &Role| matches!(&happening.subject, Subject::Process(process) if process.app == role.app);
            waits_for.retain(|role| role.end != line.word || !is_of(role));
            enough.store(waits_for.is_empty(), Ordering::Relaxed);
            ui::out(format_args!("{}\n", events::render(&line, width)));
        }
        let rule = rules.iter().find(|rule| happening.rule.as_ref() == Some(&rule.name));
        if let Some(asked) = rule.and_then(|rule| Notice::of_question(happening, rule, &zone)) {
            ui::out(question(&asked, &place));
        }
        true
    })?;

    heading("What the kernel says now", "read from /proc, not from the watcher");
    ui::out(afterwards(players)?);
    heading("The record", &format!("sophron audit --state {}", state.display()));
    let state = || State { folder: Some(folder.join("state")) };
    let list = AuditList {
        filter: AuditFilter { state: state(), ..AuditFilter::default() },
        records: false,
        follow: false,
        format: TextOrJson::Text,
    };
    super::audit::run(&list, None)?;
    heading("Is it whole?", &format!("sophron audit verify --state {}", folder.join("state").display()));
    super::audit::run(&list, Some(AuditCommand::Verify(AuditVerify { key: None, expect: None, state: state() })))?;
    Ok(())
}

/// What its owner is asked, as he would see it at his desk.
fn question(asked: &Notice, state: &str) -> String {
    let indent = " ".repeat(events::INDENT);
    let answer = |(answer, label): &(Answer, String)| {
        format!("{indent}[{label}]  sophron answer {} {answer} --state {state}\n", asked.case)
    };
    let answers: String = asked.answers.iter().map(answer).collect();
    format!("{indent}{}  {}\n{answers}", Styled(Label::Heading, &asked.title), asked.body)
}

fn heading(title: &str, text: &str) {
    ui::out(format_args!("\n{}  {}\n", Styled(Label::Heading, title), Styled(Label::Faint, text)));
}

/// With root's rights the environment chooses no folder.
fn make_folder() -> Result<PathBuf, Failure> {
    let base = if here::is_privileged() { PathBuf::from("/tmp") } else { env::temp_dir() };
    let folder = tempfile::Builder::new().prefix("sophron-demo-").tempdir_in(&base);
    folder.map(tempfile::TempDir::keep).map_err(|error| {
        Failure::new(Exit::Failed, format!("no folder can be made in {}", base.display())).because(error)
    })
}

fn write_rules(rules: &Path, stage: &Path) -> Result<(), Failure> {
    let failed = |error| Failure::new(Exit::Failed, format!("{} cannot be written", rules.display())).because(error);
    fs::DirBuilder::new().mode(0o700).create(stage).map_err(failed)?;
    let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(rules).map_err(failed)?;
    std::io::Write::write_all(&mut file, RULES.as_bytes()).map_err(failed)
}

fn start(stage: &Path) -> Result<Vec<Player>, Failure> {
    let failed = |error| Failure::new(Exit::Failed, "the offenders cannot be started").because(error);
    let mut children: Vec<(&'static Role, Child)> = Vec::new();
    for role in &CAST {
        let child = Command::new("/proc/self/exe")
            .args(["misbehave", "--as", role.app, "--for", "90s", "--into"])
            .arg(stage)
            .args(role.options)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .spawn();
        children.push((role, child.map_err(failed)?));
    }
    // Each says in one line that it has become who it plays.
    for (role, child) in &mut children {
        let mut line = String::new();
        if let Some(stdout) = child.stdout.as_mut() {
            BufReader::new(stdout).read_line(&mut line).map_err(failed)?;
        }
        ui::out(format_args!("  {:<12} {:<7} {}\n", role.app, child.id(), role.story));
    }
    let mut sampler =
        Sampler::new(Path::new("/proc"), Needs::NONE).map_err(|error| Failure::of(Exit::Failed, error))?;
    let mut players = Vec::new();
    for (role, child) in children {
        let Some(process) = sampler.again(child.id()) else {
            return Err(Failure::new(Exit::Failed, format!("{} ended at once", role.app)));
        };
        players.push(Player { role, child, id: process.id, ended: false });
    }
    Ok(players)
}

fn columns() -> [Column; 4] {
    [Column::text("app"), Column::text("id"), Column::text("state"), Column::number("nice")]
}

fn afterwards(players: &mut [Player]) -> Result<String, Failure> {
    let mut sampler =
        Sampler::new(Path::new("/proc"), Needs::NONE).map_err(|error| Failure::of(Exit::Failed, error))?;
    let mut rows = Vec::new();
    for player in players {
        player.ended |= matches!(player.child.try_wait(), Ok(Some(_)));
        let now = sampler.again(player.id.pid).filter(|process| process.id == player.id && !player.ended);
        let (state, nice) =
            now.map_or(("gone".to_owned(), String::new()), |now| (now.state.word().to_owned(), now.nice.to_string()));
        rows.push(vec![player.role.app.to_owned(), player.id.checked().to_string(), state, nice]);
    }
    Ok(table::render(&columns(), &rows, table::terminal_width()))
}

impl Player {
    /// Ends what the rules have left: our own child, not yet collected, so the PID is still its own.
    fn end(&mut self) {
        if self.ended || matches!(self.child.try_wait(), Ok(Some(_))) {
            return;
        }
        if let Some(pid) = Pid::from_raw(self.child.id().cast_signed()) {
            let _ = kill_process(pid, Signal::TERM);
            let _ = kill_process(pid, Signal::CONT);
        }
        for _ in 0..40 {
            if matches!(self.child.try_wait(), Ok(Some(_))) {
                return;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        // The deaf one, if the rules were interrupted before they came to it.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
