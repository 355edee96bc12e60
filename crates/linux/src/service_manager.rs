//! The service manager, spoken to over its bus: restarting a unit, and a unit's CPU weight (org.freedesktop.systemd1). It can
//! hang with the machine: every talk has a time limit.

use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use sophron_core::model::Process;
use zbus::connection::Builder;
use zbus::{Connection, OwnedObjectPath, OwnedVariant, Variant};

use crate::patience::within;

/// How long one question is waited for.
const PATIENCE: Duration = Duration::from_secs(5);

/// How long a restarted unit is given to be active again.
const UNTIL_ACTIVE: Duration = Duration::from_secs(30);

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
}

/// What became of a restarted unit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Restarted {
    /// Its state afterwards: `active`, `failed` …
    pub state: String,
    /// Its main process now.
    pub main: Option<u32>,
    /// How long it took.
    pub took: Duration,
}

impl ServiceManager {
    /// The manager that a process's unit belongs to: the machine's, or that of its user. The environment chooses neither.
    pub fn of(process: &Process) -> ServiceManager {
        let socket = match user_of(process) {
            Some(uid) => PathBuf::from(format!("/run/user/{uid}/bus")),
            None => PathBuf::from("/run/dbus/system_bus_socket"),
        };
        ServiceManager { socket, direct: false }
    }

    /// The machine's, or that user's.
    pub fn of_user(uid: Option<u32>) -> ServiceManager {
        let socket = uid
            .map_or(PathBuf::from("/run/dbus/system_bus_socket"), |uid| PathBuf::from(format!("/run/user/{uid}/bus")));
        ServiceManager { socket, direct: false }
    }

    /// One that is spoken to directly at a socket.
    pub fn at(socket: &Path) -> ServiceManager {
        ServiceManager { socket: socket.to_owned(), direct: true }
    }

    /// Restarts a unit and waits until it is active again, or is not going to be.
    ///
    /// # Errors
    /// It cannot be reached, refuses, or does not answer.
    pub fn restart(&self, unit: &str) -> Result<Restarted, ManagerError> {
        let began = Instant::now();
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
    pub fn cpu_weight(&self, unit: &str) -> Result<Option<u64>, ManagerError> {
        let interface = if unit.ends_with(".scope") { "org.freedesktop.systemd1.Scope" } else { SERVICE };
        let value = self.property(unit, interface, "CPUWeight")?;
        let weight = u64::try_from(value).map_err(|error| ManagerError::Failed(error.to_string()))?;
        Ok(Some(weight).filter(|weight| *weight != NOT_SET))
    }

    /// Sets it until the machine's next start; `None` takes it back to unset.
    ///
    /// # Errors
    /// As [`ServiceManager::restart`].
    pub fn set_cpu_weight(&self, unit: &str, weight: Option<u64>) -> Result<(), ManagerError> {
        let properties = vec![("CPUWeight".to_owned(), Variant::from(weight.unwrap_or(NOT_SET)))];
        self.ask(MANAGER_PATH, MANAGER, "SetUnitProperties", (unit.to_owned(), true, properties)).map(|_| ())
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
        B: serde::Serialize + zbus::zvariant::DynamicType + Send + Sync + 'static,
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
        let stream = UnixStream::connect(&self.socket).map_err(|error| unreachable(&error))?;
        let builder = Builder::unix_stream(stream);
        let builder = if self.direct { builder.p2p() } else { builder };
        builder.build().await.map_err(|error| unreachable(&error))
    }
}

/// The user whose service manager a process's unit belongs to; `None` for the machine's.
pub fn user_of(process: &Process) -> Option<u32> {
    let (_, after) = process.group.as_deref()?.split_once("/user@")?;
    after.split_once(".service")?.0.parse().ok()
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
    use sophron_core::model::{Boot, ProcessId};

    use super::*;

    #[test]
    fn whose_manager_a_unit_belongs_to() {
        let mut process = Process::unread(ProcessId { pid: 9, start: 1, boot: Boot(1) });
        process.names_mut().group = Some("/system.slice/sheetlamp.service".to_owned());
        assert_eq!(user_of(&process), None);
        process.names_mut().group =
            Some("/user.slice/user-1001.slice/user@1001.service/app.slice/app-labelpress.scope".to_owned());
        assert_eq!(user_of(&process), Some(1001));
        let absent = ServiceManager::at(Path::new("/nonexistent/bus"));
        assert!(matches!(absent.restart("sheetlamp.service"), Err(ManagerError::Unreachable(..))));
    }
}
