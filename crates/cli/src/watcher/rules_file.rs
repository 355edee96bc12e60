//! The rules file as it is read for use: trusted, whole, and with the protections that bind everyone.

use std::path::{Path, PathBuf};

use sophron_core::condition::Condition;
use sophron_core::model::{ProcessId, Snapshot};
use sophron_core::order::InOrder;
use sophron_core::protect::Protections;
use sophron_core::rules::{self, LARGEST, Rejected, RuleSet};
use sophron_core::sorted::SortedSet;
use sophron_core::text::counted;
use sophron_linux::files::{self, PathError};
use sophron_linux::here;

use crate::exit::{Exit, Failure};
use crate::places::{self, MACHINE_RULES};
use crate::ui::diagnostics;

/// Rules files and where they came from.
pub struct Loaded {
    pub rules: RuleSet,
    pub path: PathBuf,
    /// Those of the folder `rules.d` beside it, in the order in which they were read.
    pub further: Vec<PathBuf>,
}

impl Loaded {
    /// The path for messages.
    pub fn origin(&self) -> String {
        let first = diagnostics::origin(&self.path);
        match self.further.len() {
            0 => first,
            1 => format!("{first} and 1 file of rules.d"),
            count => format!("{first} and {count} files of rules.d"),
        }
    }

    /// Its own protections and the machine's, each with its file.
    pub fn protections(&self) -> Result<Vec<(Condition, String)>, Failure> {
        let mut all: Vec<(Condition, String)> =
            self.rules.protect.iter().map(|condition| (condition.clone(), self.origin())).collect();
        let machine = Path::new(MACHINE_RULES);
        if self.path != machine && places::is_there(machine) {
            let machine = load(machine).map_err(|failure| {
                failure.hint(format!("the protections of {MACHINE_RULES} bind every watcher: mend that file first"))
            })?;
            all.extend(machine.rules.protect.iter().map(|condition| (condition.clone(), MACHINE_RULES.to_owned())));
        }
        Ok(all)
    }
}

/// Reads a rules file. Its errors are printed; the failure counts them.
pub fn load(path: &Path) -> Result<Loaded, Failure> {
    read(path)?.map_err(|rejected| {
        for (path, rejected) in &rejected {
            crate::ui::err(diagnostics::render(&rejected.errors, &rejected.text, &diagnostics::origin(path)));
        }
        let origin = diagnostics::origin(path);
        Failure::new(Exit::Found, format!("{} in {origin}; nothing of it is used", count(&rejected)))
    })
}

fn count(rejected: &[(PathBuf, Rejected)]) -> String {
    counted(rejected.iter().map(|(_, rejected)| rejected.errors.len()).sum::<usize>(), "error")
}

/// What a look goes by: the rules that would be watched with, as far as there are any, and whom they protect.
pub struct Guidance {
    /// The rules file, if one was read.
    pub loaded: Option<Loaded>,
    /// Protections, each with its file.
    pub protections: Vec<(Condition, String)>,
    /// A file whose protections would bind, and that cannot be used: why.
    unusable: Option<Failure>,
}

impl Guidance {
    /// Of these protections, each with its file.
    pub fn of(protections: Vec<(Condition, String)>) -> Guidance {
        Guidance { loaded: None, protections, unusable: None }
    }

    /// Whoever acts needs to know whom not to touch: protections that cannot be read may protect anybody.
    pub fn binding(&self, overridden: bool) -> Result<(), Failure> {
        match &self.unusable {
            Some(failure) if !overridden => {
                Err(Failure::new(Exit::Refused, format!("whom [protect] spares is not known: {}", failure.in_a_line()))
                    .hint("mend that file; --override-protection acts all the same"))
            }
            _ => Ok(()),
        }
    }

    /// How the audit trail is kept.
    pub fn audit(&self) -> rules::Audit {
        self.loaded.as_ref().map(|loaded| loaded.rules.audit.clone()).unwrap_or_default()
    }

    /// Whom the rules of that user would spare in a recording: what it does not hold protects nobody.
    pub fn protections_of_a_recording(&self, service: u32) -> Protections {
        Protections { conditions: self.protections.clone(), service, ..Protections::default() }
    }

    /// Whom rules would spare on this machine: with Sophron itself, what it was started from, and what holds its terminal.
    pub fn protections_now(&self, snapshot: &Snapshot, terminal: SortedSet<ProcessId>) -> Protections {
        let own = std::iter::once(std::process::id()).collect();
        let to_read = here::what_helps_to_read();
        let mut protections = Protections { own, terminal, to_read, ..self.protections_of_a_recording(here::uid()) };
        protections.refresh_ancestors(snapshot, std::process::id());
        protections
    }
}

/// The rules file given, which has to be sound; else the one that a watcher would read, which may be missing or not
/// sound: a look goes on without it, and says so.
pub fn guidance(given: Option<&Path>) -> Result<Guidance, Failure> {
    if let Some(path) = given {
        let loaded = load(path)?;
        let protections = loaded.protections()?;
        return Ok(Guidance { protections, loaded: Some(loaded), unusable: None });
    }
    let mut guidance = Guidance { loaded: None, protections: Vec::new(), unusable: None };
    let Some(path) = places::rules(None).ok().filter(|path| places::is_there(path)) else { return Ok(guidance) };
    let origin = diagnostics::origin(&path);
    match read(&path) {
        Ok(Ok(loaded)) => {
            match loaded.protections() {
                Ok(protections) => guidance.protections = protections,
                Err(failure) => guidance.leave_out(failure),
            }
            guidance.loaded = Some(loaded);
        }
        Ok(Err(rejected)) => guidance.leave_out(Failure::new(
            Exit::Found,
            format!(
                "{} in {origin}: nothing of it is used, neither its limits nor its protections; see `sophron rules check {origin}`",
                count(&rejected)
            ),
        )),
        Err(failure) => guidance.leave_out(failure),
    }
    Ok(guidance)
}

impl Guidance {
    /// A look goes on without what cannot be used, and says so.
    fn leave_out(&mut self, failure: Failure) {
        crate::ui::err(format_args!("sophron: {}: it is not used\n", failure.in_a_line()));
        self.unusable = Some(failure);
    }
}

type Read = Result<Loaded, Vec<(PathBuf, Rejected)>>;

fn read(path: &Path) -> Result<Read, Failure> {
    let further = further(path)?;
    let paths: Vec<&Path> = std::iter::once(path).chain(further.iter().map(PathBuf::as_path)).collect();
    let bytes = paths.iter().map(|path| trusted(path)).collect::<Result<Vec<Vec<u8>>, Failure>>()?;
    let files: Vec<rules::File<'_>> = bytes.iter().map(|bytes| rules::File { bytes }).collect();
    let loaded = rules::load_files(&files);
    let with_paths = |rejected: Vec<(usize, Rejected)>| {
        rejected.into_iter().map(|(place, rejected)| (paths[place].to_owned(), rejected)).collect()
    };
    Ok(match loaded {
        Ok(rules) => Ok(Loaded { rules, path: path.to_owned(), further }),
        Err(rejected) => Err(with_paths(rejected)),
    })
}

/// Why rules files cannot be used.
#[derive(Debug, Clone)]
pub struct Refusal {
    /// In a line.
    pub why: String,
    /// Their errors, each with its place, without colours.
    pub diagnostics: String,
}

impl Refusal {
    pub fn of(failure: &Failure) -> Refusal {
        Refusal { why: failure.in_a_line(), diagnostics: String::new() }
    }
}

/// Reads a rules file while another version of it is in use: nothing is printed.
///
/// # Errors
/// It cannot be used, and why.
pub fn load_anew(path: &Path) -> Result<Loaded, Refusal> {
    read(path).map_err(|failure| Refusal::of(&failure))?.map_err(|rejected| {
        let rendered = rejected
            .iter()
            .map(|(path, rejected)| diagnostics::render(&rejected.errors, &rejected.text, &diagnostics::origin(path)));
        let diagnostics = anstream::adapter::strip_str(&rendered.collect::<String>()).to_string();
        Refusal { why: format!("{} in {}", count(&rejected), diagnostics::origin(path)), diagnostics }
    })
}

/// Whose a rules file is.
pub fn owner(path: &Path) -> String {
    use std::os::unix::fs::MetadataExt;
    let uid = std::fs::metadata(path).map(|file| file.uid());
    uid.map_or_else(|_| "unknown".to_owned(), |uid| here::Users::default().name(uid))
}

/// The digest of a rules file and those beside it, as they are now; `None` where they are not sound.
pub fn digest(path: &Path) -> Option<String> {
    Some(read(path).ok()?.ok()?.rules.digest)
}

fn trusted(path: &Path) -> Result<Vec<u8>, Failure> {
    files::read_trusted(path, LARGEST as u64).map_err(|error| match &error {
        PathError::Unsafe { .. } => Failure::of(Exit::Refused, error)
            .hint("what decides over processes must be writable by nobody but root, or you"),
        PathError::Io { source, .. } if source.kind() == std::io::ErrorKind::NotFound => {
            Failure::new(Exit::Failed, format!("no rules file: {}", path.display()))
                .hint("`sophron rules new FILE` writes one, and --rules FILE names another")
        }
        PathError::Io { .. } => Failure::of(Exit::Failed, error),
    })
}

/// The rules files of the folder `rules.d` beside a file, by name. Each is opened as carefully as the first.
pub fn further(path: &Path) -> Result<Vec<PathBuf>, Failure> {
    let folder = path.parent().unwrap_or(Path::new(".")).join("rules.d");
    let entries = match std::fs::read_dir(&folder) {
        Ok(entries) => entries,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => {
            let shown = diagnostics::origin(&folder);
            return Err(Failure::new(Exit::Failed, format!("{shown} cannot be read")).because(error));
        }
    };
    let mut files: Vec<PathBuf> = entries
        .flatten()
        .map(|entry| entry.path())
        .filter(|path| path.extension().is_some_and(|extension| extension == "toml"))
        .collect();
    files.order();
    Ok(files)
}
