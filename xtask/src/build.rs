//! The program as it is shipped: without symbols, and without a path of the machine that it was built on.

use std::env;
use std::path::{Path, PathBuf};
use std::process::Command;

use crate::Outcome;

/// The program as Linux distributions want it: on the C library that is there.
pub fn dynamic() -> Outcome<PathBuf> {
    build("shared", &[])
}

/// The program without any library.
pub fn without_libraries() -> Outcome<PathBuf> {
    build("static", &["-Ctarget-feature=+crt-static"])
}

/// A program that is there already, without its symbols.
pub fn stripped(program: &Path) -> Outcome<PathBuf> {
    let stripped = program.with_extension("stripped");
    let status = Command::new("strip").arg("-o").arg(&stripped).arg(program).status()?;
    if status.success() { Ok(stripped) } else { Err(format!("{} cannot be stripped", program.display()).into()) }
}

/// The folder that holds the workspace.
pub fn workspace() -> Outcome<PathBuf> {
    Ok(Path::new(env!("CARGO_MANIFEST_DIR")).parent().ok_or("xtask lies in no workspace")?.to_owned())
}

fn build(kind: &str, flags: &[&str]) -> Outcome<PathBuf> {
    let workspace = workspace()?;
    // A folder of its own: what developers build is not built anew for it.
    let target = env::var_os("CARGO_TARGET_DIR").map_or_else(|| workspace.join("target"), PathBuf::from);
    let folder = target.join("shipped").join(kind);
    let cargo = env::var_os("CARGO").unwrap_or_else(|| "cargo".into());
    let home = env::var_os("CARGO_HOME")
        .map(PathBuf::from)
        .or_else(|| env::home_dir().map(|home| home.join(".cargo")))
        .ok_or("neither CARGO_HOME nor HOME is set")?;
    let host = host()?;
    let places = [(home.as_path(), "/cargo"), (workspace.as_path(), "/sophron"), (folder.as_path(), "/build")];
    let mut rust: Vec<String> = flags.iter().map(|flag| (*flag).to_owned()).collect();
    rust.extend(places.iter().map(|(from, to)| format!("--remap-path-prefix={}={to}", from.display())));
    let c: Vec<String> = places.iter().map(|(from, to)| format!("-ffile-prefix-map={}={to}", from.display())).collect();
    // With the target named, what runs while building is built as usual.
    let status = Command::new(cargo)
        .current_dir(&workspace)
        .args([
            "build",
            "--quiet",
            "--profile",
            "dist",
            "--locked",
            "--package",
            "sophron",
            "--bin",
            "sophron",
            "--target",
            &host,
        ])
        .env("CARGO_TARGET_DIR", &folder)
        .env("CARGO_ENCODED_RUSTFLAGS", rust.join("\x1f"))
        .env("CFLAGS", c.join(" "))
        .status()?;
    if !status.success() {
        return Err("the program was not built".into());
    }
    Ok(folder.join(host).join("dist/sophron"))
}

/// The kind of machine this is, as the compiler calls it.
fn host() -> Outcome<String> {
    let rustc = env::var_os("RUSTC").unwrap_or_else(|| "rustc".into());
    let told = String::from_utf8(Command::new(rustc).arg("-vV").output()?.stdout)?;
    let host = told.lines().find_map(|line| line.strip_prefix("host: "));
    Ok(host.ok_or("rustc does not say what it builds for")?.to_owned())
}
