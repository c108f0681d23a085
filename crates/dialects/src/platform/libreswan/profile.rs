//! Names, limits and defaults. Sources: ipsec.conf(5) and ipsec.secrets(5) of 4.10; the
//! listing of its `algparse -v`, without Camellia-CTR, which it spells but does not take for ESP. That a
//! rekey of ESP takes the group of the IKE SA was seen in the lab: asked by its peer for another one, 4.10 answers
//! NO_PROPOSAL_CHOSEN. So was that it loads no connection of IKEv1 with an elliptic curve for PFS ("not supported by
//! IKEv1"), and that a dead peer's IKE SA of IKEv1 stays while several connections share it, and that
//! quick mode goes on in it.

use std::borrow::Cow;
use std::time::Duration;

use crate::profile::names::{Name, Names, Sa, cipher, group, integrity, prf};
use crate::profile::statement::Statements;
use crate::profile::{
    DeadPeer, EqualSelectors, Identities, InterfaceName, Interrupts, KeyKinds, Liveness, NatDetection, Observed, OpeningWay, OwnEnd,
    PfsChoice, PrfChoice, Profile, ReplayWindow, RoutesBy, RunBy, SecondTunnel, SeveralPairs, Steering, text,
};
use uspan_model::gateway::{Dscp, Encapsulation, IkeVersion, Method};

use Sa::{Both, Esp};

/// How it spells algorithms.
#[rustfmt::skip]
const NAMES: &[Name] = &[
    // Ciphers.
    cipher( 3,   0, "3des",              Both),
    cipher(11,   0, "null",              Esp),
    cipher(12, 128, "aes128",            Both), cipher(12, 192, "aes192",            Both), cipher(12, 256, "aes256",            Both),
    cipher(13, 128, "aesctr128",         Both), cipher(13, 192, "aesctr192",         Both), cipher(13, 256, "aesctr256",         Both),
    cipher(14, 128, "aes_ccm_a128",      Esp),  cipher(14, 192, "aes_ccm_a192",      Esp),  cipher(14, 256, "aes_ccm_a256",      Esp),
    cipher(15, 128, "aes_ccm_b128",      Esp),  cipher(15, 192, "aes_ccm_b192",      Esp),  cipher(15, 256, "aes_ccm_b256",      Esp),
    cipher(16, 128, "aes_ccm_c128",      Esp),  cipher(16, 192, "aes_ccm_c192",      Esp),  cipher(16, 256, "aes_ccm_c256",      Esp),
    cipher(18, 128, "aes_gcm_a128",      Both), cipher(18, 192, "aes_gcm_a192",      Both), cipher(18, 256, "aes_gcm_a256",      Both),
    cipher(19, 128, "aes_gcm_b128",      Both), cipher(19, 192, "aes_gcm_b192",      Both), cipher(19, 256, "aes_gcm_b256",      Both),
    cipher(20, 128, "aes_gcm128",        Both), cipher(20, 192, "aes_gcm192",        Both), cipher(20, 256, "aes_gcm256",        Both),
    cipher(21, 128, "aes_gmac128",       Esp),  cipher(21, 192, "aes_gmac192",       Esp),  cipher(21, 256, "aes_gmac256",       Esp),
    cipher(23, 128, "camellia128",       Both), cipher(23, 192, "camellia192",       Both), cipher(23, 256, "camellia256",       Both),
    cipher(28,   0, "chacha20_poly1305", Both),
    // PRFs.
    prf(1, "md5"), prf(2, "sha1"), prf(4, "aes_xcbc"), prf(5, "sha2_256"),
    prf(6, "sha2_384"), prf(7, "sha2_512"),
    // Integrity algorithms.
    integrity(1, "md5", Both), integrity(2, "sha1", Both), integrity(5, "aes_xcbc", Both), integrity(8, "aes_cmac", Esp),
    integrity(12, "sha2_256", Both), integrity(13, "sha2_384", Both), integrity(14, "sha2_512", Both),
    // Key exchange methods.
    group(5, "modp1536"), group(14, "modp2048"), group(15, "modp3072"), group(16, "modp4096"),
    group(17, "modp6144"), group(18, "modp8192"), group(19, "dh19"), group(20, "dh20"),
    group(21, "dh21"), group(31, "dh31"),
];

#[rustfmt::skip]
#[expect(clippy::declare_interior_mutable_const, reason = "each profile is a copy, and has caches of its own")]
pub(super) const BASE: Profile = Profile {
    word: text("libreswan"),
    title: text("Libreswan 4.10 (Debian 12)"),
    release: text("4.10"),
    run_by: RunBy::Us,
    written_as: None,
    source: text("ipsec.conf(5), ipsec.secrets(5), algparse -v"),
    packages: text("libreswan"),
    files: text("/etc/ipsec.d"),
    reads_below: Cow::Borrowed(&[text("etc/ipsec.")]),
    statements: Statements::EMPTY,
    family: &super::Libreswan,
    versions: Cow::Borrowed(&[IkeVersion::V1, IkeVersion::V2]),
    names: Names::of(NAMES),
    prf: PrfChoice::OfIntegrity,
    ikev1_pfs_groups: Some(Cow::Borrowed(&[5, 14, 15, 16, 17, 18])),
    pfs: PfsChoice::OfIke,
    unregistered_v1: Observed::new(&[31], "the lab, without PFS"),
    longest_lifetime: Duration::from_secs(86_400),
    dead_peer: Observed::new(DeadPeer::KeptWhileAsked, "the lab: several connections of IKEv1 keep a dead peer's IKE SA, and quick mode goes on in it; those of IKEv2 are reopened over it"),
    selectors: Cow::Borrowed(&[SeveralPairs::AnSaEach]),
    openings: Cow::Borrowed(&[OpeningWay::OnTraffic, OpeningWay::ByHand]),
    identities: Identities { free: true },
    interface_name: InterfaceName::Numbered("ipsec"),
    steering: Cow::Borrowed(&[Steering::Selectors, Steering::Routes]),
    own_end: OwnEnd::ByAddress,
    encapsulations: Cow::Borrowed(&[Encapsulation::Automatic, Encapsulation::Forced, Encapsulation::Off]),
    nat_detection: Observed::new(NatDetection::Always, "the lab, with %defaultroute"),
    liveness: Liveness::OfConnection,
    replay_window: ReplayWindow::Settable,
    sequence_numbers: Cow::Borrowed(&[32, 64]),
    methods: Cow::Borrowed(&[Method::SharedSecret, Method::Certificate]),
    methods_v1: Observed::new(&[Method::SharedSecret, Method::Certificate], "the lab: main mode with certificates of RSA keys"),
    bare_keys_by_subject: Observed::new(false, "no bare keys are written for it"),
    key_kinds: KeyKinds::SameAtBothEnds,
    key_kinds_v1: Observed::new(KeyKinds::RsaAlone, "the lab: pluto does not load `authby=ecdsa` beside `ikev2=no`"),
    dscp: Cow::Borrowed(&[Dscp::Outwards, Dscp::Both]),
    equal_selectors: Observed::new(EqualSelectors::OfOneAlone, "the lab: \"cannot route -- route already in use for\" the first one"),
    second_tunnel: Observed::new(
        SecondTunnel::BySelectors { reopens_hosts: false },
        "the lab: connections to one peer share the IKE SA; packets between the gateways keep it in use when the peer has lost it",
    ),
    routes: RoutesBy::Daemon,
    offers: super::offers::OFFERS,
    behaviour: super::behaviour::BEHAVIOUR,
    defaults: Cow::Borrowed(&[
        (text("IKE lifetime"), text("8 h")),
        (text("ESP lifetime"), text("8 h")),
        (text("rekey margin"), text("9 min, up to twice as early")),
        (text("peer-liveness"), text("off")),
        (text("tries to reach the peer"), text("for ever")),
        (text("replay window"), text("128 packets")),
        (text("opens"), text("never by itself")),
        (text("PFS"), text("on, with the group of the IKE SA")),
    ]),
    take_up: Cow::Borrowed(&[text("ipsec auto --rereadsecrets"), text("ipsec auto --add {}")]),
    services: Cow::Borrowed(&[text("ipsec")]),
    take_up_interrupts: Observed::new(Interrupts::ItsTunnels, "the lab: `ipsec auto --add` of a connection that is up closes its SAs"),
    looks: Cow::Borrowed(&[
        (text("the IKE SA and the ESP SAs"), text("ipsec whack --status | grep '\"{}'"), text("`established IKE SA` once, and `established Child SA` for each pair of networks")),
        (text("what the daemon counted"), text("ipsec whack --trafficstatus | grep '\"{}'"), text("a line for each pair; `inBytes` and `outBytes` grow")),
        (text("what the daemon says"), text("journalctl -u ipsec -e"), text("no `NO_PROPOSAL_CHOSEN`, `AUTHENTICATION_FAILED` or `retransmission` at the end")),
    ]),
    open: Cow::Borrowed(&[text("ipsec auto --asynchronous --up {}")]),
};
