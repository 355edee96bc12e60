//! The notice service of a graphical session (org.freedesktop.Notifications, Desktop Notifications Specification): asked in plain calls.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use sophron_core::telling::Notice;
use sophron_core::text::cut;
use zbus::{Connection, Variant};

use crate::reason;

const NAME: &str = "org.freedesktop.Notifications";
const PATH: &str = "/org/freedesktop/Notifications";
const BUS: &str = "org.freedesktop.DBus";

/// How long one call may take.
pub(super) const PATIENCE: Duration = Duration::from_secs(3);

/// How long whoever shows notices may take to begin, beyond the call; and how often it is looked.
const UNTIL_STARTED: Duration = Duration::from_secs(2);
const A_MOMENT: Duration = Duration::from_millis(100);

/// Who shows notices, and what he can.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Service {
    /// His own name on the bus: signals count only from there.
    pub name: String,
    markup: bool,
    buttons: bool,
}

/// What a body says.
pub(super) fn deserialized<T: serde::de::DeserializeOwned + zbus::zvariant::Type>(
    message: &zbus::Message,
) -> Option<T> {
    message.body().deserialize().ok()
}

/// Who shows notices there; he is started where nobody does and `starts` is set.
///
/// # Errors
/// Nobody does.
pub(super) async fn find(bus: &Connection, starts: bool) -> Result<Service, String> {
    let owner = async || {
        let found = bus.call_method(Some(BUS), "/", Some(BUS), "GetNameOwner", &(NAME,)).await.ok()?;
        deserialized::<String>(&found)
    };
    let mut name = owner().await;
    if name.is_none() && starts {
        // 0: no flags.
        let started = bus.call_method(Some(BUS), "/", Some(BUS), "StartServiceByName", &(NAME, 0_u32)).await;
        match started {
            Err(error) if !is_late(&error) => {
                return Err(format!("no program shows notices there: {}", why(&error)));
            }
            _ => {}
        }
        // A desktop that has only just begun takes its time.
        let until = Instant::now() + UNTIL_STARTED;
        name = owner().await;
        while name.is_none() && Instant::now() < until {
            std::thread::sleep(A_MOMENT);
            name = owner().await;
        }
    }
    let name = name.ok_or("no program shows notices there")?;
    let can = bus.call_method(Some(name.as_str()), PATH, Some(NAME), "GetCapabilities", &()).await;
    let can = can.map_err(|error| format!("the program that shows notices does not answer: {}", why(&error)))?;
    let can: Vec<String> = deserialized(&can).unwrap_or_default();
    let has = |word: &str| can.iter().any(|can| can == word);
    Ok(Service { name, markup: has("body-markup"), buttons: has("actions") })
}

impl Service {
    /// Has it shown, instead of the one with that number; the number of what is shown.
    ///
    /// # Errors
    /// It is not.
    pub async fn show(&self, bus: &Connection, notice: &Notice, nonce: &str, instead: u32) -> Result<u32, String> {
        let body = if self.markup { escaped(&notice.body) } else { plain(&notice.body) };
        let mut actions: Vec<String> = Vec::new();
        for (answer, label) in notice.answers.iter().filter(|_| self.buttons) {
            actions.extend([key(answer.word(), nonce), plain(label)]);
        }
        // 2: critical, which stays in front; 1: normal.
        let urgency: u8 = if notice.stays { 2 } else { 1 };
        let hints: BTreeMap<&str, Variant<'_>> = BTreeMap::from([("urgency", Variant::from(urgency))]);
        // 0: never by itself; -1: when the service thinks best.
        let expires: i32 = if notice.stays { 0 } else { -1 };
        let body = ("Sophron", instead, "", plain(&notice.title), body, actions, hints, expires);
        let shown = bus.call_method(Some(self.name.as_str()), PATH, Some(NAME), "Notify", &body).await;
        let shown = shown.map_err(|error| format!("the program that shows notices does not: {}", why(&error)))?;
        deserialized(&shown).ok_or_else(|| "the program that shows notices answers strangely".to_owned())
    }

    /// Has it taken down.
    pub async fn take_down(&self, bus: &Connection, number: u32) {
        // He may be gone, and it with him.
        let _ = bus.call_method(Some(self.name.as_str()), PATH, Some(NAME), "CloseNotification", &(number,)).await;
    }

    /// Whether what is asked can be answered there.
    pub fn has_buttons(&self) -> bool {
        self.buttons
    }
}

/// Has what the service says of notices, and who it is, delivered to us.
pub(super) async fn listen(bus: &Connection) -> zbus::Result<()> {
    let rules = [
        format!("type='signal',interface='{NAME}',path='{PATH}'"),
        format!("type='signal',sender='{BUS}',interface='{BUS}',member='NameOwnerChanged',arg0='{NAME}'"),
    ];
    for rule in rules {
        bus.call_method(Some(BUS), "/", Some(BUS), "AddMatch", &(rule,)).await?;
    }
    Ok(())
}

/// A signal that is about notices.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Signal {
    /// Something was answered in the notice of that number.
    Answered { number: u32, key: String, by: String },
    /// It is there no longer.
    Closed { number: u32, by: String },
    /// Another program shows notices from now on; or none does.
    Replaced,
}

impl Signal {
    /// Of a message; none where it is about something else.
    pub fn of(message: &zbus::Message) -> Option<Signal> {
        let header = message.header();
        let by = header.sender()?.to_string();
        match (header.interface()?.as_str(), header.member()?.as_str()) {
            (NAME, "ActionInvoked") => {
                let (number, key): (u32, String) = deserialized(message)?;
                Some(Signal::Answered { number, key: cut(&key, 200).to_owned(), by })
            }
            (NAME, "NotificationClosed") => {
                let (number, _): (u32, u32) = deserialized(message)?;
                Some(Signal::Closed { number, by })
            }
            (BUS, "NameOwnerChanged") if by == BUS => {
                let (name, _, _): (String, String, String) = deserialized(message)?;
                (name == NAME).then_some(Signal::Replaced)
            }
            _ => None,
        }
    }
}

/// By what an answer comes back: nobody else knows the nonce.
fn key(answer: &str, nonce: &str) -> String {
    format!("{answer}.{nonce}")
}

/// The answer and the nonce of a key.
pub(super) fn of_key(key: &str) -> Option<(&str, &str)> {
    key.split_once('.')
}

fn is_late(error: &zbus::Error) -> bool {
    matches!(error, zbus::Error::InputOutput(error) if error.kind() == std::io::ErrorKind::TimedOut)
}

fn why(error: &zbus::Error) -> String {
    match is_late(error) {
        true => format!("not within {} s", PATIENCE.as_secs()),
        false => reason(&error.to_string()),
    }
}

/// Where markup is rendered, nothing is.
fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}

/// Where nobody says whether it is, nothing looks like it.
fn plain(text: &str) -> String {
    text.replace('&', "+").replace('<', "(").replace('>', ")")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_hostile_name_is_no_markup() {
        let name = "<b>press</b> & <a href=\"x\">";
        assert_eq!(escaped(name), "&lt;b&gt;press&lt;/b&gt; &amp; &lt;a href=\"x\"&gt;");
        assert_eq!(plain(name), "(b)press(/b) + (a href=\"x\")");
        assert_eq!(of_key(&key("let-run", "ab12")), Some(("let-run", "ab12")));
    }
}
