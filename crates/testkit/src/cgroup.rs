//! A control group of a test's own, removed with the test.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// A control group; whoever is in it has to be gone before it can be removed.
#[derive(Debug)]
pub struct ControlGroup(PathBuf, Vec<PathBuf>);

impl ControlGroup {
    /// Makes a group of that name below the first of the roots that allows it, and writes `value` to the file named with
    /// that root, if one is. `None` where this test may make none.
    pub fn make(name: &str, roots: &[(&str, &str)], value: &str) -> Option<ControlGroup> {
        roots.iter().find_map(|(root, file)| {
            let folder = PathBuf::from(root).join(name);
            // What is above it is made as well, and removed with it.
            let missing = |path: &&Path| !path.exists();
            let above: Vec<PathBuf> = folder.ancestors().skip(1).take_while(missing).map(Path::to_owned).collect();
            fs::create_dir_all(folder.parent()?).ok()?;
            fs::create_dir(&folder).ok()?;
            let group = ControlGroup(folder, above);
            let set = file.is_empty() || fs::write(group.0.join(file), value).is_ok();
            (set && group.processes().exists()).then_some(group)
        })
    }

    /// The file that takes processes in.
    pub fn processes(&self) -> PathBuf {
        self.0.join("cgroup.procs")
    }

    /// Its folder.
    pub fn folder(&self) -> &Path {
        &self.0
    }
}

impl Drop for ControlGroup {
    fn drop(&mut self) {
        let gone = Instant::now() + Duration::from_secs(10);
        while fs::remove_dir(&self.0).is_err() && Instant::now() < gone {
            std::thread::sleep(Duration::from_millis(20));
        }
        for above in &self.1 {
            let _ = fs::remove_dir(above);
        }
    }
}
