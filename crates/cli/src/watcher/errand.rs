//! A delivery over the network, handed to a helper: our own program again, with nothing but the job on its standard input. What it takes,
//! secrets and whom to believe, is read here, where that may be read, and goes by that pipe alone.

use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::{Deserialize, Serialize};
use sophron_core::telling::{Channel, To, Trouble};
use sophron_core::text::{clean, with_causes};
use sophron_deliver::{Carrier, Job, Secret, Supplies};
use sophron_linux::fence::Fence;
use sophron_linux::{files, here, own_life, sys};

use super::helpers::Helpers;

/// The word by which the program that we are starts as a helper.
pub const WORD: &str = "deliver";

/// Largest secret, bytes.
const LARGEST_SECRET: u64 = 4096;

/// Largest file of certificates, bytes.
const LARGEST_ROOTS: u64 = 4 << 20;

/// Where machines keep the certificates of those whom they believe.
const ROOTS: [&str; 5] = [
    "/etc/ssl/certs/ca-certificates.crt",
    "/etc/pki/tls/certs/ca-bundle.crt",
    "/etc/ssl/ca-bundle.pem",
    "/etc/ssl/cert.pem",
    "/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem",
];

/// What a helper is told.
#[derive(Serialize, Deserialize)]
pub struct Told<J> {
    pub fence: Fence,
    pub job: J,
}

/// Who has one channel's messages delivered.
pub struct Errand {
    to: To,
    secret_file: Option<PathBuf>,
    ca_file: Option<PathBuf>,
    user: String,
    helpers: Helpers,
}

impl Errand {
    /// For that channel, as that user where we are root.
    pub fn new(channel: &Channel, user: &str, helpers: Helpers) -> Errand {
        let Channel { to, secret_file, ca_file, .. } = channel.clone();
        Errand { to, secret_file, ca_file, user: user.to_owned(), helpers }
    }
}

impl Carrier for Errand {
    fn supplies(&mut self, say: &mut dyn FnMut(&str)) -> Result<Supplies, Trouble> {
        let off = |why| Trouble::Off(why);
        user(&self.user).map_err(off)?;
        let secret = self.secret_file.as_deref().map(secret).transpose().map_err(off)?;
        if let Some(file) = &self.secret_file {
            say(&format!("secret read from {}", file.display()));
        }
        let roots =
            if self.to.is_encrypted() { roots(self.ca_file.as_deref(), say).map_err(off)? } else { String::new() };
        Ok(Supplies { secret, roots })
    }

    fn carry(&mut self, job: &Job, most: Duration, heard: &mut dyn FnMut(&[u8])) -> io::Result<bool> {
        let user = user(&self.user).map_err(io::Error::other)?;
        let port = self.to.server().map(|server| server.port);
        let fence = Fence { user, resolves: true, port, ..Fence::default() };
        let told = serde_json::to_vec(&Told { fence, job }).map_err(io::Error::other)?;
        let mut start = own_life::helper(WORD);
        sys::as_we_were(&mut start);
        Ok(self.helpers.talk(start, &told, most, heard)?.in_time)
    }
}

/// As whom a helper works: root's as that user, anybody else's as himself.
///
/// # Errors
/// There is no such user, or he is root.
pub fn user(name: &str) -> Result<Option<(u32, u32)>, String> {
    if !here::is_root() {
        return Ok(None);
    }
    let shown = clean(name.as_bytes());
    match here::account(name) {
        Some((0, _)) => Err(format!("{shown} is root: messages never leave the machine with root's rights")),
        Some(account) => Ok(Some(account)),
        None => Err(format!(
            "there is no user {shown}, as whom messages leave the machine: add one who may do nothing else, `useradd --system {shown}`"
        )),
    }
}

/// # Errors
/// It is not there, others could read or change it, or it is none.
pub fn secret(path: &Path) -> Result<Secret, String> {
    let bytes = files::read_secret(path, LARGEST_SECRET).map_err(|error| with_causes(&error))?;
    Secret::of_file(&bytes).map_err(|why| format!("{} {why}: a secret is one line", path.display()))
}

/// Whom to believe who the other side is.
///
/// # Errors
/// It is not there, or others could change it.
pub fn roots(given: Option<&Path>, say: &mut dyn FnMut(&str)) -> Result<String, String> {
    let usual = || ROOTS.iter().find_map(|path| std::fs::canonicalize(path).ok());
    let path = given.map(Path::to_owned).or_else(usual).ok_or(
        "nobody may vouch for the other side: this machine has no certificates of its own, and no `ca_file` is given",
    )?;
    let bytes = files::read_trusted(&path, LARGEST_ROOTS).map_err(|error| with_causes(&error))?;
    say(&format!("who may vouch for the other side: {}", path.display()));
    String::from_utf8(bytes).map_err(|_| format!("{} is not text", path.display()))
}

/// What of a channel is not as it has to be before it can tell anybody; what may not be looked at is not said.
pub fn wanting(channel: &Channel, as_user: &str) -> Vec<String> {
    // Whoever checks the machine's rules as an ordinary user sees none of its secrets, and is right not to.
    let is_hidden = |path: &Path| {
        let denied = |error: io::Error| error.kind() == io::ErrorKind::PermissionDenied;
        !here::is_root() && std::fs::File::open(path).is_err_and(denied)
    };
    let secret = channel.secret_file.as_deref().filter(|path| !is_hidden(path)).and_then(|path| secret(path).err());
    let is_network = channel.to.server().is_some();
    let roots = || roots(channel.ca_file.as_deref(), &mut |_| ()).err();
    let roots = if is_network && channel.to.is_encrypted() { roots() } else { None };
    let user = if is_network { user(as_user).err() } else { None };
    [secret, roots, user].into_iter().flatten().collect()
}
