//! Whether somebody can see his screen at present, by the login service (org.freedesktop.login1, systemd-logind(8)).

use std::time::{Duration, Instant};

use zbus::{Connection, OwnedObjectPath, OwnedVariant};

use super::notices::deserialized;

/// Most sessions that are looked at.
const MOST: usize = 16;

/// How long it may take to answer.
pub(super) const PATIENCE: Duration = Duration::from_secs(2);

/// One of his sessions, as a person would look at it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Session {
    pub id: String,
    pub locked: bool,
    /// Whether it is in front.
    pub active: bool,
}

/// His graphical sessions; none where nobody can say.
pub(super) async fn sessions(machine: Option<&Connection>, uid: u32) -> Option<Vec<Session>> {
    let machine = machine?;
    let (mut found, began) = (Vec::new(), Instant::now());
    let listed = ask(machine, "/org/freedesktop/login1", "org.freedesktop.login1.Manager", "ListSessions", &()).await;
    let listed: Vec<(String, u32, String, String, OwnedObjectPath)> = deserialized(&listed?)?;
    for (id, _, _, _, path) in listed.into_iter().filter(|session| session.1 == uid).take(MOST) {
        let property = async |name: &'static str| -> Option<OwnedVariant> {
            let of = ("org.freedesktop.login1.Session".to_owned(), name.to_owned());
            let answer = ask(machine, path.as_str(), "org.freedesktop.DBus.Properties", "Get", &of).await?;
            deserialized(&answer)
        };
        let text = async |name| property(name).await.and_then(|value| String::try_from(value).ok()).unwrap_or_default();
        let flag = async |name| property(name).await.and_then(|value| bool::try_from(value).ok()).unwrap_or_default();
        // One that hangs midway says nothing either.
        if began.elapsed() > PATIENCE {
            return None;
        }
        if text("Class").await == "user" && matches!(text("Type").await.as_str(), "x11" | "wayland" | "mir") {
            found.push(Session { id, locked: flag("LockedHint").await, active: flag("Active").await });
        }
    }
    Some(found)
}

async fn ask<B>(machine: &Connection, path: &str, interface: &str, method: &str, body: &B) -> Option<zbus::Message>
where
    B: serde::Serialize + zbus::DynamicType,
{
    machine.call_method(Some("org.freedesktop.login1"), path, Some(interface), method, body).await.ok()
}

/// In which of them he sees it; or why in none.
pub(super) fn in_front(sessions: &[Session]) -> Result<&Session, &'static str> {
    let seen = sessions.iter().find(|session| session.active && !session.locked);
    seen.ok_or_else(|| match sessions {
        [] => "there is no graphical session",
        all if all.iter().any(|session| session.active) => "the screen is locked",
        _ => "the graphical session is not in front",
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_sees_his_screen() {
        let session = |active, locked| Session { id: "c1".to_owned(), locked, active };
        let why = |sessions: &[Session]| in_front(sessions).map(|_| "seen").unwrap_or_else(|why| why);
        assert_eq!(why(&[]), "there is no graphical session");
        assert_eq!(why(&[session(true, true)]), "the screen is locked");
        assert_eq!(why(&[session(false, false)]), "the graphical session is not in front");
        assert_eq!(why(&[session(false, false), session(true, true), session(true, false)]), "seen");
    }
}
