//! A package for distributions that use rpm.

use rpm::{BuildConfig, CompressionType, Dependency, FileOptions, PackageBuilder, Scriptlet};

use crate::Outcome;
use crate::tree::Package;

const SUMMARY: &str = "Watches processes for runaway CPU or memory use, acts by rules, keeps the record";

const ABOUT: &str = "Threshold rules watch a machine's processes. Sophron alerts when one is broken,
lowers the offender's priority, suspends it or ends it, the mildest step
first, undoes what it can as soon as it is calm, and keeps a record of every
step that nobody can change unseen.";

/// The new service manager's files are known at once; a watcher that runs goes on as the new version.
const POST: &str = "systemd-sysusers sophron.conf >/dev/null 2>&1 || :\nif [ -d /run/systemd/system ]; then systemctl daemon-reload || :; fi\n";

/// At the removal, and not at an upgrade: the watcher ends, and puts back what is in force.
const PREUN: &str = "if [ \"$1\" -eq 0 ] && [ -d /run/systemd/system ]; then systemctl --no-reload disable --now sophron.service || :; fi\n";

const POSTUN: &str = "if [ -d /run/systemd/system ]; then
  systemctl daemon-reload || :
  if [ \"$1\" -ge 1 ]; then systemctl try-restart sophron.service || :; fi
fi\n";

/// The package's bytes.
pub fn package(package: &Package) -> Outcome<Vec<u8>> {
    let mut builder =
        PackageBuilder::new("sophron", &package.version, "MIT OR Apache-2.0", std::env::consts::ARCH, SUMMARY);
    // The most that every rpm can unpack.
    let config = BuildConfig::v4().source_date(package.time).compression(CompressionType::Gzip);
    builder
        .using_config(config)
        .release(package.revision.to_string())
        .description(ABOUT)
        .group("Applications/System")
        .build_host("localhost")
        .requires(Dependency::any("glibc"))
        .requires(Dependency::any("libgcc"))
        .post_install_script(Scriptlet::new(POST))
        .pre_uninstall_script(Scriptlet::new(PREUN))
        .post_uninstall_script(Scriptlet::new(POSTUN));
    // Folders that are the system's are not ours; of zsh's and Debian's own files rpm's distributions have other places.
    let ours = ["etc/sophron", "usr/share/sophron", "usr/share/doc/sophron"];
    for entry in &package.entries {
        let path = entry.path.as_str();
        let debians = path.contains("lintian") || path.ends_with("changelog.Debian.gz");
        match &entry.bytes {
            None if ours.contains(&path) => {
                builder.with_dir_entry(FileOptions::dir(format!("/{path}")).permissions(u16::try_from(entry.mode)?))?;
            }
            Some(bytes) if !debians => {
                let place = path.replace("zsh/vendor-completions", "zsh/site-functions");
                let options = FileOptions::new(format!("/{place}")).permissions(u16::try_from(entry.mode)?);
                let options = if path.contains("/doc/") || path.contains("/man/") { options.doc() } else { options };
                builder.with_file_contents(bytes.clone(), options)?;
            }
            _ => {}
        }
    }
    let mut bytes = Vec::new();
    builder.build()?.write(&mut bytes)?;
    Ok(bytes)
}
