//! A stand-in for the service manager, spoken to directly at a socket: it knows one unit and remembers what it was told.

use std::os::unix::net::UnixListener;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use futures_lite::StreamExt;
use zbus::connection::Builder;
use zbus::message::Type;
use zbus::{Connection, Guid, Message, MessageStream, OwnedObjectPath, Variant};

/// What it has been told, and what it will do.
#[derive(Debug)]
pub struct Told {
    /// Methods called, in order, but those that only look.
    pub calls: Vec<String>,
    /// The unit's CPU weight; `u64::MAX` for not set.
    pub weight: u64,
    /// The unit's main process; a restart adds one to it.
    pub main: u32,
    /// The unit's state after a restart.
    pub state: String,
    /// The unit that was asked for last, and where its control group is; by default below the root.
    pub unit: String,
    /// See there.
    pub group: Option<String>,
    /// Refuses everything that changes something.
    pub refuses: bool,
    /// Never answers.
    pub hangs: bool,
}

impl Default for Told {
    fn default() -> Told {
        Told {
            calls: Vec::new(),
            weight: u64::MAX,
            main: 4711,
            state: "active".to_owned(),
            unit: String::new(),
            group: None,
            refuses: false,
            hangs: false,
        }
    }
}

/// A service manager that is none.
#[derive(Debug)]
pub struct StandIn {
    /// Where it listens.
    pub socket: PathBuf,
    /// What it has been told.
    pub told: Arc<Mutex<Told>>,
}

impl StandIn {
    /// Listens in that folder.
    ///
    /// # Panics
    /// It cannot.
    pub fn in_folder(folder: &Path) -> StandIn {
        let socket = folder.join("service-manager");
        let listener = UnixListener::bind(&socket).expect("a socket in our own folder");
        let told = Arc::new(Mutex::new(Told::default()));
        let shared = Arc::clone(&told);
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let told = Arc::clone(&shared);
                std::thread::spawn(move || pollster::block_on(serve(stream, &told)));
            }
        });
        StandIn { socket, told }
    }
}

async fn serve(stream: std::os::unix::net::UnixStream, told: &Mutex<Told>) -> zbus::Result<()> {
    // The stream first: a question that comes at once must not be lost.
    let mut messages: MessageStream =
        Builder::unix_stream(stream).server(Guid::generate()).p2p().build_message_stream().await?;
    let connection = Connection::from(&messages);
    while let Some(message) = messages.next().await {
        let message = message?;
        if message.message_type() == Type::MethodCall {
            answer(&connection, &message, told).await?;
        }
    }
    Ok(())
}

pub(crate) async fn answer(connection: &Connection, message: &Message, told: &Mutex<Told>) -> zbus::Result<()> {
    let header = message.header();
    let method = header.member().map(ToString::to_string).unwrap_or_default();
    let path = |path: &str| OwnedObjectPath::try_from(path);
    // The lock is never held over a wait.
    let (hangs, refuses) = {
        let told = told.lock().unwrap_or_else(PoisonError::into_inner);
        (told.hangs, told.refuses && !matches!(method.as_str(), "LoadUnit" | "Get"))
    };
    if hangs {
        std::thread::sleep(std::time::Duration::from_secs(60));
    }
    if refuses {
        let name = "org.freedesktop.DBus.Error.AccessDenied";
        return connection.reply_error(&header, name, &"Access denied").await;
    }
    match method.as_str() {
        "LoadUnit" => {
            let (name,): (String,) = message.body().deserialize()?;
            told.lock().unwrap_or_else(PoisonError::into_inner).unit = name;
            connection.reply(&header, &path("/unit")?).await
        }
        "Get" => {
            let (_, name): (String, String) = message.body().deserialize()?;
            let value = {
                let told = told.lock().unwrap_or_else(PoisonError::into_inner);
                match name.as_str() {
                    "CPUWeight" => Variant::from(told.weight),
                    "MainPID" => Variant::from(told.main),
                    "ControlGroup" => Variant::from(told.group.clone().unwrap_or_else(|| format!("/{}", told.unit))),
                    _ => Variant::from(told.state.clone()),
                }
            };
            connection.reply(&header, &value).await
        }
        "RestartUnit" => {
            let (unit, mode): (String, String) = message.body().deserialize()?;
            {
                let mut told = told.lock().unwrap_or_else(PoisonError::into_inner);
                told.calls.push(format!("RestartUnit {unit} {mode}"));
                told.main += 1;
            }
            connection.reply(&header, &path("/job/1")?).await
        }
        "SetUnitProperties" => {
            let body = message.body();
            let (unit, runtime, properties): (String, bool, Vec<(String, Variant<'_>)>) = body.deserialize()?;
            {
                let mut told = told.lock().unwrap_or_else(PoisonError::into_inner);
                for (name, value) in properties {
                    told.weight = u64::try_from(value).unwrap_or_default();
                    let weight = told.weight;
                    told.calls.push(format!("SetUnitProperties {unit} {runtime} {name}={weight}"));
                }
            }
            connection.reply(&header, &()).await
        }
        _ => Ok(()),
    }
}
