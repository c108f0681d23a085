//! How a daemon negotiates where the standards leave it a choice, and what it writes into its log.
//!
//! Found out with the daemons themselves, of the versions that [`super::Facts`] name.

use crate::gateway::IkeVersion;

/// Whose order decides among proposals that both ends have.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Preference {
    /// That of the responder.
    Own,
    /// That of the one that offers.
    Peers,
}

/// What becomes of selectors that are not the same at both ends (RFC 7296 section 2.9).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Narrowing {
    /// The common part is taken.
    ToTheCommonPart,
    /// An end takes its own, where they are among those of the other end, and nothing else.
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
    /// The peer refused the IKE SA with its first Child SA.
    RefusedWhole,
    /// The peer's answer has other selectors than were asked for.
    ReplyUnfit,
    /// None of the offered proposals for new keys fits.
    NoRekeyProposal,
    /// The peer refused to make new keys.
    RekeyRefused,
    /// There is nothing that it could ask for.
    NothingToAsk,
}

/// How a daemon negotiates.
#[derive(Debug)]
pub struct Behaviour {
    /// Whose order of proposals it follows when it answers.
    pub preference: Preference,
    /// What it makes of selectors.
    pub narrowing: Narrowing,
    /// The same in IKEv1, which knows no narrowing.
    pub narrowing_v1: Narrowing,
    /// Whether it answers one that no connection is for; else it is silent.
    pub answers_strangers: bool,
    /// For PFS it takes the group of the IKE SA, whatever a connection says beside that there is PFS.
    pub pfs_with_ike_group: bool,
    /// It judges the proposals of a further Child SA by the first of its own, with whose name it has the IKE SA.
    pub further_by_first: bool,
    /// In IKEv1 it takes whatever group a peer proposes for PFS, or none.
    pub any_group_v1: bool,
    /// In transport mode it asks for its own address and the peer's alone.
    pub transport_between_hosts: bool,
    /// It answers only where it is the one that is asked for (IDr in the request); else it shows who it is.
    pub heeds_asked_identity: bool,
    /// It asks for an identity of the peer's (IDr) only where that is no address.
    pub asks_for_names_only: bool,
    /// Who shows a certificate is whoever the connection expects, if the certificate names that, whatever the peer says.
    pub believes_certificates: bool,
    /// Where its connection does not say who it is, its certificate does; else its machine's name.
    pub named_by_certificate: bool,
    /// Where its connection does not say who it is, it is whoever a peer asks for.
    pub is_whoever_is_asked_for: bool,
    /// It takes a certificate only from a peer that its connection names.
    pub certificate_needs_name: bool,
    /// Of several Child SAs that it opens at once the last one comes with the IKE SA, and the others after it.
    pub last_child_first: bool,
    /// It takes a Child SA only in its connection's mode.
    pub insists_on_mode: bool,
    /// It does not answer IKEv1 where no connection can be meant: for want of the version, the peer, or the way of proving.
    pub silent_to_v1: bool,
    /// In IKEv1 it offers the first value of each kind alone.
    pub first_values_v1: bool,
    /// In IKEv1 it takes whatever it knows where its connection names no proposals.
    pub takes_any_v1: bool,
    /// In IKEv1 it has no extended sequence numbers, whatever a connection says.
    pub no_extended_v1: bool,
    /// Who asks for transport mode is recognised only where a connection has it.
    pub recognises_by_mode: bool,
    /// Where it refuses the first Child SA it refuses the IKE SA with it.
    pub refuses_whole: bool,
    /// A secret for one of the two identities will do.
    pub secret_by_one_end: bool,
    /// What it writes.
    pub says: &'static [(Line, &'static str)],
    /// What it writes otherwise in IKEv1.
    pub says_v1: &'static [(Line, &'static str)],
}

impl Behaviour {
    /// What it writes, without what differs from case to case; nothing where it writes nothing.
    pub fn words(&self, line: Line, version: IkeVersion) -> Option<&'static str> {
        let v1 = if version == IkeVersion::V1 { self.says_v1 } else { &[] };
        v1.iter().chain(self.says).find(|(known, _)| *known == line).map(|(_, words)| *words)
    }
}
