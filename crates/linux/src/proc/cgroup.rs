//! `/proc/PID/cgroup` (cgroups(7)): which unit a process belongs to, and what it came from.

use sophron_core::model::{Origin, unit_of};
use sophron_core::text;

/// The control group's path: of the unified hierarchy, else of the one that the service manager names.
pub fn parse_path(cgroup: &[u8]) -> Option<String> {
    let lines = || cgroup.split(|byte| *byte == b'\n');
    let unified = lines().find_map(|line| line.strip_prefix(b"0::"));
    let named = lines()
        .find_map(|line| line.split(|byte| *byte == b':').nth(1).filter(|name| *name == b"name=systemd").map(|_| line));
    // A hybrid machine has both; the unified path is then mostly `/`.
    let of_named = named.and_then(|line| line.splitn(3, |byte| *byte == b':').nth(2));
    let path = of_named.filter(|path| unified.is_none_or(|unified| unified == b"/") && !path.is_empty()).or(unified)?;
    Some(text::clean(path))
}

/// The unit or scope of a path; empty for none.
pub fn unit(path: &str) -> &str {
    unit_of(path).map_or("", |unit| unit.name)
}

/// What a process of that control group came from.
pub fn origin(path: &str) -> Origin {
    let unit = unit(path);
    if ["docker", "libpod", "crio", "lxc", "machine.slice", "kubepods"].iter().any(|word| path.contains(word)) {
        Origin::Container
    } else if unit.starts_with("session-") {
        Origin::Login
    } else if unit.starts_with("app-") || path.contains("/app.slice/") {
        Origin::Desktop
    } else if unit.ends_with(".service") {
        Origin::Service
    } else {
        Origin::Other
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn units_and_origins() {
        for (cgroup, wanted_unit, wanted_origin) in [
            ("0::/system.slice/sheetlamp.service\n", "sheetlamp.service", Origin::Service),
            ("0::/user.slice/user-1001.slice/session-3.scope\n", "session-3.scope", Origin::Login),
            (
                "0::/user.slice/user-1001.slice/user@1001.service/app.slice/app-labelpress-77.scope\n",
                "app-labelpress-77.scope",
                Origin::Desktop,
            ),
            ("0::/\n", "", Origin::Other),
            ("4:cpu:/\n1:name=systemd:/system.slice/gatekeys.service\n0::/\n", "gatekeys.service", Origin::Service),
        ] {
            let path = parse_path(cgroup.as_bytes()).unwrap();
            assert_eq!((unit(&path), origin(&path)), (wanted_unit, wanted_origin), "{cgroup}");
        }
        assert_eq!(parse_path(b""), None);
    }
}
