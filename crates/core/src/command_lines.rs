//! How much of command lines goes into the record.

/// How much of command lines goes into the record.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum CommandLines {
    /// What looks like a secret is masked.
    #[default]
    Masked,
    /// As they are.
    Full,
    /// None: the path alone.
    PathOnly,
}

impl CommandLines {
    /// Every way.
    pub const ALL: [CommandLines; 3] = [CommandLines::Masked, CommandLines::Full, CommandLines::PathOnly];

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            CommandLines::Masked => "masked",
            CommandLines::Full => "full",
            CommandLines::PathOnly => "path-only",
        }
    }
}
