//! What is made of Sophron beside the program: manual pages, completions, a unit for the service manager, packages.
//!
//!     cargo xtask all              # everything, in target/dist

#![forbid(unsafe_code)]

mod build;
mod completions;
mod deb;
mod examples;
mod pages;
mod rpm;
mod rules_page;
mod tree;

use std::error::Error;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Parser, Subcommand};

/// What goes wrong is told as it comes.
type Outcome<T> = Result<T, Box<dyn Error>>;

/// Makes what is shipped with Sophron.
#[derive(Debug, Parser)]
struct Args {
    #[command(subcommand)]
    make: Make,
    /// Where to write it
    #[arg(long, value_name = "DIR", global = true, default_value = "target/dist")]
    out: PathBuf,
    /// The revision of the package, behind the version
    #[arg(long, value_name = "N", global = true, default_value_t = 1)]
    revision: u32,
    /// A program that is built already, to be packed instead of one that is built for it: for tests of the package
    #[arg(long, value_name = "FILE", global = true)]
    program: Option<PathBuf>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Subcommand)]
enum Make {
    /// Manual pages: one a command, and sophron-rules(5)
    Man,
    /// Completions for bash, zsh and fish
    Completions,
    /// A package for Debian and what is like it
    Deb,
    /// A package for what uses rpm
    Rpm,
    /// The program without any library, for machines that are older or smaller
    Static,
    /// All of it
    All,
}

fn main() -> ExitCode {
    match run(&Args::parse()) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("xtask: {error}");
            ExitCode::FAILURE
        }
    }
}

fn run(args: &Args) -> Outcome<()> {
    let is = |make: Make| args.make == make || args.make == Make::All;
    let out = args.out.as_path();
    fs::create_dir_all(out)?;
    if is(Make::Man) {
        write_all(&out.join("man"), &pages::all()?)?;
    }
    if is(Make::Completions) {
        write_all(&out.join("completions"), &completions::all()?)?;
    }
    if is(Make::Deb) || is(Make::Rpm) {
        let program = args.program.as_deref().map_or_else(build::dynamic, build::stripped)?;
        let package = tree::Package::new(program, args.revision)?;
        if is(Make::Deb) {
            written(&out.join(package.deb_name()), &deb::package(&package)?)?;
        }
        if is(Make::Rpm) {
            written(&out.join(package.rpm_name()), &rpm::package(&package)?)?;
        }
    }
    if is(Make::Static) {
        let path = out.join("sophron-static");
        fs::copy(build::without_libraries()?, &path)?;
        println!("{}", path.display());
    }
    Ok(())
}

fn write_all(folder: &Path, files: &[(String, Vec<u8>)]) -> Outcome<()> {
    fs::create_dir_all(folder)?;
    files.iter().try_for_each(|(name, bytes)| written(&folder.join(name), bytes))
}

fn written(path: &Path, bytes: &[u8]) -> Outcome<()> {
    fs::write(path, bytes).map_err(|error| format!("{}: {error}", path.display()))?;
    println!("{}", path.display());
    Ok(())
}
