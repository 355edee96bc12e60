//! Which unit a control group belongs to, and whose word that is.
//!
//! Below a slice the machine's service manager makes groups, and nobody else can. Inside of `user@1001.service` that user
//! makes them as he likes, and inside of a container its own root does: a name there is only what they call it.

/// Who vouches for a unit's name.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Manager {
    /// The machine's service manager: the name is a fact.
    Machine,
    /// A user's own, or the user himself: the name is a claim.
    User(u32),
}

/// The unit that a control group belongs to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Unit<'p> {
    /// Its name, as `sheetlamp.service`.
    pub name: &'p str,
    /// Its own control group, as `/system.slice/sheetlamp.service`.
    pub group: &'p str,
    /// Who vouches for it.
    pub manager: Manager,
}

impl Unit<'_> {
    /// Whether the name is only what a user calls it: good for covering, never for protecting or for restarting.
    pub fn is_a_claim(&self) -> bool {
        self.manager != Manager::Machine
    }
}

/// The unit of a control group's path (`/proc/PID/cgroup`, cgroups(7)); `None` for none. It is the outermost one: what is
/// called a unit further inside was named by whoever runs in it. Only a user's manager is known to make units in its own.
pub fn unit_of(path: &str) -> Option<Unit<'_>> {
    let mut found: Option<Unit<'_>> = None;
    let mut manager = Manager::Machine;
    let mut end = 0;
    for part in path.split('/') {
        end += part.len() + 1;
        if part.is_empty() || part.ends_with(".slice") {
            continue;
        }
        if !part.ends_with(".service") && !part.ends_with(".scope") {
            return found;
        }
        let unit = Unit { name: part, group: path.get(..end - 1)?, manager };
        match user_of_manager(unit.group) {
            Some(uid) if manager == Manager::Machine => (found, manager) = (Some(unit), Manager::User(uid)),
            _ => return Some(unit),
        }
    }
    found
}

/// The slice in which the machine's service manager puts all that a user's logins start.
pub fn slice_of(uid: u32) -> String {
    format!("/user.slice/user-{uid}.slice")
}

/// The user whose service manager runs in that group.
fn user_of_manager(group: &str) -> Option<u32> {
    let (user, rest) = group.strip_prefix("/user.slice/user-")?.split_once(".slice/user@")?;
    (rest.strip_suffix(".service")? == user).then(|| user.parse().ok())?
}
