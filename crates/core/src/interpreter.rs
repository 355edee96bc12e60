//! Interpreters: a process that runs one is called by its script, which only the command line names.

use crate::text::clean;

/// No name of a program is longer, characters.
pub const LONGEST_NAME: usize = 64;

/// How an interpreter reads its options.
struct Interpreter {
    /// What its file is called, without digits and dots at the end.
    names: &'static [&'static str],
    /// Short options that take an argument: the rest of the word, or the next word.
    short: &'static str,
    /// Short options to which the rest of the word belongs, if there is any, and never the next word.
    attached: &'static str,
    /// Long options whose argument is the next word.
    long: &'static [&'static str],
    /// Options after which there is no script: the program is given as text, or read from the standard input.
    text: &'static [&'static str],
    /// Options whose argument names what is run.
    names_it: &'static [&'static str],
    /// Whether words that begin with one dash are read as a whole, and whether `+` begins options as well.
    whole: bool,
    plus: bool,
}

const PLAIN: Interpreter =
    Interpreter { names: &[], short: "", attached: "", long: &[], text: &[], names_it: &[], whole: false, plus: false };

const INTERPRETERS: [Interpreter; 9] = [
    Interpreter {
        names: &["python", "pypy"],
        short: "WXQ",
        long: &["--check-hash-based-pycs"],
        text: &["-c"],
        names_it: &["-m"],
        ..PLAIN
    },
    Interpreter { names: &["perl"], short: "I", attached: "0CDFMVilmx", text: &["-e", "-E"], ..PLAIN },
    Interpreter {
        names: &["ruby"],
        short: "CEIr",
        attached: "0FKTWix",
        long: &["--encoding", "--external-encoding", "--internal-encoding"],
        text: &["-e"],
        ..PLAIN
    },
    Interpreter {
        names: &["node", "nodejs"],
        short: "Cr",
        long: &["--conditions", "--env-file", "--import", "--loader", "--experimental-loader", "--require"],
        text: &["-e", "-p", "--eval", "--print"],
        ..PLAIN
    },
    Interpreter {
        names: &["java"],
        long: &[
            "-cp",
            "-classpath",
            "--class-path",
            "-p",
            "--module-path",
            "--upgrade-module-path",
            "--add-modules",
            "--limit-modules",
            "--add-exports",
            "--add-opens",
            "--add-reads",
            "--patch-module",
            "--enable-native-access",
            "--source",
        ],
        names_it: &["-jar", "-m", "--module"],
        whole: true,
        ..PLAIN
    },
    Interpreter {
        names: &["bash", "sh", "dash", "ash", "zsh", "ksh", "mksh"],
        short: "oO",
        long: &["--rcfile", "--init-file"],
        text: &["-c", "-s"],
        plus: true,
        ..PLAIN
    },
    Interpreter {
        names: &["php"],
        short: "cdtz",
        text: &["-r", "-B", "-R", "-E", "-S"],
        names_it: &["-f", "-F", "--file"],
        ..PLAIN
    },
    Interpreter { names: &["lua"], short: "l", text: &["-e"], ..PLAIN },
    Interpreter { names: &["tclsh", "wish"], long: &["-encoding"], whole: true, ..PLAIN },
];

/// What a process that runs an interpreter is called by.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Runs {
    /// A script, a module, a class: its name.
    Script(String),
    /// Text of its command line, or what it is told on its standard input: it goes by its own name.
    Text,
    /// A file that has no name: it is opened already.
    Nameless,
}

/// Whether a file of that base name is an interpreter's.
pub fn is_interpreter(base: &str) -> bool {
    of(base).is_some()
}

/// What an interpreter runs, by its command line (words that end with NUL, proc_pid_cmdline(5)); `None` where the file of that base
/// name is no interpreter's.
pub fn runs(base: &str, cmdline: &[u8]) -> Option<Runs> {
    let interpreter = of(base)?;
    let mut words = cmdline.split(|byte| *byte == 0).skip(1).map(|word| String::from_utf8_lossy(word).into_owned());
    Some(interpreter.reads(&mut words).map_or(Runs::Text, |what| named(&what)))
}

fn of(base: &str) -> Option<&'static Interpreter> {
    let family = base.trim_end_matches(|c: char| c.is_ascii_digit() || c == '.');
    INTERPRETERS.iter().find(|interpreter| interpreter.names.contains(&family))
}

/// At most [`LONGEST_NAME`] characters of a name.
pub fn shortened(mut name: String) -> String {
    if let Some((cut, _)) = name.char_indices().nth(LONGEST_NAME) {
        name.truncate(cut);
    }
    name
}

fn named(what: &str) -> Runs {
    let parts: Vec<&str> = what.split('/').filter(|part| !part.is_empty()).collect();
    match parts.as_slice() {
        // `/dev/fd/63`, `/proc/self/fd/3`.
        ["dev", "fd", _] | ["proc", _, "fd", _] => Runs::Nameless,
        ["dev", "stdin"] | [] => Runs::Text,
        [.., last] => Runs::Script(shortened(clean(last.as_bytes()))),
    }
}

impl Interpreter {
    fn is_java(&self) -> bool {
        self.names.contains(&"java")
    }

    /// The word that names what is run; `None` where none does.
    fn reads(&self, words: &mut impl Iterator<Item = String>) -> Option<String> {
        while let Some(word) = words.next() {
            let begins = word.starts_with('-') || self.plus && word.starts_with('+');
            match word.as_str() {
                "" | "-" => return None,
                "--" => return words.next().filter(|word| !word.is_empty()),
                _ if !begins && self.is_java() && word.starts_with('@') => {}
                script if !begins => return Some(script.to_owned()),
                _ if self.text.contains(&word.as_str()) => return None,
                _ if self.names_it.contains(&word.as_str()) => return words.next(),
                _ if self.long.contains(&word.as_str()) => _ = words.next(),
                _ if word.starts_with("--") || self.whole => {
                    let name = word.split_once('=').map_or(word.as_str(), |(name, _)| name);
                    if self.text.contains(&name) {
                        return None;
                    }
                    if let (true, Some((_, value))) = (self.names_it.contains(&name), word.split_once('=')) {
                        return Some(value.to_owned());
                    }
                }
                letters => match self.letters(letters) {
                    Letters::Text => return None,
                    Letters::Names(rest) => return if rest.is_empty() { words.next() } else { Some(rest) },
                    Letters::TakesNext => _ = words.next(),
                    Letters::Flags => {}
                },
            }
        }
        None
    }

    /// Short options in one word.
    fn letters(&self, word: &str) -> Letters {
        let mut letters = word.get(1..).unwrap_or_default().chars();
        let mut next = false;
        while let Some(letter) = letters.next() {
            let option = format!("-{letter}");
            if self.text.contains(&option.as_str()) {
                return Letters::Text;
            }
            if self.names_it.contains(&option.as_str()) {
                return Letters::Names(letters.collect());
            }
            if self.attached.contains(letter) {
                return Letters::Flags;
            }
            if self.short.contains(letter) {
                // A shell takes the next word, whatever follows in this one (`-oe pipefail`).
                match self.plus {
                    true => next = true,
                    false if letters.as_str().is_empty() => return Letters::TakesNext,
                    false => return Letters::Flags,
                }
            }
        }
        if next { Letters::TakesNext } else { Letters::Flags }
    }
}

enum Letters {
    Flags,
    TakesNext,
    Text,
    Names(String),
}
