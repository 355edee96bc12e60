//! Where rules and state are. As root the environment chooses no file.

use std::env;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};

use sophron_linux::here;

use crate::exit::{Exit, Failure};

/// The machine's rules file, whose protections bind everyone.
pub const MACHINE_RULES: &str = "/etc/sophron/rules.toml";

const MACHINE_RUNTIME: &str = "/run/sophron";

/// The control socket's name.
const SOCKET: &str = "watch.sock";

/// The state folder of the machine's watcher.
pub const MACHINE_STATE: &str = "/var/lib/sophron";

/// As root the environment chooses no file, and none of time zones either: begun anew without TZDIR, and without a TZ that is
/// more than the name of a zone; as anybody without one that is no file and would be read without end. Returns only where there is
/// nothing of that, or where it cannot be begun anew.
pub fn without_chosen_zone() -> Option<Failure> {
    if !here::is_privileged() {
        let zone = env::var_os("TZ").and_then(|zone| Some(PathBuf::from(zone.to_str()?.trim_start_matches(':'))));
        let zone = zone.filter(|zone| zone.is_absolute() && zone.metadata().is_ok_and(|of| !of.is_file()))?;
        crate::ui::err(format_args!("sophron: TZ is ignored: {} is no file of a time zone\n", zone.display()));
        return Some(begun_anew_without(&["TZ"]));
    }
    let is_a_name = |zone: &str| {
        let harmless = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '+' | '-' | '/');
        zone.chars().all(harmless) && !zone.starts_with('/')
    };
    let chosen =
        |name: &str| env::var_os(name).is_some_and(|zone| name == "TZDIR" || !zone.to_str().is_some_and(is_a_name));
    let chosen: Vec<&str> = ["TZ", "TZDIR"].into_iter().filter(|name| chosen(name)).collect();
    if chosen.is_empty() {
        return None;
    }
    chosen.iter().for_each(|name| say_ignored(name));
    Some(begun_anew_without(&chosen))
}

/// Returns only where it cannot be.
fn begun_anew_without(variables: &[&str]) -> Failure {
    let mut anew = std::process::Command::new("/proc/self/exe");
    let mut words = env::args_os();
    anew.arg0(words.next().unwrap_or_default()).args(words);
    for name in variables {
        anew.env_remove(name);
    }
    let error = anew.exec();
    Failure::new(Exit::Failed, "it cannot be begun anew without them").because(error)
}

/// The rules file to read: the one given, else the first that is there.
pub fn rules(given: Option<&Path>) -> Result<PathBuf, Failure> {
    if let Some(given) = given {
        return Ok(given.to_owned());
    }
    let machine = PathBuf::from(MACHINE_RULES);
    if here::is_privileged() {
        say_ignored("XDG_CONFIG_HOME");
        return Ok(machine);
    }
    let own = own_folder("XDG_CONFIG_HOME", ".config").map(|folder| folder.join("rules.toml"));
    match own {
        // One that cannot be looked at is there: opening it says why.
        Some(own) if is_there(&own) => Ok(own),
        _ if is_there(&machine) => Ok(machine),
        Some(own) => {
            Err(Failure::new(Exit::Failed, format!("no rules file: neither {} nor {MACHINE_RULES}", own.display()))
                .hint("`sophron rules new FILE` writes one, and --rules FILE names another"))
        }
        None => Err(Failure::new(Exit::Failed, format!("no rules file: {MACHINE_RULES}"))
            .hint("`sophron rules new FILE` writes one, and --rules FILE names another")),
    }
}

/// Whether something is there: only where the answer is a clear no, it is not. What may not be looked at is there.
pub fn is_there(path: &Path) -> bool {
    !matches!(path.symlink_metadata(), Err(error) if error.kind() == std::io::ErrorKind::NotFound)
}

/// The state folder: the one given, else the machine's or the user's.
pub fn state(given: Option<&Path>) -> Result<PathBuf, Failure> {
    if let Some(given) = given {
        return Ok(given.to_owned());
    }
    if here::is_privileged() {
        say_ignored("XDG_STATE_HOME");
        return Ok(PathBuf::from(MACHINE_STATE));
    }
    own_folder("XDG_STATE_HOME", ".local/state").ok_or_else(|| {
        Failure::new(Exit::Failed, "there is no state folder: neither XDG_STATE_HOME nor HOME is set")
            .hint("name one with --state DIR")
    })
}

/// The folder in which answers are given to the watcher: that of its control socket.
pub fn answers(state: Option<&Path>) -> Option<PathBuf> {
    control(state).and_then(|control| Some(control.parent()?.to_owned()))
}

/// The same of the machine's.
pub fn answers_of_machine() -> PathBuf {
    PathBuf::from(MACHINE_RUNTIME)
}

/// Where in it: that user alone, or whoever has no such place.
pub fn answers_of(user: Option<u32>) -> String {
    user.map_or_else(|| "answers.sock".to_owned(), |user| format!("answers-{user}.sock"))
}

/// The control socket of the watcher: in the state folder that was named, else in the machine's or the user's folder for
/// what runs.
pub fn control(state: Option<&Path>) -> Option<PathBuf> {
    match state {
        Some(folder) => Some(folder.join(SOCKET)),
        None if here::is_privileged() => Some(Path::new(MACHINE_RUNTIME).join(SOCKET)),
        None => {
            let base = env::var_os("XDG_RUNTIME_DIR").map(PathBuf::from).filter(|path| path.is_absolute());
            let folder = base.map(|base| base.join("sophron"));
            folder.or_else(|| own_folder("XDG_STATE_HOME", ".local/state")).map(|folder| folder.join(SOCKET))
        }
    }
}

/// Whether the machine's own watcher may run here, which nobody but root may ask.
pub fn of_machine_may_run() -> bool {
    !here::is_privileged() && is_there(&Path::new(MACHINE_RUNTIME).join(SOCKET))
}

fn own_folder(variable: &str, below_home: &str) -> Option<PathBuf> {
    let set = |name: &str| env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute());
    let base = set(variable).or_else(|| set("HOME").map(|home| home.join(below_home)))?;
    Some(base.join("sophron"))
}

fn say_ignored(variable: &str) {
    if env::var_os(variable).is_some() {
        crate::ui::err(format_args!(
            "sophron: {variable} is ignored: with root's rights the environment chooses no file\n"
        ));
    }
}
