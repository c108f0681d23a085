//! How a daemon negotiates where the standards leave it a choice, and what it writes into its log.
//!
//! Each fact names the evidence that found it: a manual page, or what was seen of the daemon itself in the release of its profile.

use std::borrow::Cow;
use std::ops::Deref;
use std::time::Duration;

use uspan_model::gateway::IkeVersion;

/// A value, and what it was found by.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Observed<T> {
    /// The value.
    pub value: T,
    /// A manual page with its section, or what was seen of the daemon and where.
    pub evidence: Cow<'static, str>,
}

impl<T> Observed<T> {
    /// A fact with its evidence.
    pub const fn new(value: T, evidence: &'static str) -> Observed<T> {
        Observed { value, evidence: Cow::Borrowed(evidence) }
    }
}

impl<T> Deref for Observed<T> {
    type Target = T;

    fn deref(&self) -> &T {
        &self.value
    }
}

impl<T: PartialEq> PartialEq<T> for Observed<T> {
    fn eq(&self, other: &T) -> bool {
        self.value == *other
    }
}

/// Whose order decides among proposals that both ends have.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Preference {
    /// That of the responder.
    Own,
    /// That of the initiator.
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

/// What a peer hears that no connection is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ToStrangers {
    /// A refusal.
    Refuses,
    /// A refusal in IKEv2; nothing in IKEv1, where no connection has the version, the peer or the way of proving.
    RefusesInV2,
    /// Nothing.
    Silent,
}

/// Which group new keys of a Child SA take.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PfsGroup {
    /// One of those that the connection names.
    Named,
    /// That of the IKE SA, whatever the connection says beside that there is PFS; in IKEv1 whatever a peer proposes, or none.
    OfIke,
}

/// Which of several connections with one peer answers the first request for a Child SA.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Answering {
    /// The first.
    First,
    /// The one that has what is asked for.
    BySelectors,
}

/// By which of its Child SAs a responder judges the proposals for a further one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FurtherChild {
    /// By the one that is asked for.
    ByItself,
    /// By the first of the connection that it has the IKE SA with.
    ByFirst,
}

/// Which of several Child SAs that an initiator opens at once comes with the IKE SA.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WithIkeSa {
    /// The first one.
    First,
    /// The last one.
    Last,
}

/// What is particular about transport mode (RFC 7296 section 1.3.1).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TransportMode {
    /// An initiator asks for its own address and the peer's alone.
    BetweenHosts,
    /// A Child SA is taken in the connection's mode only.
    Insisted,
    /// A peer that asks for it is recognised only where a connection has it.
    Recognised,
}

/// What a responder makes of the identity that it is asked for (IDr of the request, RFC 7296 section 3.5).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AskedIdentity {
    /// It answers only where that is its own.
    Heeded,
    /// It shows who it is, whatever is asked for; as an initiator it asks for names, and not for addresses.
    Ignored,
}

/// Who a gateway is whose connection does not say it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum UnsaidIdentity {
    /// The subject of its certificate; with a shared secret whoever a peer asks for.
    OfCertificateOrAsked,
    /// As the reader says: its address, or its machine's name.
    AsRead,
}

/// Whether the order of a subject's parts matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SubjectOrder {
    /// It does.
    Kept,
    /// It does not.
    Any,
}

/// Which of its certificates a gateway shows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ShownCertificate {
    /// The one that is for the connection.
    Its,
    /// One that names the own identity; where none does, its public key without a certificate.
    ThatNamesIt,
}

/// As whom a peer counts that shows a certificate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ByCertificate {
    /// As whom it says.
    AsSaid,
    /// As whom the connection expects, if the certificate names that, whatever the peer says.
    AsExpected,
    /// As whom it says, if the connection names it: nobody's is taken that the connection does not name.
    Named,
}

/// What an initiator of IKEv1 offers of proposals with several values of a kind.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OfferV1 {
    /// Each combination.
    All,
    /// The first value of each kind alone.
    FirstValues,
}

/// What a responder of IKEv1 takes where its connection names no proposals.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum UnsaidProposalsV1 {
    /// Its own list.
    OwnList,
    /// Whatever it knows.
    Anything,
}

/// Sequence numbers of 64 bits in IKEv1.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LongNumbersV1 {
    /// As the connection says.
    AsSaid,
    /// Never, whatever a connection says.
    Never,
}

/// What becomes of ESP in UDP beside a key that fills no whole words of 32 bits.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OddKey {
    /// It travels in UDP.
    InUdp,
    /// The kernel is not told of UDP: what is sent leaves without it, and what arrives in it is not taken.
    NotInUdp,
}

/// What a responder refuses when it refuses the first Child SA.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Refusal {
    /// That Child SA.
    ChildAlone,
    /// The IKE SA with it.
    Whole,
}

/// Which secret serves two identities.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SecretFor {
    /// One for both, or for anybody.
    Both,
    /// One for either will do.
    Either,
}

/// Which secret a responder takes in main mode of IKEv1, before it can read who its peer is (RFC 2409 section 5.4).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum MainModeSecret {
    /// The one for the peer's address.
    OfAddress,
    /// That of the first connection that is for a peer at this address, or at any.
    OfFirstConnection,
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

/// Lines of a log, without what differs from case to case.
pub type LogLines = Cow<'static, [(Line, Cow<'static, str>)]>;

/// How a daemon negotiates.
#[derive(Clone, Debug)]
pub struct Behaviour {
    /// Whose order of proposals it follows as a responder.
    pub preference: Observed<Preference>,
    /// What it makes of selectors.
    pub narrowing: Observed<Narrowing>,
    /// What it answers one that no connection is for.
    pub strangers: Observed<ToStrangers>,
    /// Which group it takes for PFS.
    pub pfs_group: Observed<PfsGroup>,
    /// How it judges further Child SAs.
    pub further_child: Observed<FurtherChild>,
    /// Which of several connections with one peer answers.
    pub answering: Observed<Answering>,
    /// Which Child SA comes with the IKE SA.
    pub with_ike_sa: Observed<WithIkeSa>,
    /// Transport mode.
    pub transport: Observed<TransportMode>,
    /// The identity that a request asks for.
    pub asked_identity: Observed<AskedIdentity>,
    /// Who it is by default.
    pub unsaid_identity: Observed<UnsaidIdentity>,
    /// Which certificate it shows.
    pub shows: Observed<ShownCertificate>,
    /// As whom a peer with a certificate counts.
    pub by_certificate: Observed<ByCertificate>,
    /// Whether subjects of certificates are the same in whatever order their parts stand.
    pub subjects: Observed<SubjectOrder>,
    /// What it offers in IKEv1.
    pub offer_v1: Observed<OfferV1>,
    /// What it takes in IKEv1 by default.
    pub unsaid_proposals_v1: Observed<UnsaidProposalsV1>,
    /// Sequence numbers in IKEv1.
    pub long_numbers_v1: Observed<LongNumbersV1>,
    /// ESP in UDP beside the keys of CCM.
    pub odd_key: Observed<OddKey>,
    /// What it refuses with a Child SA.
    pub refusal: Observed<Refusal>,
    /// Which secret serves.
    pub secret_for: Observed<SecretFor>,
    /// The versions in which it keeps the mapping of a NAT device that it stands behind (RFC 3948 section 4), whatever its liveness.
    pub keeps_nat_mapping: Observed<&'static [IkeVersion]>,
    /// The secret in main mode.
    pub main_mode_secret: Observed<MainModeSecret>,
    /// What it writes.
    pub says: LogLines,
    /// What it writes otherwise in IKEv1.
    pub says_v1: LogLines,
}

impl Behaviour {
    /// Whether something keeps the mapping of a NAT device that it stands behind: its daemon, or questions whether the peer is alive.
    pub fn is_remembered_by_nat(&self, version: IkeVersion, liveness: Option<Duration>) -> bool {
        /// Less than the two minutes that RFC 4787 section 4.3 asks of a NAT device, of which not all do.
        const KEEPS: Duration = Duration::from_secs(60);
        self.keeps_nat_mapping.contains(&version) || liveness.is_some_and(|every| every <= KEEPS)
    }

    /// What it writes, without what differs from case to case; `None` if it writes nothing.
    pub fn words(&self, line: Line, version: IkeVersion) -> Option<&str> {
        let v1 = if version == IkeVersion::V1 { &*self.says_v1 } else { &[] };
        v1.iter().chain(&*self.says).find(|(known, _)| *known == line).map(|(_, words)| &**words)
    }
}
