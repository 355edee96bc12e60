//! What is done and what came of it, in words.

use crate::rules::Action;
use crate::words::words;

words! {
    /// What is done, or would be.
    Verb {
        /// Tell people.
        Alert = "alert",
        /// Run a program.
        Run = "run",
        /// Make it milder.
        Lower = "lower",
        /// Suspend it.
        Suspend = "suspend",
        /// Let it go on.
        Resume = "resume",
        /// Have its unit started anew.
        Restart = "restart",
        /// End it.
        Terminate = "terminate",
        /// Take a lowering back.
        Restore = "restore",
        /// Have rules stand back.
        StandBack = "stand back",
        /// Look after the trail itself.
        KeepTheTrail = "keep the trail",
        /// Take note of a loss of the trail.
        AcceptTheLoss = "accept the loss",
    }
}

words! {
    /// What came of it.
    Came {
        /// Made milder.
        Lowered = "lowered",
        /// Every thread stands still.
        Suspended = "suspended",
        /// It goes on.
        Resumed = "resumed",
        /// It ended at the polite signal.
        Ended = "ended",
        /// It ended by force.
        EndedByForce = "ended by force",
        /// Its unit is active again.
        Restarted = "restarted",
        /// A program was run, and ended well.
        Ran = "ran",
        /// A lowering was taken back.
        Restored = "restored",
        /// It did not answer the polite signal.
        StillThere = "still there",
        /// The signal is pending: it waits in the kernel.
        PendingInTheKernel = "pending in the kernel",
        /// The signal is pending: its control group is frozen.
        PendingFrozen = "pending: frozen",
        /// There was nothing to change, or somebody else has changed it since.
        Kept = "kept",
        /// It had ended before.
        Gone = "gone",
        /// It had ended before the act.
        AlreadyGone = "already gone",
        /// It was not possible.
        Refused = "refused",
        /// It was no longer right, or could not be recorded.
        Dropped = "dropped",
        /// It was begun and did not succeed.
        Failed = "failed",
        /// Its writer ended before it could tell.
        Unknown = "unknown",
        /// The same program is there again.
        CameBack = "came back",
        /// A case opened.
        Opened = "opened",
        /// Shown to people.
        Shown = "shown",
        /// People were told again.
        Reminder = "reminder",
        /// Would have been done.
        Would = "would",
        /// Left alone: protected.
        Spared = "spared",
        /// Left alone: the budget is spent.
        BudgetSpent = "budget spent",
        /// Left alone: the most acts in an hour are reached.
        Capped = "capped",
        /// Left alone: a stronger step goes first.
        Overtaken = "overtaken",
        /// Left alone: a hand was at work.
        StoodBack = "stood back",
        /// Its rule is no longer watched with, or judges by something else.
        RuleChanged = "rule changed",
        /// Rules stand back no longer.
        ActsAgain = "acts again",
        /// What we had suspended runs, and no hand was at work.
        LetLoose = "let loose",
        /// Measured.
        Effect = "effect",
        /// Calm.
        Calm = "calm",
        /// No longer covered.
        Left = "left",
        /// It could not be read.
        Unreadable = "unreadable",
        /// No sample could be taken.
        NoSample = "no sample",
        /// The clock was set.
        Stepped = "stepped",
        /// Samples come another time apart.
        Pace = "pace",
        /// Counted, and not told one by one.
        SummedUp = "summed up",
        /// Begun.
        Started = "started",
        /// Read.
        Loaded = "loaded",
        /// Not what it was.
        NotSound = "not sound",
        /// Taken note of.
        Accepted = "accepted",
        /// A key was made.
        Begun = "begun",
        /// Signed.
        Stamped = "stamped",
        /// The trail was mended.
        CutOff = "cut a torn last line off",
        /// The trail is not what it was.
        Lost = "lost",
        /// A file was removed.
        Removed = "removed",
        /// A person is about to be asked.
        Asked = "asked",
        /// He has answered.
        Answered = "answered",
        /// An answer does not count.
        TurnedDown = "turned down",
        /// Nobody has answered in time.
        Unanswered = "unanswered",
        /// He could not be asked.
        Unasked = "unasked",
        /// The question no longer stands.
        Withdrawn = "withdrawn",
    }
}

impl Verb {
    /// Whether it takes back what was done before.
    pub fn is_undo(&self) -> bool {
        matches!(self, Verb::Resume | Verb::Restore)
    }

    /// Whether the process, or all of its unit, ends by it.
    pub fn ends(&self) -> bool {
        matches!(self, Verb::Terminate | Verb::Restart)
    }
}

impl From<Action> for Verb {
    fn from(action: Action) -> Self {
        match action {
            Action::Alert => Verb::Alert,
            Action::Run => Verb::Run,
            Action::Lower { .. } => Verb::Lower,
            Action::Suspend { .. } => Verb::Suspend,
            Action::Restart => Verb::Restart,
            Action::Terminate { .. } => Verb::Terminate,
        }
    }
}

impl Came {
    /// Whether an act did what it was to do.
    pub(crate) fn is_as_meant(&self) -> bool {
        !matches!(
            self,
            Came::StillThere
                | Came::PendingInTheKernel
                | Came::PendingFrozen
                | Came::Refused
                | Came::Dropped
                | Came::Failed
                | Came::Unknown
                | Came::CameBack
        )
    }

    /// Whether the process has ended by it.
    pub(crate) fn is_an_end(&self) -> bool {
        matches!(self, Came::Ended | Came::EndedByForce)
    }
}
