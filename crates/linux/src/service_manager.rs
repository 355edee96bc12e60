//! The service manager, spoken to over its bus: restarting a unit, and a unit's CPU weight (org.freedesktop.systemd1). It can
//! hang with the machine: every talk has a time limit.

use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};
use sophron_core::model::{Manager, Process};
use zbus::connection::Builder;
use zbus::{Connection, OwnedObjectPath, OwnedVariant, Variant};

use crate::bus::{self, BusError};
use crate::fence::Fence;
use crate::patience::within;
use crate::{here, own_life, talk};

/// How long one question is waited for.
const PATIENCE: Duration = Duration::from_secs(5);

/// How long a restarted unit is given to be active again.
const UNTIL_ACTIVE: Duration = Duration::from_secs(30);

/// Most that a helper says, bytes.
const MOST_SAID: usize = 4096;

/// How often it is looked at meanwhile.
const LOOK: Duration = Duration::from_millis(100);

/// A weight that is not set (systemd.resource-control(5)).
const NOT_SET: u64 = u64::MAX;

const NAME: &str = "org.freedesktop.systemd1";
const MANAGER_PATH: &str = "/org/freedesktop/systemd1";
const MANAGER: &str = "org.freedesktop.systemd1.Manager";
const UNIT: &str = "org.freedesktop.systemd1.Unit";
const SERVICE: &str = "org.freedesktop.systemd1.Service";
const PROPERTIES: &str = "org.freedesktop.DBus.Properties";

/// Why the service manager did not do it.
#[derive(Debug, Clone, thiserror::Error)]
pub enum ManagerError {
    /// There is none, or it cannot be reached.
    #[error("the service manager cannot be reached at {0}: {1}")]
    Unreachable(PathBuf, String),
    /// It did not answer.
    #[error("the service manager did not answer within {} s", PATIENCE.as_secs())]
    Silent,
    /// What answers at its socket is somebody else.
    #[error("{0} is not the service manager's: {1}")]
    Foreign(PathBuf, String),
    /// The process is in no unit that a service manager has made.
    #[error("it belongs to no unit of a service manager")]
    NoUnit,
    /// The unit is only what a user calls it.
    #[error(
        "that it belongs to {unit} is only the word of the user with the ID {uid}: no service manager of the machine has started it"
    )]
    Claim {
        /// The unit.
        unit: String,
        /// The user.
        uid: u32,
    },
    /// The manager has that unit elsewhere.
    #[error("it is no process of {unit}: that unit's control group is {theirs}, and its own is {group}")]
    Elsewhere {
        /// The unit.
        unit: String,
        /// Where the process is.
        group: String,
        /// Where the manager has the unit.
        theirs: String,
    },
    /// It refuses.
    #[error("the service manager refuses: {0}")]
    Refused(String),
    /// It failed.
    #[error("the service manager: {0}")]
    Failed(String),
}

/// A service manager.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ServiceManager {
    socket: PathBuf,
    /// Spoken to directly, without a bus between.
    direct: bool,
    /// Whose socket it has to be; `None` for one that was named.
    owner: Option<u32>,
}

/// A unit as a process has it: its name, and the control group that the manager has to confirm.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct UnitName {
    /// As `sheetlamp.service`.
    pub name: String,
    /// Its control group.
    pub group: String,
    /// The user whose manager has made it; `None` for the machine's.
    pub uid: Option<u32>,
}

impl UnitName {
    /// The unit of a process. The process has to be in the unit's own group: whoever runs below it may be anybody.
    pub fn of(process: &Process) -> Option<UnitName> {
        let unit = process.own_unit()?;
        let uid = match unit.manager {
            Manager::Machine => None,
            Manager::User(uid) => Some(uid),
        };
        Some(UnitName { name: unit.name.to_owned(), group: unit.group.to_owned(), uid })
    }

    /// The unit of a process that may be started anew: one that the machine's manager vouches for, or one of our own user's.
    ///
    /// # Errors
    /// It is of none, or only by a user's word.
    pub fn restartable(process: &Process) -> Result<UnitName, ManagerError> {
        let unit = UnitName::of(process).filter(|unit| unit.name.ends_with(".service")).ok_or(ManagerError::NoUnit)?;
        match unit.uid {
            Some(uid) if uid != here::uid() => Err(ManagerError::Claim { unit: unit.name, uid }),
            _ => Ok(unit),
        }
    }
}

/// What became of a restarted unit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Restarted {
    /// Its state afterwards: `active`, `failed` …
    pub state: String,
    /// Its main process now.
    pub main: Option<u32>,
    /// How long it took.
    pub took: Duration,
}

impl ServiceManager {
    /// The machine's, or that user's. The environment chooses neither.
    pub(crate) fn of_user(uid: Option<u32>) -> ServiceManager {
        let socket = uid.map_or_else(bus::of_machine, bus::of_user);
        ServiceManager { socket, direct: false, owner: Some(uid.unwrap_or(0)) }
    }

    /// One that is spoken to directly at a socket.
    pub fn at(socket: &Path) -> ServiceManager {
        ServiceManager { socket: socket.to_owned(), direct: true, owner: None }
    }

    /// Whether the manager has that unit in that very control group: a name alone can be given by anybody.
    fn confirm(&self, unit: &UnitName) -> Result<(), ManagerError> {
        // Records of older versions do not tell the group.
        if unit.group.is_empty() {
            return Ok(());
        }
        let theirs = self.text(&unit.name, kind_of(&unit.name), "ControlGroup")?;
        if theirs == unit.group {
            return Ok(());
        }
        let (name, group) = (unit.name.clone(), unit.group.clone());
        let theirs = if theirs.is_empty() { "none".to_owned() } else { sophron_core::text::clean(theirs.as_bytes()) };
        Err(ManagerError::Elsewhere { unit: name, group, theirs })
    }

    /// Restarts a unit and waits until it is active again, or is not going to be.
    ///
    /// # Errors
    /// It cannot be reached, refuses, does not answer, or has that unit elsewhere.
    pub fn restart(&self, unit: &UnitName) -> Result<Restarted, ManagerError> {
        let began = Instant::now();
        self.confirm(unit)?;
        let unit = unit.name.as_str();
        let before = self.main_process(unit)?;
        self.ask(MANAGER_PATH, MANAGER, "RestartUnit", (unit.to_owned(), "replace".to_owned()))?;
        loop {
            let state = self.text(unit, UNIT, "ActiveState")?;
            let main = self.main_process(unit)?;
            let settled = match state.as_str() {
                // The old process may still be there when the job has only just begun.
                "active" => main.is_none() || main != before,
                "failed" | "inactive" => began.elapsed() > LOOK * 3,
                _ => false,
            };
            if settled || began.elapsed() > UNTIL_ACTIVE {
                return Ok(Restarted { state, main, took: began.elapsed() });
            }
            std::thread::sleep(LOOK);
        }
    }

    /// The CPU weight of a unit, 1 to 10000; `None` where none is set.
    ///
    /// # Errors
    /// As [`ServiceManager::restart`].
    pub(crate) fn cpu_weight(&self, unit: &UnitName) -> Result<Option<u64>, ManagerError> {
        self.confirm(unit)?;
        let value = self.property(&unit.name, kind_of(&unit.name), "CPUWeight")?;
        let weight = u64::try_from(value).map_err(|error| ManagerError::Failed(error.to_string()))?;
        Ok(Some(weight).filter(|weight| *weight != NOT_SET))
    }

    /// Sets it until the machine's next start; `None` takes it back to unset.
    ///
    /// # Errors
    /// As [`ServiceManager::restart`].
    pub(crate) fn set_cpu_weight(&self, unit: &UnitName, weight: Option<u64>) -> Result<(), ManagerError> {
        self.confirm(unit)?;
        let properties = vec![("CPUWeight".to_owned(), Variant::from(weight.unwrap_or(NOT_SET)))];
        self.ask(MANAGER_PATH, MANAGER, "SetUnitProperties", (unit.name.clone(), true, properties)).map(|_| ())
    }

    fn main_process(&self, unit: &str) -> Result<Option<u32>, ManagerError> {
        let value = self.property(unit, SERVICE, "MainPID")?;
        Ok(u32::try_from(value).ok().filter(|pid| *pid != 0))
    }

    fn text(&self, unit: &str, interface: &str, name: &str) -> Result<String, ManagerError> {
        String::try_from(self.property(unit, interface, name)?).map_err(|error| ManagerError::Failed(error.to_string()))
    }

    fn property(&self, unit: &str, interface: &str, name: &str) -> Result<OwnedVariant, ManagerError> {
        let found = self.ask(MANAGER_PATH, MANAGER, "LoadUnit", (unit.to_owned(),))?;
        let path: OwnedObjectPath = deserialized(&found)?;
        let path = path.as_str().to_owned();
        let found = self.ask(&path, PROPERTIES, "Get", (interface.to_owned(), name.to_owned()))?;
        deserialized(&found)
    }

    /// One question on a connection of its own: one that hangs holds up no other.
    fn ask<B>(&self, path: &str, interface: &str, method: &str, body: B) -> Result<zbus::Message, ManagerError>
    where
        B: Serialize + zbus::zvariant::DynamicType + Send + Sync + 'static,
    {
        let (manager, path, interface, method) =
            (self.clone(), path.to_owned(), interface.to_owned(), method.to_owned());
        within(PATIENCE, move || {
            pollster::block_on(async {
                let connection = manager.connect().await?;
                let name = (!manager.direct).then_some(NAME);
                connection
                    .call_method(name, path.as_str(), Some(interface.as_str()), method.as_str(), &body)
                    .await
                    .map_err(failure)
            })
        })
        .unwrap_or(Err(ManagerError::Silent))
    }

    async fn connect(&self) -> Result<Connection, ManagerError> {
        let unreachable =
            |error: &dyn std::fmt::Display| ManagerError::Unreachable(self.socket.clone(), error.to_string());
        let stream = bus::reach(&self.socket, self.owner).map_err(|error| match error {
            BusError::Foreign(why) => ManagerError::Foreign(self.socket.clone(), why),
            error => unreachable(&error),
        })?;
        let builder = Builder::unix_stream(stream);
        let builder = if self.direct { builder.p2p() } else { builder };
        builder.build().await.map_err(|error| unreachable(&error))
    }
}

/// The word by which our own program starts a unit anew as another user.
pub const WORD: &str = "unit";

/// What it is told.
#[derive(Debug, Serialize, Deserialize)]
struct AsUser {
    fence: Fence,
    unit: UnitName,
}

/// A unit of a user's own manager's, started anew as that user: his bus takes in nobody else, root neither. A helper of ours becomes him.
///
/// # Errors
/// As [`ServiceManager::restart`].
pub(crate) fn restart_as(uid: u32, unit: &UnitName) -> Result<Restarted, ManagerError> {
    let failed = |error: &dyn std::fmt::Display| ManagerError::Failed(error.to_string());
    let group = here::group_of(uid).ok_or_else(|| failed(&format!("/etc/passwd knows no user {uid}")))?;
    let fence = Fence { user: Some((uid, group)), ..Fence::default() };
    let told = serde_json::to_vec(&AsUser { fence, unit: unit.clone() }).map_err(|error| failed(&error))?;
    let mut said = Vec::new();
    let mut hear = |piece: &[u8]| said.extend(piece.iter().take(MOST_SAID.saturating_sub(said.len())));
    let mut helper = None;
    let began = |pid| {
        own_life::helper_began(pid);
        helper = Some(pid);
    };
    let ended = talk::with(own_life::helper(WORD), &told, UNTIL_ACTIVE + PATIENCE, began, &mut hear);
    helper.into_iter().for_each(own_life::helper_ended);
    ended.map_err(|error| failed(&format!("no helper can be started: {error}")))?;
    let said: Result<Restarted, String> = serde_json::from_slice(&said).map_err(|_| ManagerError::Silent)?;
    said.map_err(|why| {
        ManagerError::Failed(sophron_core::text::cut(&sophron_core::text::clean(why.as_bytes()), 300).to_owned())
    })
}

/// The helper's side: what it was told, and what it says.
///
/// # Errors
/// It was told nothing that can be read, or cannot give up its rights.
pub fn restart_for_another(told: &[u8]) -> std::io::Result<Vec<u8>> {
    let AsUser { fence, unit } = serde_json::from_slice(told)?;
    fence.enter()?;
    let restarted = ServiceManager::of_user(Some(here::uid())).restart(&unit);
    Ok(serde_json::to_vec(&restarted.map_err(|error| error.to_string()))?)
}

/// The interface of a unit's own properties.
fn kind_of(unit: &str) -> &'static str {
    if unit.ends_with(".scope") { "org.freedesktop.systemd1.Scope" } else { SERVICE }
}

fn deserialized<T: serde::de::DeserializeOwned + zbus::zvariant::Type>(
    message: &zbus::Message,
) -> Result<T, ManagerError> {
    message.body().deserialize().map_err(|error| ManagerError::Failed(error.to_string()))
}

fn failure(error: zbus::Error) -> ManagerError {
    let text = sophron_core::text::clean(error.to_string().as_bytes());
    let refused = ["AccessDenied", "InteractiveAuthorizationRequired", "Interactive authentication required"];
    if refused.iter().any(|word| text.contains(word)) {
        ManagerError::Refused(text)
    } else {
        ManagerError::Failed(text)
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::net::UnixListener;

    use sophron_core::model::{Boot, ProcessId};

    use super::*;

    fn in_group(group: &str) -> Process {
        let mut process = Process::unread(ProcessId { pid: 9, start: 1, boot: Boot(1) });
        process.names_mut().group = Some(group.to_owned());
        process
    }

    #[test]
    fn a_unit_is_restarted_only_where_the_machine_vouches_for_it() {
        let restartable = |group: &str| UnitName::restartable(&in_group(group));
        assert_eq!(restartable("/system.slice/cron.service").unwrap().name, "cron.service");
        assert!(matches!(restartable("/system.slice/cron.service/inner"), Err(ManagerError::NoUnit)));
        assert!(matches!(restartable("/system.slice/x.scope/system.slice/cron.service"), Err(ManagerError::NoUnit)));
        let users = "/user.slice/user-54321.slice/user@54321.service/app.slice/cron.service";
        assert!(matches!(restartable(users), Err(ManagerError::Claim { uid: 54_321, .. })));
        assert_eq!(UnitName::of(&in_group(users)).unwrap().uid, Some(54_321));
    }

    #[test]
    fn nobody_else_answers_for_a_manager() {
        let folder = tempfile::tempdir().unwrap();
        let socket = folder.path().join("bus");
        let _listener = UnixListener::bind(&socket).unwrap();
        let unit =
            UnitName { name: "cron.service".to_owned(), group: "/system.slice/cron.service".to_owned(), uid: None };
        let of = |socket: &Path, owner| ServiceManager { socket: socket.to_owned(), direct: false, owner: Some(owner) };
        let told = of(&socket, here::uid() + 1).restart(&unit).unwrap_err();
        assert!(matches!(told, ManagerError::Foreign(..)), "{told}");
        let link = folder.path().join("link");
        std::os::unix::fs::symlink(&socket, &link).unwrap();
        let told = of(&link, here::uid()).restart(&unit).unwrap_err();
        assert!(told.to_string().contains("is a link"), "{told}");
        let absent = ServiceManager::at(Path::new("/nonexistent/bus"));
        assert!(matches!(absent.restart(&unit), Err(ManagerError::Unreachable(..))));
    }
}
