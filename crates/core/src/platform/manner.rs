//! How a daemon negotiates where the standards leave it a choice, and what it writes into its log.
//!
//! Found out with the daemons themselves, of the versions that [`super::Facts`] name.

/// Whose order decides among proposals that both ends have.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Preference {
    /// That of the one that answers.
    Own,
    /// That of the one that offers.
    Peers,
}

/// What becomes of selectors that are not the same at both ends (RFC 7296 section 2.9).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Narrowing {
    /// The common part is taken.
    ToTheCommonPart,
    /// They must be the same.
    Never,
    /// Each end sends by its own, whatever the other one says.
    Unasked,
}

/// What can be to be logged.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Line {
    /// The peer does not answer.
    Unanswered,
    /// No connection is for this peer.
    NoConnection,
    /// The peer refused the first message.
    RefusedAtOnce,
    /// None of the offered proposals for IKE fits.
    NoIkeProposal,
    /// No connection is for this identity.
    PeerUnknown,
    /// The peer's proof is wrong.
    ProofWrong,
    /// The peer did not believe the own proof.
    NotBelieved,
    /// There is no secret for the identities.
    NoSecret,
    /// There is no key of its own.
    NoKey,
    /// The peer is another one than was expected.
    PeerIsAnother,
    /// None of the offered selectors fits.
    NoSelectors,
    /// The peer refused the selectors.
    SelectorsRefused,
    /// None of the offered proposals for ESP fits.
    NoEspProposal,
    /// The peer refused the proposals for ESP.
    EspRefused,
}

/// How a daemon negotiates.
#[derive(Debug)]
pub struct Manner {
    /// Whose order of proposals it follows when it answers.
    pub preference: Preference,
    /// What it makes of selectors.
    pub narrowing: Narrowing,
    /// The same in IKEv1, which knows no narrowing.
    pub narrowing_v1: Narrowing,
    /// What it writes.
    pub says: &'static [(Line, &'static str)],
}

impl Manner {
    /// What it writes, without what differs from case to case; nothing where it writes nothing.
    pub fn words(&self, line: Line) -> Option<&'static str> {
        self.says.iter().find(|(known, _)| *known == line).map(|(_, words)| *words)
    }
}
