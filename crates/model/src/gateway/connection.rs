//! Peers: how SAs with them are keyed, and what may cross.

use std::time::Duration;

use ipnet::IpNet;

use super::{Endpoint, InterfaceKind, Proposal, Protocol, ReadAt, Remainder, Setting};
use crate::algorithm::{Kind, Transform};
use crate::identity::Identity;
use crate::parameter::Parameter;
use crate::source::Place;
use crate::subject::Subject;

/// Version of the key exchange.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum IkeVersion {
    /// RFC 2409.
    V1,
    /// RFC 7296.
    V2,
}

/// Version and, in IKEv1, mode of the key exchange.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Exchange {
    /// IKEv2 (RFC 7296).
    V2,
    /// IKEv1 in main mode (RFC 2409 section 5.1).
    V1Main,
    /// IKEv1 in aggressive mode, which shows the identities to anybody (RFC 2409 section 5.4).
    V1Aggressive,
}

impl Exchange {
    /// That of a version; aggressive mode is of IKEv1 alone.
    pub fn of(version: IkeVersion, aggressive: bool) -> Exchange {
        match (version, aggressive) {
            (IkeVersion::V2, _) => Exchange::V2,
            (IkeVersion::V1, false) => Exchange::V1Main,
            (IkeVersion::V1, true) => Exchange::V1Aggressive,
        }
    }

    /// Its version.
    pub fn version(self) -> IkeVersion {
        if self == Exchange::V2 { IkeVersion::V2 } else { IkeVersion::V1 }
    }

    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Exchange::V2 => "IKEv2",
            Exchange::V1Main => "IKEv1, main mode",
            Exchange::V1Aggressive => "IKEv1, aggressive mode",
        }
    }
}

impl IkeVersion {
    /// Its name.
    pub fn words(self) -> &'static str {
        match self {
            IkeVersion::V1 => "IKEv1",
            IkeVersion::V2 => "IKEv2",
        }
    }
}

/// How an end proves its identity.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Method {
    /// Shared key message integrity code (RFC 7296 section 2.15).
    SharedSecret,
    /// Digital signature (RFC 7427) with a key that the peer has by name, without a certificate.
    PublicKey,
    /// Digital signature (RFC 7427) with a key that an authority certifies (RFC 7296 section 3.6).
    Certificate,
}

impl Method {
    /// In words, for tables.
    pub fn words(self) -> &'static str {
        match self {
            Method::SharedSecret => "shared secret",
            Method::PublicKey => "public keys",
            Method::Certificate => "certificates",
        }
    }
}

/// When ESP travels in UDP (RFC 7296 section 2.23, RFC 3948).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Encapsulation {
    /// Where a NAT device is found between the ends.
    Automatic,
    /// Always.
    Forced,
    /// Never.
    Off,
}

/// Tunnel or transport mode (RFC 4301 section 3.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mode {
    /// The whole inner packet is carried.
    Tunnel,
    /// Only the payload is carried.
    Transport,
}

impl Mode {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Mode::Tunnel => "tunnel mode",
            Mode::Transport => "transport mode",
        }
    }
}

/// Between which headers the DSCP is copied (RFC 4301 section 5.1.2).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Dscp {
    /// From the inner header to the outer one.
    Outwards,
    /// And back again on arrival, so that what the path marked stays.
    Both,
    /// Between none: the path sees nothing of it.
    Never,
}

/// When a Child SA is opened by this end.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Opening {
    /// As soon as the daemon starts.
    pub start: bool,
    /// When a packet wants to cross, which is held back until the SA is there: nothing leaves in clear while it is not.
    pub trap: bool,
}

impl Opening {
    /// At once, with nothing that holds packets back before.
    pub const START: Opening = Opening { start: true, trap: false };
    /// When a packet wants to cross.
    pub const TRAP: Opening = Opening { start: false, trap: true };
    /// At once, and again when a packet wants to cross.
    pub const BOTH: Opening = Opening { start: true, trap: true };
    /// Never by itself; it answers.
    pub const WAIT: Opening = Opening { start: false, trap: false };

    /// Whether it opens by itself at all.
    pub fn opens(self) -> bool {
        self != Opening::WAIT
    }

    /// In words.
    pub fn words(self) -> &'static str {
        match (self.start, self.trap) {
            (true, true) => "at once, and on traffic",
            (true, false) => "at once",
            (false, true) => "on traffic",
            (false, false) => "answers only",
        }
    }
}

/// What happens when the peer turns out to be dead.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OnDeadPeer {
    /// Negotiate anew at once.
    Reopen,
    /// Wait for traffic.
    AwaitTraffic,
    /// Drop the SAs and wait for the peer.
    Forget,
}

/// Life of an SA: replaced at the latest `margin` before it would end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Lifetime {
    /// The end.
    pub hard: Duration,
    /// How long before the end the replacement begins at the latest; platforms here spread it
    /// at random up to twice as early.
    pub margin: Duration,
}

impl Lifetime {
    /// A life with a tenth of it, at least 10 s, as margin.
    pub fn with_tenth(hard: Duration) -> Self {
        Lifetime { hard, margin: Duration::from_secs((hard.as_secs() / 10).max(10)) }
    }

    /// When the replacement begins at the latest.
    pub fn soft(self) -> Duration {
        self.hard.saturating_sub(self.margin)
    }
}

/// A peer: how it is reached, how SAs with it are keyed, what may cross.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Connection {
    /// The name in the configuration.
    pub name: String,
    /// The own end.
    pub local: Setting<Endpoint>,
    /// The peer's end.
    pub remote: Setting<Endpoint>,
    /// ESP in UDP (RFC 3948).
    pub encapsulation: Setting<Encapsulation>,
    /// Where the keys of its SAs come from.
    pub keying: Keying,
    /// The number of the interface that steers its traffic; where there is none, the selectors steer.
    pub interface: Setting<Option<u32>>,
    /// What may cross.
    pub children: Vec<Child>,
    /// What is said of it that has no field here.
    pub remainder: Remainder,
}

/// How the SAs of a connection get their keys.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Keying {
    /// Negotiated with IKE.
    Ike(Box<Ike>),
}

/// What is said of IKE with a peer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ike {
    /// Version and mode.
    pub exchange: Setting<Exchange>,
    /// Where the mode of IKEv1 is said, if that stands elsewhere than the version.
    pub mode: ReadAt,
    /// Own identity.
    pub local_identity: Setting<Identity>,
    /// The identity the peer must prove.
    pub remote_identity: Setting<Identity>,
    /// How this end proves itself.
    pub local_method: Setting<Method>,
    /// How the peer proves itself.
    pub remote_method: Setting<Method>,
    /// Proposals for the IKE SA, in order of preference.
    pub proposals: Setting<Vec<Proposal>>,
    /// Life of the IKE SA.
    pub lifetime: Setting<Lifetime>,
    /// Peer-liveness interval; `None` is off.
    pub liveness: Setting<Option<Duration>>,
    /// Whether it tries for ever to reach the peer.
    pub persistent: Setting<bool>,
    /// The UDP ports of IKE: the own one beside [`IKE_PORT`], and that of the peer.
    pub ports: Setting<[u16; 2]>,
    /// What certificates are asked for, and given.
    pub certification: Certification,
}

/// The UDP port of IKE (RFC 7296 section 2).
pub const IKE_PORT: u16 = 500;

/// What is said of certificates, beside who proves itself with one.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Certification {
    /// The authority that the peer's certificate must be from; `None` is any that is believed.
    pub issuer: Setting<Option<Subject>>,
    /// Whether the peer's certificate may leave out the identity that the peer says it has.
    pub any_name: Setting<bool>,
    /// Whether the own certificate is kept from the peer, which must have it then.
    pub withheld: Setting<bool>,
}

impl Default for Certification {
    fn default() -> Certification {
        let no = Setting::default_of(false);
        Certification { issuer: Setting::default_of(None), any_name: no.clone(), withheld: no }
    }
}

/// The usual ports.
pub fn usual_ports() -> Setting<[u16; 2]> {
    Setting::default_of([IKE_PORT; 2])
}

impl Connection {
    /// Whether a Child SA of it carries what the two gateways themselves send each other.
    pub fn is_between_gateways(&self, child: &Child) -> bool {
        child.protocol.value.is_none() && self.joins_gateways(child)
    }

    /// Whether the selectors of a Child SA of it are the two gateways themselves, to whatever they are limited.
    pub fn joins_gateways(&self, child: &Child) -> bool {
        let own = |end: &Endpoint, nets: &[IpNet]| end.address().is_some_and(|address| nets == [IpNet::from(address)]);
        own(&self.local.value, &child.local.value) && own(&self.remote.value, &child.remote.value)
    }

    /// What is said of IKE.
    pub fn ike(&self) -> &Ike {
        let Keying::Ike(ike) = &self.keying;
        ike
    }

    /// The same, to be changed.
    pub fn ike_mut(&mut self) -> &mut Ike {
        let Keying::Ike(ike) = &mut self.keying;
        ike
    }

    /// The version of IKE.
    pub fn version(&self) -> IkeVersion {
        self.ike().exchange.value.version()
    }

    /// Whether a tunnel interface of this kind is its own.
    pub fn uses(&self, kind: &InterfaceKind) -> bool {
        match *kind {
            InterfaceKind::Numbered(id) => self.interface.value == Some(id),
            InterfaceKind::Gre { local, remote } => self.local.value.address().zip(self.remote.value.address()) == Some((local, remote)),
        }
    }

    /// Its settings that are not understood, in the order in which a negotiation comes to them: what each is about, whether that is said of
    /// the peer, and where it stands.
    pub fn doubts(&self) -> Vec<(Parameter, bool, &Place)> {
        let ike = self.ike();
        let mut all = vec![
            (Parameter::Address, false, self.local.doubt()),
            (Parameter::Address, true, self.remote.doubt()),
            (Parameter::KeyExchange, false, ike.exchange.doubt()),
            (Parameter::IkeProposals, false, ike.proposals.doubt()),
            (Parameter::Identity, false, ike.local_identity.doubt()),
            (Parameter::Identity, true, ike.remote_identity.doubt()),
            (Parameter::Authentication, false, ike.local_method.doubt()),
            (Parameter::Authentication, true, ike.remote_method.doubt()),
            (Parameter::Address, false, ike.ports.doubt()),
            (Parameter::Authentication, true, ike.certification.issuer.doubt()),
            (Parameter::Authentication, true, ike.certification.any_name.doubt()),
            (Parameter::Authentication, false, ike.certification.withheld.doubt()),
            (Parameter::IkeLifetime, false, ike.lifetime.doubt()),
        ];
        for child in &self.children {
            all.extend([
                (Parameter::Selectors, false, child.local.doubt()),
                (Parameter::Selectors, false, child.remote.doubt()),
                (Parameter::Protocol, false, child.protocol.doubt()),
                (Parameter::EspProposals, false, child.esp.doubt()),
                (Parameter::EspMode, false, child.mode.doubt()),
                (Parameter::Selectors, false, child.narrowing.doubt()),
                (Parameter::EspLifetime, false, child.lifetime.doubt()),
            ]);
        }
        all.into_iter().filter_map(|(about, of_peer, place)| Some((about, of_peer, place?))).collect()
    }

    /// The same with its ends exchanged.
    pub fn turned(self) -> Connection {
        let turn =
            |child: Child| Child { local: child.remote, remote: child.local, ports: child.ports.map(|[own, far]| [far, own]), ..child };
        let Keying::Ike(ike) = self.keying;
        Connection {
            local: self.remote,
            remote: self.local,
            keying: Keying::Ike(Box::new(Ike {
                local_identity: ike.remote_identity,
                remote_identity: ike.local_identity,
                local_method: ike.remote_method,
                remote_method: ike.local_method,
                ports: ike.ports.map(|[own, far]| [far, own]),
                ..*ike
            })),
            children: self.children.into_iter().map(turn).collect(),
            ..self
        }
    }

    /// Whether the gateways talk IPv4; so they do where neither address is known.
    pub fn outer_ipv4(&self) -> bool {
        self.local.value.address().or(self.remote.value.address()).is_none_or(|address| address.is_ipv4())
    }
}

/// A Child SA pair to be negotiated.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Child {
    /// The name in the configuration.
    pub name: String,
    /// Local traffic selectors.
    pub local: Setting<Vec<IpNet>>,
    /// Remote traffic selectors.
    pub remote: Setting<Vec<IpNet>>,
    /// Whether the remote one is the address of a peer that may be anywhere: it is known once the peer is there.
    pub of_peer: bool,
    /// The IP protocol that they are limited to (RFC 7296 section 3.13.1), for example [`GRE`].
    pub protocol: Setting<Option<u8>>,
    /// The ports that they are limited to, local and remote; `None` is any.
    pub ports: Setting<[Option<u16>; 2]>,
    /// Whether a part of what is asked for, or of what is answered, is enough, where that is said (RFC 7296 section 2.9).
    pub narrowing: Setting<Option<bool>>,
    /// Proposals for ESP, or for AH, in order of preference.
    pub esp: Setting<Vec<Proposal>>,
    /// Where it is said whether PFS is used, if that stands elsewhere than the proposals.
    pub pfs: ReadAt,
    /// The same of sequence numbers.
    pub sequence_numbers: ReadAt,
    /// Tunnel or transport.
    pub mode: Setting<Mode>,
    /// Life of the ESP SAs.
    pub lifetime: Setting<Lifetime>,
    /// When this end opens it.
    pub opening: Setting<Opening>,
    /// What happens when the liveness check finds the peer dead; `None` where nothing is said about it.
    pub on_dead_peer: Setting<Option<OnDeadPeer>>,
    /// Anti-replay window in packets (RFC 4303 section 3.4.3).
    pub replay_window: Setting<u32>,
    /// What becomes of the DSCP.
    pub dscp: Setting<Dscp>,
}

impl Child {
    /// The lengths of sequence numbers that its proposals have.
    pub fn sequence_numbers(&self) -> Proposal {
        Proposal::new(Protocol::Esp, self.esp.value.iter().flat_map(|proposal| proposal.of(Kind::SequenceNumbers)).copied())
    }

    /// The same in words.
    pub fn sequence_numbers_words(&self) -> String {
        let numbers = self.sequence_numbers();
        let bits = numbers.transforms().iter().map(|one| if *one == Transform::sequence_numbers(true) { "64" } else { "32" });
        format!("{} bits", bits.collect::<Vec<_>>().join(" or "))
    }

    /// The groups of its proposals, each once.
    pub fn groups(&self) -> Proposal {
        Proposal::new(Protocol::Esp, self.esp.value.iter().flat_map(|proposal| proposal.of(Kind::KeyExchange)).copied())
    }
}

/// The IP protocol of GRE (IANA protocol numbers, RFC 2784).
pub const GRE: u8 = 47;
