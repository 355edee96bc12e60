//! What a package holds: every file with its place, its rights and its bytes.

use std::fs;
use std::io::Write;
use std::path::PathBuf;

use flate2::{Compression, GzBuilder};

use crate::{Outcome, build, completions, pages};

/// A file, or a folder where it has no bytes.
pub struct Entry {
    /// Its place, without the slash before.
    pub path: String,
    /// Its rights.
    pub mode: u32,
    /// What is in it; none of a folder.
    pub bytes: Option<Vec<u8>>,
}

/// A package before it has a form.
pub struct Package {
    pub version: String,
    pub revision: u32,
    /// The time that everything in it has, seconds since 1970: that of its newest change.
    pub time: u32,
    pub entries: Vec<Entry>,
}

impl Package {
    /// With that program.
    pub fn new(program: PathBuf, revision: u32) -> Outcome<Package> {
        let version = env!("CARGO_PKG_VERSION").to_owned();
        let changes = packaging("changelog")?.replace("@VERSION@", &format!("{version}-{revision}"));
        let time = time_of(&changes)?;
        let mut package = Package { version, revision, time, entries: Vec::new() };
        package.add("usr/bin/sophron", 0o755, fs::read(program)?);
        package.plain("usr/lib/systemd/system/sophron.service", packaging("sophron.service")?);
        package.plain("usr/lib/systemd/user/sophron.service", packaging("sophron-user.service")?);
        package.plain("usr/lib/sysusers.d/sophron.conf", packaging("sysusers.conf")?);
        package.plain("usr/share/sophron/starter.toml", of_workspace("examples/starter.toml")?);
        for (name, page) in pages::all()? {
            let section = name.rsplit('.').next().unwrap_or("1").to_owned();
            package.packed(&format!("usr/share/man/man{section}/{name}.gz"), &page)?;
        }
        let folders = [
            "usr/share/bash-completion/completions",
            "usr/share/zsh/vendor-completions",
            "usr/share/fish/vendor_completions.d",
        ];
        for ((shell, name), folder) in completions::SHELLS.iter().zip(folders) {
            package.add(&format!("{folder}/{name}"), 0o644, completions::script(shell)?);
        }
        package.plain("usr/share/doc/sophron/copyright", packaging("copyright")?);
        package.packed("usr/share/doc/sophron/changelog.gz", of_workspace("CHANGELOG.md")?.as_bytes())?;
        package.packed("usr/share/doc/sophron/changelog.Debian.gz", changes.as_bytes())?;
        package.plain("usr/share/lintian/overrides/sophron", packaging("lintian-overrides")?);
        // Rules belong here. They are nobody's but the administrator's: an upgrade is not to ask about what decides over processes.
        package.entries.push(Entry { path: "etc/sophron".to_owned(), mode: 0o755, bytes: None });
        package.add_folders();
        Ok(package)
    }

    pub fn deb_name(&self) -> String {
        format!("sophron_{}-{}_{}.deb", self.version, self.revision, deb_machine())
    }

    pub fn rpm_name(&self) -> String {
        format!("sophron-{}-{}.{}.rpm", self.version, self.revision, std::env::consts::ARCH)
    }

    fn add(&mut self, path: &str, mode: u32, bytes: Vec<u8>) {
        self.entries.push(Entry { path: path.to_owned(), mode, bytes: Some(bytes) });
    }

    fn plain(&mut self, path: &str, text: String) {
        self.add(path, 0o644, text.into_bytes());
    }

    fn packed(&mut self, path: &str, bytes: &[u8]) -> Outcome<()> {
        let packed = packed(bytes)?;
        self.add(path, 0o644, packed);
        Ok(())
    }

    /// The folders on the way to every file, each before what is in it.
    fn add_folders(&mut self) {
        let mut folders: Vec<String> = Vec::new();
        for entry in &self.entries {
            let slashes = entry.path.match_indices('/').map(|(at, _)| entry.path[..at].to_owned());
            folders.extend(slashes);
        }
        folders.sort();
        folders.dedup();
        self.entries.extend(folders.into_iter().map(|path| Entry { path, mode: 0o755, bytes: None }));
        self.entries.sort_by(|a, b| a.path.cmp(&b.path));
    }
}

/// What Debian calls this kind of machine.
pub fn deb_machine() -> &'static str {
    match std::env::consts::ARCH {
        "x86_64" => "amd64",
        "aarch64" => "arm64",
        other => other,
    }
}

/// Compressed, the same bytes every time.
pub fn packed(bytes: &[u8]) -> Outcome<Vec<u8>> {
    let mut gz = GzBuilder::new().mtime(0).write(Vec::new(), Compression::best());
    gz.write_all(bytes)?;
    Ok(gz.finish()?)
}

/// A file of packaging/.
pub fn packaging(name: &str) -> Outcome<String> {
    of_workspace(&format!("packaging/{name}"))
}

fn of_workspace(name: &str) -> Outcome<String> {
    let path = build::workspace()?.join(name);
    Ok(fs::read_to_string(&path).map_err(|error| format!("{}: {error}", path.display()))?)
}

/// The time of the newest change, from the line that closes it: ` -- Name <address>  Sun, 29 Nov 2026 12:00:00 +0000`.
fn time_of(changes: &str) -> Outcome<u32> {
    let line = changes.lines().find_map(|line| line.strip_prefix(" -- ")).ok_or("packaging/changelog has no date")?;
    let date = line.split_once("  ").ok_or("packaging/changelog: two blanks before the date")?.1;
    let at = jiff::fmt::rfc2822::parse(date)?;
    Ok(u32::try_from(at.timestamp().as_second())?)
}
