//! The stage of an end-to-end test: a temporary folder, the built program in a clean environment, and real offenders
//! that end with the test, whatever it does.

use std::fs;
use std::io::{BufRead, BufReader};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, getpriority_process, kill_process, setpriority_process};
use serde_json::Value;
use tempfile::TempDir;

/// Nothing in a test waits longer than this.
const DEADLINE: Duration = Duration::from_secs(60);

/// Waits until `found` gives something.
///
/// # Panics
/// It has not within a minute.
pub fn eventually<T>(what: &str, mut found: impl FnMut() -> Option<T>) -> T {
    let began = Instant::now();
    loop {
        if let Some(found) = found() {
            return found;
        }
        assert!(began.elapsed() < DEADLINE, "not within {} s: {what}", DEADLINE.as_secs());
        std::thread::sleep(Duration::from_millis(5));
    }
}

/// Whether the test runs as root.
pub fn is_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// The niceness of what a test starts. Where that is allowed it is 0, however mild the tests themselves are run: niceness
/// is of a thread, and what it starts inherits it.
pub fn usual_nice() -> i32 {
    if is_root() {
        // Without the right to it the tests go by what they have.
        let _ = setpriority_process(None, 0);
    }
    getpriority_process(None).unwrap_or(0)
}

/// Whether what is started can still be lowered to 5 and more; a test that needs that skips without.
pub fn can_be_lowered() -> bool {
    let can = usual_nice() < 5;
    if !can {
        println!("skipped: the tests are run milder than what they would lower to");
    }
    can
}

/// A temporary folder and the built program.
#[derive(Debug)]
pub struct Stage {
    folder: TempDir,
    program: PathBuf,
    user: Option<u32>,
    within: Vec<String>,
}

/// What a command printed and how it ended.
#[derive(Debug)]
pub struct Output {
    /// Exit status; `None` when a signal ended it.
    pub status: Option<i32>,
    /// Standard output.
    pub stdout: String,
    /// Standard error.
    pub stderr: String,
}

impl Stage {
    /// A stage for the program at that path.
    ///
    /// # Panics
    /// No temporary folder can be made.
    pub fn new(program: &str) -> Stage {
        usual_nice();
        let folder = tempfile::tempdir().expect("a temporary folder");
        Stage { folder, program: PathBuf::from(program), user: None, within: Vec::new() }
    }

    /// The same stage with everything run as that user; only root can set one.
    ///
    /// # Panics
    /// The folder cannot be given to that user.
    #[must_use]
    pub fn as_user(mut self, uid: u32) -> Stage {
        std::os::unix::fs::chown(self.folder.path(), Some(uid), Some(uid)).expect("root may give a folder away");
        // The build folder may be closed to that user.
        let copy = self.path("sophron");
        copy_program(&self.program, &copy);
        self.program = copy;
        self.user = Some(uid);
        self
    }

    /// The same stage with everything started by those words: in a world of its own.
    #[must_use]
    pub fn within(self, words: Vec<String>) -> Stage {
        Stage { within: words, ..self }
    }

    /// A path in the stage's folder.
    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// The state folder.
    pub fn state(&self) -> PathBuf {
        self.path("state")
    }

    /// Writes a file in the stage's folder. In a text, `{mine}` becomes the condition that is true of this stage's
    /// offenders only: a test never touches what another test, or anybody else, has started.
    ///
    /// # Panics
    /// It cannot be written.
    pub fn write(&self, name: &str, bytes: impl AsRef<[u8]>) -> PathBuf {
        let path = self.path(name);
        let mine = format!("path ~ \"{}/*\"", self.folder.path().display());
        let bytes = match str::from_utf8(bytes.as_ref()) {
            Ok(text) => text.replace("{mine}", &mine).into_bytes(),
            Err(_) => bytes.as_ref().to_vec(),
        };
        fs::write(&path, bytes).expect("the stage's folder can be written");
        // A group-writable umask would make the rules file unsafe.
        fs::set_permissions(&path, std::os::unix::fs::PermissionsExt::from_mode(0o644)).expect("our own file");
        if let Some(user) = self.user {
            std::os::unix::fs::chown(&path, Some(user), Some(user)).expect("root may give a file away");
        }
        path
    }

    /// The program with these arguments, in an environment that says nothing but the time zone.
    pub fn command(&self, args: &[&str]) -> Command {
        let mut words = self.within.iter().map(std::ffi::OsStr::new).chain([self.program.as_os_str()]);
        let mut command = Command::new(words.next().unwrap_or_default());
        command
            .args(words)
            .args(args)
            .env_clear()
            .env("TZ", "UTC")
            .env("TMPDIR", self.folder.path())
            .env("HOME", self.folder.path());
        command.current_dir(self.folder.path()).stdin(Stdio::null());
        if let Some(user) = self.user {
            command.uid(user).gid(user);
        }
        command
    }

    /// Runs the program to its end.
    ///
    /// # Panics
    /// It cannot be started.
    pub fn run(&self, args: &[&str]) -> Output {
        let output = self.command(args).output().expect("the program starts");
        Output {
            status: output.status.code(),
            stdout: String::from_utf8_lossy(&output.stdout).into_owned(),
            stderr: String::from_utf8_lossy(&output.stderr).into_owned(),
        }
    }

    /// Runs the program, which prints JSON.
    ///
    /// # Panics
    /// It prints none.
    pub fn json(&self, args: &[&str]) -> Value {
        let output = self.run(args);
        serde_json::from_str(&output.stdout).unwrap_or_else(|error| panic!("{error}: {output:?}"))
    }

    /// Runs the program with the stage's folder shown as `[stage]`.
    pub fn run_masked(&self, args: &[&str]) -> Output {
        let folder = self.folder.path().display().to_string();
        let output = self.run(args);
        let mask = |text: String| text.replace(&folder, "[stage]");
        Output { stdout: mask(output.stdout), stderr: mask(output.stderr), ..output }
    }

    /// An offender in a folder of the stage's.
    fn misbehave(&self, name: &str) -> Command {
        let mut command = self.command(&["misbehave", "--as", name, "--for", "60s", "--into"]);
        command.arg(self.folder.path());
        command
    }

    /// Starts an offender and waits until it says that it is at work.
    ///
    /// # Panics
    /// It does not.
    pub fn offender(&self, name: &str, options: &[&str]) -> Offender {
        Stage::begun(self.misbehave(name).args(options))
    }

    /// The same inside a control group, from its first byte on: `group` is the file that takes processes in.
    ///
    /// # Panics
    /// It does not begin.
    pub fn offender_in(&self, group: &Path, name: &str, options: &[&str]) -> Offender {
        let group = group.display().to_string();
        self.offender_by(&["sh", "-c", "echo $$ > \"$0\" && exec \"$@\"", &group], name, options)
    }

    /// The same, started by another program, which becomes it.
    ///
    /// # Panics
    /// It does not begin.
    pub fn offender_by(&self, by: &[&str], name: &str, options: &[&str]) -> Offender {
        let inner = self.misbehave(name);
        let mut command = Command::new(by[0]);
        command.args(&by[1..]).arg(inner.get_program());
        command.args(inner.get_args()).args(options).stdin(Stdio::null());
        Stage::begun(&mut command)
    }

    fn begun(command: &mut Command) -> Offender {
        let mut child = command.stdout(Stdio::piped()).spawn().expect("the offender starts");
        let mut line = String::new();
        let stdout = child.stdout.take().expect("it was piped");
        BufReader::new(stdout).read_line(&mut line).expect("the offender speaks");
        assert!(line.contains("misbehaves"), "an offender that does not begin: {line:?}");
        Offender { child }
    }

    /// Starts a watcher on a rules file and waits until it watches. Where the disk is so slow that the watcher does not arm,
    /// another one is started.
    ///
    /// # Panics
    /// It ends before.
    pub fn watch(&self, rules: &Path, options: &[&str]) -> Running {
        let mut tries = 0;
        loop {
            tries += 1;
            let mut running = self.start_watching(rules, options);
            let first = running.next_line().unwrap_or_default();
            if first.contains("watching") {
                return running;
            }
            let output = running.output();
            let slow = output
                .as_ref()
                .is_some_and(|output| String::from_utf8_lossy(&output.stderr).contains("not on disk within"));
            assert!(slow && tries < 5, "a watcher that does not begin: {first:?} {output:?}");
        }
    }

    fn start_watching(&self, rules: &Path, options: &[&str]) -> Running {
        let (rules, state) = (rules.display().to_string(), self.state().display().to_string());
        let mut args = vec!["watch", "--rules", &rules, "--state", &state];
        args.extend(options);
        let mut child = self.command(&args).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("it starts");
        let stdout = BufReader::new(child.stdout.take().expect("it was piped"));
        let (told, lines) = channel();
        // It ends with the watcher's last line.
        std::thread::spawn(move || stdout.lines().map_while(Result::ok).try_for_each(|line| told.send(line + "\n")));
        Running { child: Some(child), lines, heard: String::new() }
    }

    /// The records of the trail, as they stand in it.
    ///
    /// # Panics
    /// A line is no JSON.
    pub fn records(&self) -> Vec<Value> {
        let text = fs::read_to_string(self.state().join("audit/000001.jsonl")).unwrap_or_default();
        // A line without its end is being written.
        let whole = text.split_inclusive('\n').filter(|line| line.ends_with('\n'));
        whole.map(|line| serde_json::from_str(line).expect("a record is JSON")).collect()
    }

    /// The `kind` of each record of a process, with the action's word and the outcome where there are any.
    pub fn story(&self, pid: u32) -> Vec<String> {
        let of = |record: &Value| record["subject"]["pid"] == pid;
        let word = |value: &Value| value.as_str().map(|word| format!(" {word}")).unwrap_or_default();
        let records = self.records();
        let tell = |record: &Value| {
            format!("{}{}", record["kind"].as_str().unwrap_or_default(), word(&record["action"]["do"]))
                + &word(&record["result"]["outcome"])
        };
        records.iter().filter(|record| of(record)).map(tell).collect()
    }
}

/// Copies a program by a process of its own: with the copy open for writing here, whatever another test starts at that moment would
/// have it open as well, and until it has become another program nobody can run the copy ("text file busy").
pub fn copy_program(from: impl AsRef<Path>, to: impl AsRef<Path>) {
    let copied = Command::new("cp").arg(from.as_ref()).arg(to.as_ref()).status();
    assert!(copied.is_ok_and(|status| status.success()), "{} can be copied", from.as_ref().display());
}

/// Any child of a test, ended with it, whatever the test does.
#[derive(Debug)]
pub struct Own(pub Child);

impl Own {
    /// Its process ID.
    pub fn pid(&self) -> u32 {
        self.0.id()
    }
}

impl Drop for Own {
    fn drop(&mut self) {
        // Our own child, not collected yet: the PID is still its own.
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Another user's process that waits for a file lock which somebody holds, and ends once it has it. `None`, with a word, where
/// only one user can be had.
///
/// # Panics
/// It does not wait.
pub fn anothers_waiter(lock: &Path) -> Option<Own> {
    let with = |program: &str| Command::new(program).arg("--version").output().is_ok_and(|done| done.status.success());
    if !is_root() || !with("flock") || !with("setpriv") {
        eprintln!("skipped: only root can start another user's process, by setpriv and flock");
        return None;
    }
    // Opened as root: the file may be closed to that user.
    let line = "exec 9< \"$0\" && exec setpriv --reuid 65534 --regid 65534 --clear-groups flock 9";
    let waiter = Own(Command::new("sh").args(["-c", line]).arg(lock).stdin(Stdio::null()).spawn().expect("sh starts"));
    let waits = format!("-> FLOCK  ADVISORY  WRITE {} ", waiter.pid());
    eventually("somebody waits", || fs::read_to_string("/proc/locks").ok()?.contains(&waits).then_some(()));
    Some(waiter)
}

/// A real process that misbehaves; ended with the test.
#[derive(Debug)]
pub struct Offender {
    child: Child,
}

impl Offender {
    /// Its process ID.
    pub fn pid(&self) -> u32 {
        self.child.id()
    }
}

impl Offender {
    /// Suspends it, as anybody could.
    pub fn suspend(&self) {
        if let Some(pid) = Pid::from_raw(self.child.id().cast_signed()) {
            let _ = kill_process(pid, Signal::STOP);
        }
    }
}

impl Drop for Offender {
    fn drop(&mut self) {
        // Our own child, not collected yet: the PID is still its own.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

/// A watcher at work; killed with the test if it is not ended before.
#[derive(Debug)]
pub struct Running {
    child: Option<Child>,
    lines: Receiver<String>,
    /// What it has said so far.
    heard: String,
}

impl Running {
    /// Its process ID.
    pub fn pid(&self) -> u32 {
        self.child.as_ref().map_or(0, Child::id)
    }

    /// Its next line; `None` once it has ended.
    ///
    /// # Panics
    /// It says nothing for a minute.
    fn next_line(&mut self) -> Option<String> {
        match self.lines.recv_timeout(DEADLINE) {
            Ok(line) => {
                self.heard.push_str(&line);
                Some(line)
            }
            Err(RecvTimeoutError::Disconnected) => None,
            Err(RecvTimeoutError::Timeout) => panic!("not a line within a minute; so far:\n{}", self.heard),
        }
    }

    /// What it has left to say, once it has ended.
    fn output(&mut self) -> Option<std::process::Output> {
        self.child.take()?.wait_with_output().ok()
    }

    /// Reads its lines up to the first that has that word in it.
    ///
    /// # Panics
    /// It ends before, or says nothing for a minute.
    pub fn line_with(&mut self, word: &str) -> String {
        loop {
            match self.next_line() {
                Some(line) if line.contains(word) => return line,
                Some(_) => {}
                None => panic!("it ended without `{word}`:\n{}", self.heard),
            }
        }
    }

    /// Ends it politely; its remaining lines and its exit status.
    ///
    /// # Panics
    /// It does not end within a minute.
    pub fn interrupt(mut self) -> (String, Option<i32>) {
        self.signal(Signal::INT);
        let so_far = self.heard.len();
        while self.next_line().is_some() {}
        let status = self.child.take().and_then(|mut child| child.wait().ok());
        (self.heard.split_off(so_far), status.and_then(|status| status.code()))
    }

    /// Kills it outright, as nothing can prepare for.
    pub fn kill_outright(&mut self) {
        self.signal(Signal::KILL);
        let _ = self.child.take().map(|mut child| child.wait());
    }

    fn signal(&self, signal: Signal) {
        if let Some(pid) = Pid::from_raw(self.pid().cast_signed()) {
            let _ = kill_process(pid, signal);
        }
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        if let Some(child) = &mut self.child {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}
