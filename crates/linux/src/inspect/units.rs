//! Whether the service manager would start a unit again: `Restart=` in its unit files (systemd.service(5)). The files are
//! read; the service manager is not asked, since it can hang with the machine.

use std::fs;
use std::path::{Path, PathBuf};

use sophron_core::order::InOrder;

/// Where unit files stand, the strongest first (systemd.unit(5)).
const FOLDERS: [&str; 5] = [
    "etc/systemd/system",
    "run/systemd/system",
    "usr/local/lib/systemd/system",
    "usr/lib/systemd/system",
    "lib/systemd/system",
];

/// The same for units of users.
const USER_FOLDERS: [&str; 3] = ["etc/systemd/user", "run/systemd/user", "usr/lib/systemd/user"];

/// What a unit's files say about starting it again.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Restart {
    /// `no`, `always`, `on-failure` …; `no` where nothing is said.
    pub policy: String,
    /// The unit's own file.
    pub file: PathBuf,
    /// Whether the service manager watches that it answers (`WatchdogSec=`).
    pub watchdog: bool,
}

impl Restart {
    /// Whether it is started again after a polite end.
    pub fn after_a_polite_end(&self) -> bool {
        matches!(self.policy.as_str(), "always" | "on-success")
    }

    /// Whether it is started again after an end by force.
    pub fn after_force(&self) -> bool {
        matches!(self.policy.as_str(), "always" | "on-failure" | "on-abnormal" | "on-abort")
    }
}

/// What the files of a service unit say, below a root folder; `None` where it has none that can be read.
pub fn restart(root: &Path, unit: &str, of_a_user: bool) -> Option<Restart> {
    if !unit.ends_with(".service") || unit.contains('/') {
        return None;
    }
    let folders: &[&str] = if of_a_user { &USER_FOLDERS } else { &FOLDERS };
    // `press@2.service` is made from the template `press@.service`.
    let template = unit.split_once('@').map(|(name, _)| format!("{name}@.service"));
    let names: Vec<&str> = std::iter::once(unit).chain(template.as_deref()).collect();
    let at = |name: &str| folders.iter().map(|folder| root.join(folder).join(name)).find(|path| path.is_file());
    let file = names.iter().find_map(|name| at(name))?;
    let mut restart = Restart { policy: "no".to_owned(), file: file.clone(), watchdog: false };
    restart.take(&fs::read_to_string(&file).ok()?);
    let mut drop_ins: Vec<PathBuf> = Vec::new();
    for (folder, name) in folders.iter().rev().flat_map(|folder| names.iter().map(move |name| (folder, name))) {
        let entries = fs::read_dir(root.join(folder).join(format!("{name}.d"))).into_iter().flatten().flatten();
        drop_ins
            .extend(entries.map(|entry| entry.path()).filter(|path| path.extension().is_some_and(|is| is == "conf")));
    }
    // By file name, whatever folder they stand in.
    drop_ins.order_by_key(|path| path.file_name().map(ToOwned::to_owned));
    for text in drop_ins.iter().filter_map(|path| fs::read_to_string(path).ok()) {
        restart.take(&text);
    }
    Some(restart)
}

impl Restart {
    /// Later settings replace earlier ones.
    fn take(&mut self, text: &str) {
        let mut in_service = false;
        for line in text.lines().map(str::trim) {
            if line.starts_with('[') {
                in_service = line == "[Service]";
            } else if let Some((key, value)) = line.split_once('=').filter(|_| in_service) {
                let value = value.trim();
                match key.trim() {
                    "Restart" => {
                        self.policy =
                            if value.is_empty() { "no".to_owned() } else { sophron_core::text::clean(value.as_bytes()) }
                    }
                    "WatchdogSec" => self.watchdog = !matches!(value, "" | "0" | "infinity"),
                    _ => {}
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_strongest_file_and_its_additions_decide() {
        let root = tempfile::tempdir().unwrap();
        let write = |path: &str, text: &str| {
            let path = root.path().join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        };
        write("usr/lib/systemd/system/sheetlamp.service", "[Unit]\nRestart=always\n[Service]\nRestart=always\n");
        write("etc/systemd/system/sheetlamp.service", "[Service]\nExecStart=/opt/sheetlamp\nWatchdogSec=30\n");
        let found = restart(root.path(), "sheetlamp.service", false).unwrap();
        assert_eq!((found.policy.as_str(), found.watchdog), ("no", true));
        assert!(!found.after_force());
        write("run/systemd/system/sheetlamp.service.d/50-again.conf", "[Service]\nRestart = on-failure\n");
        let found = restart(root.path(), "sheetlamp.service", false).unwrap();
        assert!(found.after_force() && !found.after_a_polite_end());
        write("lib/systemd/system/press@.service", "[Service]\nRestart=always\n");
        assert!(restart(root.path(), "press@2.service", false).unwrap().after_a_polite_end());
        assert_eq!(restart(root.path(), "session-3.scope", false), None);
        assert_eq!(restart(root.path(), "absent.service", false), None);
    }
}
