//! Fields of the hub model that statements say, and their values.

use std::time::Duration;

use ipnet::IpNet;

use uspan_model::gateway::{Dscp, Encapsulation, Endpoint, Identity, IkeVersion, Method, Mode, OnDeadPeer, Opening, Proposal, Protocol};

/// What a statement can say.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Field {
    /// The own end.
    LocalAddress,
    /// The peer's end.
    RemoteAddress,
    /// The version of IKE.
    Version,
    /// Aggressive mode of IKEv1.
    Aggressive,
    /// ESP in UDP.
    Encapsulation,
    /// The own identity.
    LocalIdentity,
    /// The peer's identity.
    RemoteIdentity,
    /// The ways in which both ends may prove themselves, in the platform's words.
    Proofs,
    /// How this end proves itself.
    LocalMethod,
    /// How the peer proves itself.
    RemoteMethod,
    /// The file with the own public key.
    LocalKey,
    /// The file with the peer's public key.
    RemoteKey,
    /// The file with the own certificate.
    LocalCertificate,
    /// The file with the certificate of the authority that the peer's is from.
    Authority,
    /// The certificate that is the peer's.
    RemoteCertificate,
    /// Whether IKEv1 is answered at all.
    OldVersion,
    /// Whether a change of addresses is offered (RFC 4555).
    OffersMobility,
    /// Whether the own certificate is shown to peers that do not ask for it.
    ShowsCertificate,
    /// Whether the own certificate is shown at all.
    GivesCertificate,
    /// Whether the peer's certificate must have the identity that the peer says it has.
    NamesPeer,
    /// The UDP port of IKE.
    OwnPort,
    /// The same of the peer.
    PeerPort,
    /// Proposals for the IKE SA.
    IkeProposals,
    /// When the IKE SA is replaced at the latest.
    IkeSoftLife,
    /// The end of the IKE SA.
    IkeHardLife,
    /// Between the two.
    IkeMargin,
    /// How often a silent peer is asked whether it is alive.
    Liveness,
    /// How long a silent peer is given in IKEv1.
    Patience,
    /// How often it is tried to reach the peer; 0 is for ever.
    Tries,
    /// The number of the interface of what arrives.
    InterfaceIn,
    /// The number of the interface of what leaves.
    InterfaceOut,
    /// Whether no script of the daemon's sets interfaces and routes.
    NoScript,
    /// The IP protocol that the local selectors are limited to, said by themselves, and the port.
    LocalProtocol,
    /// The same of the remote ones.
    RemoteProtocol,
    /// Local traffic selectors, each with each remote one in a Child SA of its own.
    LocalSelectorsEach,
    /// The same of the remote ones.
    RemoteSelectorsEach,
    /// Local traffic selectors.
    LocalSelectors,
    /// Remote traffic selectors.
    RemoteSelectors,
    /// Pairs of networks, each of which is carried.
    Pairs,
    /// Proposals for ESP.
    EspProposals,
    /// Proposals for AH.
    AhProposals,
    /// Whether it is ESP or AH.
    SaProtocol,
    /// Whether a part of what it asks for is enough.
    Narrowing,
    /// Whether there is PFS.
    Pfs,
    /// The lengths of sequence numbers, said by themselves.
    SequenceNumbers,
    /// Tunnel or transport mode.
    Mode,
    /// When the ESP SAs are replaced at the latest.
    EspSoftLife,
    /// The end of the ESP SAs.
    EspHardLife,
    /// When a Child SA is opened.
    Opening,
    /// What happens when the peer is dead.
    OnDeadPeer,
    /// The replay window in packets.
    ReplayWindow,
    /// What becomes of the DSCP.
    Dscp,
}

impl Field {
    /// What its values are, in a few words: "... is not ...".
    pub fn expected(self) -> &'static str {
        match self {
            Field::LocalAddress | Field::RemoteAddress => "an address or a name",
            Field::Version => "an IKE version",
            Field::OwnPort | Field::PeerPort => "a port",
            Field::Aggressive | Field::Encapsulation | Field::OffersMobility | Field::Pfs | Field::Narrowing | Field::NamesPeer => {
                "yes or no"
            }
            Field::LocalIdentity | Field::RemoteIdentity => "an identity",
            Field::Proofs | Field::LocalMethod | Field::RemoteMethod => "a way to prove an identity",
            Field::LocalKey | Field::RemoteKey | Field::LocalCertificate | Field::RemoteCertificate | Field::Authority => {
                "the name of a file"
            }
            Field::NoScript => "a script",
            Field::OldVersion => "what becomes of IKEv1",
            Field::SaProtocol => "ESP or AH",
            Field::ShowsCertificate | Field::GivesCertificate => "a time at which a certificate is shown",
            Field::IkeProposals | Field::EspProposals | Field::AhProposals => "a proposal",
            Field::IkeSoftLife
            | Field::IkeHardLife
            | Field::IkeMargin
            | Field::Liveness
            | Field::Patience
            | Field::EspSoftLife
            | Field::EspHardLife => "a duration",
            Field::Tries | Field::InterfaceIn | Field::InterfaceOut | Field::ReplayWindow => "a number",
            Field::LocalSelectors | Field::RemoteSelectors | Field::LocalSelectorsEach | Field::RemoteSelectorsEach => "a prefix",
            Field::Pairs => "a pair of prefixes",
            Field::LocalProtocol | Field::RemoteProtocol => "an IP protocol",
            Field::SequenceNumbers => "a length of sequence numbers",
            Field::Mode => "a mode",
            Field::Opening | Field::OnDeadPeer => "an action",
            Field::Dscp => "a direction",
        }
    }
}

/// A value of a field.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Value {
    /// A flag.
    Flag(bool),
    /// A number.
    Number(u32),
    /// A duration.
    Time(Duration),
    /// A text, such as the name of a file.
    Text(String),
    /// An end.
    Endpoint(Endpoint),
    /// A version.
    Version(IkeVersion),
    /// ESP in UDP.
    Encapsulation(Encapsulation),
    /// An identity.
    Identity(Identity),
    /// A way to prove an identity.
    Method(Method),
    /// An IP protocol and a port.
    ProtocolPort(ProtocolPort),
    /// ESP or AH.
    Protocol(Protocol),
    /// Proposals.
    Proposals(Vec<Proposal>),
    /// Traffic selectors.
    Selectors(Vec<Selector>),
    /// Pairs of networks, local and remote; `None` is any.
    Pairs(Vec<[Option<IpNet>; 2]>),
    /// A mode.
    Mode(Mode),
    /// When a Child SA is opened.
    Opening(Opening),
    /// What happens when the peer is dead.
    OnDeadPeer(OnDeadPeer),
    /// What becomes of the DSCP.
    Dscp(Dscp),
}

/// An IP protocol, and the port of it that something is limited to; `None` is any.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ProtocolPort {
    /// The IP protocol (IANA protocol numbers).
    pub protocol: u8,
    /// The port.
    pub port: Option<u16>,
}

/// A traffic selector as files have it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Selector {
    /// The prefix; `None` is the address of the end itself, whatever that is.
    pub net: Option<IpNet>,
    /// The IP protocol that it is limited to.
    pub protocol: Option<u8>,
    /// The port that it is limited to; `None` is any.
    pub port: Option<u16>,
}

/// A type that is a value of fields.
pub(crate) trait FieldValue: Sized {
    /// Out of a value; `None` if that is of another type.
    fn out_of(value: &Value) -> Option<Self>;
    /// As a value.
    fn into_value(self) -> Value;
}

macro_rules! values {
    ($($variant:ident: $type:ty),*) => {
        $(impl FieldValue for $type {
            fn out_of(value: &Value) -> Option<Self> {
                if let Value::$variant(inner) = value { Some(inner.clone()) } else { None }
            }

            fn into_value(self) -> Value {
                Value::$variant(self)
            }
        })*
    };
}

values! {
    Flag: bool,
    Number: u32,
    Time: Duration,
    Text: String,
    Endpoint: Endpoint,
    Version: IkeVersion,
    Encapsulation: Encapsulation,
    Identity: Identity,
    Method: Method,
    ProtocolPort: ProtocolPort,
    Protocol: Protocol,
    Proposals: Vec<Proposal>,
    Selectors: Vec<Selector>,
    Pairs: Vec<[Option<IpNet>; 2]>,
    Mode: Mode,
    Opening: Opening,
    OnDeadPeer: OnDeadPeer,
    Dscp: Dscp
}
