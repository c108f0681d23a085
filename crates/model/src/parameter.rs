//! The parameters of a tunnel: their words, and what a change of one does.

use std::fmt;

/// What the ends of a tunnel agree on, or each have for themselves.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Parameter {
    /// The program that makes it.
    Platform,
    /// The tunnel as a whole.
    Tunnel,
    /// The version of the key exchange.
    KeyExchange,
    /// Main or aggressive mode of IKEv1.
    ExchangeMode,
    /// Where an end is.
    Address,
    /// Who an end is.
    Identity,
    /// How an end proves it.
    Authentication,
    /// The shared secret.
    SharedSecret,
    /// The key that an end signs with, and by which the other one believes it.
    Key,
    /// The certificate of that key.
    Certificate,
    /// The key of the peer, or the authority of its certificate.
    Belief,
    /// Proposals for the IKE SA.
    IkeProposals,
    /// Life of the IKE SA.
    IkeLifetime,
    /// How often a silent peer is asked whether it lives.
    Liveness,
    /// What becomes of the tunnel when it does not.
    DeadPeer,
    /// ESP in UDP (RFC 3948).
    Encapsulation,
    /// Who opens it, and when.
    Opening,
    /// Traffic selectors.
    Selectors,
    /// The IP protocol that the selectors are limited to.
    Protocol,
    /// Proposals for ESP.
    EspProposals,
    /// A key exchange of its own for each Child SA.
    Pfs,
    /// Tunnel or transport.
    EspMode,
    /// Life of the ESP SAs.
    EspLifetime,
    /// The length of sequence numbers (RFC 4303 section 2.2.1).
    SequenceNumbers,
    /// The anti-replay window.
    ReplayWindow,
    /// What becomes of the DSCP.
    Dscp,
    /// The largest packet inside.
    Mtu,
    /// Selectors or routes.
    Steering,
    /// What crosses where the selectors do not say it.
    Crossing,
    /// Exemption from translation.
    Exemption,
    /// What gets in of that which makes and carries the SAs.
    Entrance,
    /// What the filter lets into the tunnel.
    OutboundFilter,
    /// What it lets out of it.
    InboundFilter,
}

impl Parameter {
    /// Whether it is of what stands around the daemon: packet filter, translation, interfaces, routes.
    pub fn is_around_the_daemon(self) -> bool {
        matches!(
            self,
            Parameter::Mtu
                | Parameter::Steering
                | Parameter::Crossing
                | Parameter::Exemption
                | Parameter::Entrance
                | Parameter::OutboundFilter
                | Parameter::InboundFilter
        )
    }

    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Parameter::Platform => "platform",
            Parameter::Tunnel => "tunnel",
            Parameter::KeyExchange => "key exchange",
            Parameter::ExchangeMode => "mode of the exchange",
            Parameter::Address => "address",
            Parameter::Identity => "identity",
            Parameter::Authentication => "authentication",
            Parameter::SharedSecret => "shared secret",
            Parameter::Key => "key",
            Parameter::Certificate => "certificate",
            Parameter::Belief => "what the peer is believed by",
            Parameter::IkeProposals => "IKE proposals",
            Parameter::IkeLifetime => "lifetime of the IKE SA",
            Parameter::Liveness => "liveness",
            Parameter::DeadPeer => "when the peer is dead",
            Parameter::Encapsulation => "ESP in UDP",
            Parameter::Opening => "opens",
            Parameter::Selectors => "what may cross",
            Parameter::Protocol => "protocol",
            Parameter::EspProposals => "ESP proposals",
            Parameter::Pfs => "PFS",
            Parameter::EspMode => "mode of ESP",
            Parameter::EspLifetime => "lifetime of ESP",
            Parameter::SequenceNumbers => "sequence numbers",
            Parameter::ReplayWindow => "replay window",
            Parameter::Dscp => "DSCP",
            Parameter::Mtu => "largest packet inside",
            Parameter::Steering => "steered by",
            Parameter::Crossing => "what crosses",
            Parameter::Exemption => "exemption from NAT",
            Parameter::Entrance => "let in from the peer",
            Parameter::OutboundFilter => "outbound filter",
            Parameter::InboundFilter => "inbound filter",
        }
    }

    /// A stable word.
    pub fn word(self) -> &'static str {
        match self {
            Parameter::Platform => "platform",
            Parameter::Tunnel => "tunnel",
            Parameter::KeyExchange => "key-exchange",
            Parameter::ExchangeMode => "exchange-mode",
            Parameter::Address => "address",
            Parameter::Identity => "identity",
            Parameter::Authentication => "authentication",
            Parameter::SharedSecret => "shared-secret",
            Parameter::Key => "key",
            Parameter::Certificate => "certificate",
            Parameter::Belief => "belief",
            Parameter::IkeProposals => "ike",
            Parameter::IkeLifetime => "lifetime",
            Parameter::Liveness => "liveness",
            Parameter::DeadPeer => "dead-peer",
            Parameter::Encapsulation => "encapsulation",
            Parameter::Opening => "roles",
            Parameter::Selectors => "selectors",
            Parameter::Protocol => "protocol",
            Parameter::EspProposals => "esp",
            Parameter::Pfs => "pfs",
            Parameter::EspMode => "esp-mode",
            Parameter::EspLifetime => "esp-lifetime",
            Parameter::SequenceNumbers => "sequence-numbers",
            Parameter::ReplayWindow => "replay-window",
            Parameter::Dscp => "dscp",
            Parameter::Mtu => "mtu",
            Parameter::Steering => "steering",
            Parameter::Crossing => "crossing",
            Parameter::Exemption => "exemption",
            Parameter::Entrance => "entrance",
            Parameter::OutboundFilter => "outbound-filter",
            Parameter::InboundFilter => "inbound-filter",
        }
    }

    /// Whether the negotiation decides whether two values of it fit; of the others packets do.
    pub fn is_negotiated(self) -> bool {
        use Parameter::*;
        matches!(
            self,
            KeyExchange
                | ExchangeMode
                | Address
                | Identity
                | Authentication
                | SharedSecret
                | Key
                | IkeProposals
                | Selectors
                | Protocol
                | EspProposals
                | Pfs
                | EspMode
                | SequenceNumbers
        )
    }

    /// When a change of it at one end takes effect.
    pub fn effect(self) -> Effect {
        use Parameter::*;
        match self {
            Opening | Exemption | Entrance | OutboundFilter | InboundFilter | Crossing => Effect::AtOnce,
            _ => Effect::AtOpening,
        }
    }

    /// Whether the peer must change with it.
    pub fn concerns_both_ends(self) -> bool {
        self == Parameter::Tunnel || self == Parameter::Belief || self == Parameter::Encapsulation || self.is_negotiated()
    }

    /// The parameter under which the agreement gives the reason for this one.
    pub fn explained_by(self) -> Parameter {
        match self {
            Parameter::EspLifetime => Parameter::IkeLifetime,
            other => other,
        }
    }
}

/// When a change takes effect.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Effect {
    /// The tunnel comes up with it.
    Opens,
    /// The tunnel is gone.
    Closes,
    /// At once: taking up the files ends the tunnel's SAs, and it is opened anew with it.
    Interrupts,
    /// When the IKE SA is opened anew; until then SAs go on, and are rekeyed, as they were agreed.
    AtOpening,
    /// As soon as the files are taken up, without an interruption.
    AtOnce,
}

impl Effect {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Effect::Opens => "comes up",
            Effect::Closes => "stays until `uspan retire` of the description before",
            Effect::Interrupts => "interrupts: taking it up ends the SAs",
            Effect::AtOpening => "when the IKE SA is opened anew",
            Effect::AtOnce => "at once",
        }
    }
}

impl fmt::Display for Effect {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.words())
    }
}
