//! A person at a desk that is none: a real message bus at the place of his session's, and on it stand-ins for whoever shows notices and for
//! the login service. All of it is of a private world: the program sees it as its own `/run`.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::{PermissionsExt, chown};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::{Arc, Mutex, PoisonError};

use futures_lite::StreamExt;
use rustix::process::Uid;
use zbus::connection::Builder;
use zbus::message::Type;
use zbus::{Connection, Message, MessageStream, OwnedObjectPath, Variant};

use crate::stage::{Own, eventually, is_root};

/// His user ID: nobody has it.
pub const INES: u32 = 54_322;

/// Another's.
pub const TOMAS: u32 = 54_323;

const NOTICES: &str = "org.freedesktop.Notifications";
const LOGIN: &str = "org.freedesktop.login1";

/// The private world.
#[derive(Debug)]
pub struct Office {
    folder: PathBuf,
    passwd: PathBuf,
    buses: Vec<Own>,
}

impl Office {
    /// In that folder, which others may pass through. `None`, with a word, where there can be none.
    ///
    /// # Panics
    /// It cannot be furnished.
    pub fn in_folder(folder: &Path) -> Option<Office> {
        let works = |program: &str, args: &[&str]| {
            Command::new(program).args(args).output().is_ok_and(|done| done.status.success())
        };
        if !is_root() || !works("dbus-daemon", &["--version"]) || !works("unshare", &["--mount", "true"]) {
            eprintln!("skipped: only root has a private world, with unshare and dbus-daemon");
            return None;
        }
        fs::set_permissions(folder, fs::Permissions::from_mode(0o711)).expect("our own folder");
        let (run, passwd) = (folder.join("run"), folder.join("passwd"));
        fs::create_dir_all(run.join("dbus")).expect("our own folder");
        let users = format!(
            "root:x:0:0::/root:/bin/sh\nnobody:x:65534:65534::/:/bin/false\nines:x:{INES}:{INES}::/:/bin/sh\ntomas:x:{TOMAS}:{TOMAS}::/:/bin/sh\n"
        );
        fs::write(&passwd, users).expect("our own folder");
        Some(Office { folder: run, passwd, buses: Vec::new() })
    }

    /// What a command has to be started by to be in it.
    pub fn within(&self) -> Vec<String> {
        let script = "mount --make-rprivate / && mount --bind \"$0\" /run && mount --bind \"$1\" /etc/passwd && shift && exec \"$@\"";
        let words = ["unshare", "--mount", "sh", "-c", script];
        let places = [&self.folder, &self.passwd].map(|place| place.display().to_string());
        words.map(str::to_owned).into_iter().chain(places).collect()
    }

    /// Has a bus run for that user, at the place of his session's; for root, the machine's. Where it listens.
    ///
    /// # Panics
    /// It does not begin.
    pub fn bus(&mut self, uid: u32) -> PathBuf {
        let place = if uid == 0 { "dbus".to_owned() } else { format!("user/{uid}") };
        let name = if uid == 0 { "system_bus_socket" } else { "bus" };
        let folder = self.folder.join(&place);
        fs::create_dir_all(&folder).expect("our own folder");
        chown(&folder, Some(uid), Some(uid)).expect("root may give a folder away");
        let (socket, config) = (folder.join(name), self.folder.join(format!("{uid}.conf")));
        let _ = fs::remove_file(&socket);
        let all =
            "<allow send_destination='*' eavesdrop='true'/><allow eavesdrop='true'/><allow own='*'/><allow user='*'/>";
        let text = format!(
            "<!DOCTYPE busconfig PUBLIC '-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN' \
             'http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd'>\
             <busconfig><listen>unix:path=/run/{place}/{name}</listen><auth>EXTERNAL</auth>\
             <policy context='default'>{all}</policy></busconfig>"
        );
        fs::write(&config, text).expect("our own folder");
        let within = self.within();
        let mut command = Command::new(&within[0]);
        let user = uid.to_string();
        command.args(&within[1..]).args(["setpriv", "--reuid", &user, "--regid", &user, "--clear-groups"]);
        command.arg("dbus-daemon").arg(format!("--config-file=/run/{uid}.conf")).args(["--nofork", "--nopidfile"]);
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        self.buses.push(Own(command.spawn().expect("it starts")));
        eventually("a bus listens", || UnixStream::connect(&socket).ok().map(drop));
        socket
    }

    /// Ends the bus that was started last.
    pub fn end_bus(&mut self) {
        self.buses.pop();
    }
}

/// What a notice was.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shown {
    /// Its number there.
    pub number: u32,
    /// The one that it replaces; 0 for none.
    pub instead: u32,
    /// Its first line.
    pub title: String,
    /// The rest.
    pub body: String,
    /// What can be pressed: keys and labels in turn.
    pub actions: Vec<String>,
    /// 0 low, 1 normal, 2 critical.
    pub urgency: u8,
}

impl Shown {
    /// The key of what begins with that word.
    pub fn key(&self, word: &str) -> Option<String> {
        self.actions.iter().step_by(2).find(|key| key.starts_with(word)).cloned()
    }
}

/// How whoever shows notices behaves.
#[derive(Debug, Clone, Default)]
pub struct Manner {
    /// Never answers.
    pub mute: bool,
    /// What it says it can.
    pub can: Vec<String>,
}

/// Whoever shows notices, and does not.
#[derive(Debug)]
pub struct Notices {
    /// What it was given to show.
    pub shown: Arc<Mutex<Vec<Shown>>>,
    /// What it was told to take down.
    pub taken_down: Arc<Mutex<Vec<u32>>>,
    /// How it behaves.
    pub manner: Arc<Mutex<Manner>>,
    bus: Connection,
    socket: PathBuf,
    uid: u32,
}

fn lock<T>(of: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A connection to the bus at that socket, as that user.
fn connect(socket: &Path, uid: u32) -> Connection {
    let socket = socket.to_owned();
    let as_user = move || {
        let user = Uid::from_raw(uid);
        // Of this thread alone, and those that it starts.
        rustix::thread::set_thread_res_uid(user, user, user).expect("root may be anybody");
        let stream = UnixStream::connect(&socket).expect("a bus that listens");
        pollster::block_on(Builder::unix_stream(stream).build()).expect("a bus that takes us in")
    };
    std::thread::spawn(as_user).join().expect("it connects")
}

fn own(bus: &Connection, name: &str) {
    // 4: not to wait for it; 2: to take it from whoever has it; 1: to give it up as well.
    let owned = pollster::block_on(bus.call_method(
        Some("org.freedesktop.DBus"),
        "/",
        Some("org.freedesktop.DBus"),
        "RequestName",
        &(name, 7_u32),
    ));
    owned.expect("the name can be had");
}

impl Notices {
    /// On that user's bus.
    pub fn on(socket: &Path, uid: u32) -> Notices {
        let bus = connect(socket, uid);
        let manner = Manner { mute: false, can: vec!["actions".to_owned(), "body".to_owned()] };
        let notices = Notices {
            shown: Arc::default(),
            taken_down: Arc::default(),
            manner: Arc::new(Mutex::new(manner)),
            bus,
            socket: socket.to_owned(),
            uid,
        };
        let (shown, down) = (Arc::clone(&notices.shown), Arc::clone(&notices.taken_down));
        let (manner, bus) = (Arc::clone(&notices.manner), notices.bus.clone());
        let mut messages = MessageStream::from(&notices.bus);
        std::thread::spawn(move || {
            while let Some(Ok(message)) = pollster::block_on(messages.next()) {
                if message.message_type() == Type::MethodCall {
                    let _ = pollster::block_on(answer(&bus, &message, &shown, &down, &manner));
                }
            }
        });
        own(&notices.bus, NOTICES);
        notices
    }

    /// The notice whose title has that word in it, once it is shown.
    pub fn with(&self, word: &str) -> Shown {
        eventually(&format!("a notice with `{word}`"), || self.latest(word))
    }

    /// The latest of these so far.
    pub fn latest(&self, word: &str) -> Option<Shown> {
        lock(&self.shown).iter().rfind(|shown| shown.title.contains(word)).cloned()
    }

    /// Somebody presses that.
    pub fn press(&self, number: u32, key: &str) {
        signal(&self.bus, "ActionInvoked", &(number, key));
    }

    /// Somebody puts it away.
    pub fn put_away(&self, number: u32) {
        signal(&self.bus, "NotificationClosed", &(number, 2_u32));
    }

    /// Another program of his says that somebody has pressed that.
    pub fn forge(&self, number: u32, key: &str) {
        signal(&connect(&self.socket, self.uid), "ActionInvoked", &(number, key));
    }
}

fn signal<B: serde::Serialize + zbus::DynamicType>(bus: &Connection, name: &str, body: &B) {
    let path = "/org/freedesktop/Notifications";
    pollster::block_on(bus.emit_signal(None::<&str>, path, NOTICES, name, body)).expect("the bus takes it");
}

type Call<'c> = (String, u32, String, String, String, Vec<String>, BTreeMap<String, Variant<'c>>, i32);

async fn answer(
    bus: &Connection,
    message: &Message,
    shown: &Mutex<Vec<Shown>>,
    down: &Mutex<Vec<u32>>,
    manner: &Mutex<Manner>,
) -> zbus::Result<()> {
    let header = message.header();
    let method = header.member().map(ToString::to_string).unwrap_or_default();
    // The lock is never held over a wait.
    let Manner { mute, can } = lock(manner).clone();
    if mute {
        return Ok(());
    }
    match method.as_str() {
        "GetCapabilities" => bus.reply(&header, &can).await,
        "Notify" => {
            let body = message.body();
            let (_, instead, _, title, text, actions, hints, _): Call<'_> = body.deserialize()?;
            let urgency = hints.get("urgency").and_then(|urgency| u8::try_from(urgency).ok()).unwrap_or(1);
            let number = {
                let mut shown = lock(shown);
                let next = shown.iter().map(|shown| shown.number).max().unwrap_or(0) + 1;
                let number = if instead == 0 { next } else { instead };
                shown.push(Shown { number, instead, title, body: text, actions, urgency });
                number
            };
            bus.reply(&header, &number).await
        }
        "CloseNotification" => {
            let (number,): (u32,) = message.body().deserialize()?;
            lock(down).push(number);
            bus.reply(&header, &()).await
        }
        _ => Ok(()),
    }
}

/// A login service that knows of the sessions that it is told of.
#[derive(Debug)]
pub struct Login {
    /// Each session: whose it is, whether it is in front, and whether its screen is locked.
    pub sessions: Arc<Mutex<Vec<(u32, bool, bool)>>>,
}

impl Login {
    /// On the machine's bus.
    pub fn on(socket: &Path) -> Login {
        let bus = connect(socket, 0);
        let login = Login { sessions: Arc::default() };
        let (sessions, replies) = (Arc::clone(&login.sessions), bus.clone());
        let mut messages = MessageStream::from(&bus);
        std::thread::spawn(move || {
            while let Some(Ok(message)) = pollster::block_on(messages.next()) {
                if message.message_type() == Type::MethodCall {
                    let _ = pollster::block_on(tell(&replies, &message, &sessions));
                }
            }
        });
        own(&bus, LOGIN);
        login
    }

    /// These are the sessions from now on.
    pub fn set(&self, sessions: &[(u32, bool, bool)]) {
        *lock(&self.sessions) = sessions.to_vec();
    }
}

async fn tell(bus: &Connection, message: &Message, sessions: &Mutex<Vec<(u32, bool, bool)>>) -> zbus::Result<()> {
    let header = message.header();
    let sessions = lock(sessions).clone();
    let method = header.member().map(ToString::to_string).unwrap_or_default();
    if method == "ListSessions" {
        let of = |(place, (uid, ..)): (usize, &(u32, bool, bool))| {
            let path = OwnedObjectPath::try_from(format!("/org/freedesktop/login1/session/{place}")).ok()?;
            Some((format!("c{place}"), *uid, "ines".to_owned(), "seat0".to_owned(), path))
        };
        let all: Vec<_> = sessions.iter().enumerate().filter_map(of).collect();
        return bus.reply(&header, &all).await;
    }
    let place = header.path().and_then(|path| path.rsplit('/').next()?.parse::<usize>().ok()).unwrap_or_default();
    let (_, name): (String, String) = message.body().deserialize()?;
    let (_, active, locked) = sessions.get(place).copied().unwrap_or_default();
    let value = match name.as_str() {
        "Class" => Variant::from("user"),
        "Type" => Variant::from("x11"),
        "Active" => Variant::from(active),
        _ => Variant::from(locked),
    };
    bus.reply(&header, &value).await
}

/// That user's own service manager, on the bus of his session: it knows one unit, which is in that control group.
pub fn manager_on(socket: &Path, uid: u32, group: &str) -> Arc<Mutex<crate::Told>> {
    let bus = connect(socket, uid);
    let told = Arc::new(Mutex::new(crate::Told { group: Some(group.to_owned()), ..crate::Told::default() }));
    let (shared, replies) = (Arc::clone(&told), bus.clone());
    let mut messages = MessageStream::from(&bus);
    std::thread::spawn(move || {
        while let Some(Ok(message)) = pollster::block_on(messages.next()) {
            if message.message_type() == Type::MethodCall {
                let _ = pollster::block_on(crate::service_manager::answer(&replies, &message, &shared));
            }
        }
    });
    own(&bus, "org.freedesktop.systemd1");
    told
}
