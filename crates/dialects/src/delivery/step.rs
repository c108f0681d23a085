//! A step of a plan.

use glob::{MatchOptions, Pattern};

/// What becomes of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FileKind {
    /// It was not there.
    New,
    /// It is another one.
    Changed,
    /// It goes.
    Removed,
}

impl FileKind {
    /// Its word, in lists and in the program.
    pub fn word(self) -> &'static str {
        match self {
            FileKind::New => "new",
            FileKind::Changed => "changed",
            FileKind::Removed => "removed",
        }
    }
}

/// The most that a step interrupts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Interruption {
    /// Nothing.
    Nothing,
    /// The tunnels whose files change.
    ItsTunnels,
    /// The tunnels whose files change, where this gateway opens them by itself.
    OpenedTunnels,
    /// All tunnels of the gateway.
    AllTunnels,
    /// All sessions of its routing protocol.
    AllSessions,
}

impl Interruption {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Interruption::Nothing => "nothing",
            Interruption::ItsTunnels => "the tunnels whose files change",
            Interruption::OpenedTunnels => "the tunnels whose files change, where this gateway opens them",
            Interruption::AllTunnels => "all tunnels of this gateway",
            Interruption::AllSessions => "all routing sessions of this gateway",
        }
    }
}

/// Something that is done on a gateway.
#[derive(Debug)]
pub struct DeliveryStep {
    /// A word for it, of letters and `_`.
    pub word: &'static str,
    /// What it does.
    pub does: &'static str,
    /// What becomes of the files that ask for it.
    pub kinds: &'static [FileKind],
    /// Their paths below `/`, as patterns of the shell.
    pub of: &'static [&'static str],
    /// The most that it interrupts.
    pub interrupts: Interruption,
    /// What the shell runs, with a line `KIND PATH` for each file on its standard input.
    pub commands: &'static str,
}

impl DeliveryStep {
    /// Whether a file asks for it.
    pub fn concerns(&self, kind: FileKind, path: &str) -> bool {
        // As `case` of the shell does it: a star takes slashes as well.
        let as_in_shell = MatchOptions { case_sensitive: true, require_literal_separator: false, require_literal_leading_dot: false };
        let matches = |pattern: &&str| Pattern::new(pattern).is_ok_and(|pattern| pattern.matches_with(path, as_in_shell));
        self.kinds.contains(&kind) && self.of.iter().any(matches)
    }
}

/// A step, and the files that ask for it.
#[derive(Clone, Debug)]
pub struct PlannedStep {
    /// The step.
    pub step: &'static DeliveryStep,
    /// Their paths below `/`.
    pub files: Vec<String>,
    /// The most that it interrupts, with these files.
    pub interrupts: Interruption,
}

/// What a part of a gateway does when its files change.
#[derive(Debug)]
pub struct PartSteps {
    /// Programs that must be there where it has files, with the package that brings each.
    pub programs: &'static [(&'static str, &'static str)],
    /// Functions of the shell that the steps use.
    pub helpers: &'static str,
    /// What is done while the old files stand.
    pub leaving: &'static [DeliveryStep],
    /// What is done once the new files stand.
    pub coming: &'static [DeliveryStep],
    /// Before anything changes: what would stop it. Runs in a function that returns 1 then; `$changes` are the files.
    pub check: &'static str,
    /// Afterwards: whether it is as it should be; runs in a function that returns 1 otherwise.
    pub verify: &'static str,
}

impl PartSteps {
    /// Whether a file is one of its.
    pub fn has(&self, path: &str) -> bool {
        self.leaving.iter().chain(self.coming).any(|step| step.kinds.iter().any(|kind| step.concerns(*kind, path)))
    }
}

/// A part with nothing to do.
pub const NOTHING: PartSteps = PartSteps { programs: &[], helpers: "", leaving: &[], coming: &[], check: "", verify: "" };

/// What becomes of files that are to be loaded again.
pub const ARRIVED: &[FileKind] = &[FileKind::New, FileKind::Changed];
/// What becomes of files that are no longer as they were.
pub const WENT: &[FileKind] = &[FileKind::Changed, FileKind::Removed];
/// Whatever becomes of them.
pub const ANY: &[FileKind] = &[FileKind::New, FileKind::Changed, FileKind::Removed];

/// The kernel's switches.
pub static SYSTEM: PartSteps = PartSteps {
    coming: &[DeliveryStep {
        word: "kernel",
        does: "The kernel forwards packets, now and after each boot.",
        kinds: ARRIVED,
        of: &["etc/sysctl.d/*"],
        interrupts: Interruption::Nothing,
        commands: "while read -r _ path; do try sysctl -q -p \"/$path\" || return 1; done",
    }],
    ..NOTHING
};
