//! Names, limits and defaults. Sources: swanctl.conf(5) and strongswan.conf(5) of 5.9.8;
//! `swanctl --list-algs` with the packages named below.

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
    cipher( 2,   0, "des",               Both), cipher( 3,   0, "3des",              Both),
    cipher(11,   0, "null",              Esp),
    cipher(12, 128, "aes128",            Both), cipher(12, 192, "aes192",            Both), cipher(12, 256, "aes256",            Both),
    cipher(13, 128, "aes128ctr",         Both), cipher(13, 192, "aes192ctr",         Both), cipher(13, 256, "aes256ctr",         Both),
    cipher(14, 128, "aes128ccm8",        Both), cipher(14, 192, "aes192ccm8",        Both), cipher(14, 256, "aes256ccm8",        Both),
    cipher(15, 128, "aes128ccm12",       Both), cipher(15, 192, "aes192ccm12",       Both), cipher(15, 256, "aes256ccm12",       Both),
    cipher(16, 128, "aes128ccm16",       Both), cipher(16, 192, "aes192ccm16",       Both), cipher(16, 256, "aes256ccm16",       Both),
    cipher(18, 128, "aes128gcm8",        Both), cipher(18, 192, "aes192gcm8",        Both), cipher(18, 256, "aes256gcm8",        Both),
    cipher(19, 128, "aes128gcm12",       Both), cipher(19, 192, "aes192gcm12",       Both), cipher(19, 256, "aes256gcm12",       Both),
    cipher(20, 128, "aes128gcm16",       Both), cipher(20, 192, "aes192gcm16",       Both), cipher(20, 256, "aes256gcm16",       Both),
    cipher(21, 128, "aes128gmac",        Esp),  cipher(21, 192, "aes192gmac",        Esp),  cipher(21, 256, "aes256gmac",        Esp),
    cipher(23, 128, "camellia128",       Both), cipher(23, 192, "camellia192",       Both), cipher(23, 256, "camellia256",       Both),
    cipher(28,   0, "chacha20poly1305",  Both),
    // PRFs.
    prf(1, "prfmd5"), prf(2, "prfsha1"), prf(4, "prfaesxcbc"), prf(5, "prfsha256"),
    prf(6, "prfsha384"), prf(7, "prfsha512"), prf(8, "prfaescmac"),
    // Integrity algorithms.
    integrity(1, "md5", Both), integrity(2, "sha1", Both), integrity(5, "aesxcbc", Both), integrity(8, "aescmac", Both),
    integrity(12, "sha256", Both), integrity(13, "sha384", Both), integrity(14, "sha512", Both),
    // Key exchange methods.
    group(1, "modp768"), group(2, "modp1024"), group(5, "modp1536"), group(14, "modp2048"),
    group(15, "modp3072"), group(16, "modp4096"), group(17, "modp6144"), group(18, "modp8192"),
    group(19, "ecp256"), group(20, "ecp384"), group(21, "ecp521"), group(22, "modp1024s160"),
    group(23, "modp2048s224"), group(24, "modp2048s256"), group(25, "ecp192"), group(26, "ecp224"),
    group(27, "ecp224bp"), group(28, "ecp256bp"), group(29, "ecp384bp"), group(30, "ecp512bp"),
    group(31, "curve25519"), group(32, "curve448"),
];

#[rustfmt::skip]
#[expect(clippy::declare_interior_mutable_const, reason = "each profile is a copy, and has caches of its own")]
pub(super) const BASE: Profile = Profile {
    word: text("strongswan"),
    title: text("strongSwan 5.9.8 (Debian 12)"),
    release: text("5.9.8"),
    run_by: RunBy::Us,
    written_as: None,
    source: text("swanctl.conf(5), strongswan.conf(5), swanctl --list-algs"),
    packages: text("charon-systemd strongswan-swanctl libstrongswan-standard-plugins libstrongswan-extra-plugins"),
    files: text("/etc/swanctl/conf.d"),
    reads_below: Cow::Borrowed(&[text("etc/swanctl"), text("etc/strongswan")]),
    statements: Statements::EMPTY,
    family: &super::Strongswan,
    versions: Cow::Borrowed(&[IkeVersion::V1, IkeVersion::V2]),
    names: Names::of(NAMES),
    prf: PrfChoice::Free,
    ikev1_pfs_groups: None,
    pfs: PfsChoice::Each,
    unregistered_v1: Observed::new(&[31, 32], "the lab; its test suite has curve25519 in IKEv1"),
    longest_lifetime: Duration::from_secs(365 * 86_400),
    dead_peer: Observed::new(DeadPeer::Forgotten, "the lab: the IKE SA is closed with its peer"),
    selectors: Cow::Borrowed(&[SeveralPairs::InOneSa, SeveralPairs::AnSaEach]),
    openings: Cow::Borrowed(&[OpeningWay::OnTraffic, OpeningWay::TrapBesideStart, OpeningWay::ByHand]),
    identities: Identities { free: true },
    interface_name: InterfaceName::Free,
    steering: Cow::Borrowed(&[Steering::Selectors, Steering::Routes]),
    own_end: OwnEnd::Named,
    encapsulations: Cow::Borrowed(&[Encapsulation::Automatic, Encapsulation::Forced]),
    nat_detection: Observed::new(NatDetection::Always, "the lab, behind NAT without an address"),
    liveness: Liveness::OfConnection,
    replay_window: ReplayWindow::Settable,
    sequence_numbers: Cow::Borrowed(&[32, 64]),
    methods: Cow::Borrowed(&[Method::SharedSecret, Method::PublicKey, Method::Certificate]),
    methods_v1: Observed::new(
        &[Method::SharedSecret, Method::PublicKey, Method::Certificate],
        "the lab: main mode with ECDSA, bare keys and certificates",
    ),
    bare_keys_by_subject: Observed::new(true, "the lab, with strongSwan and OpenIKED as peers"),
    key_kinds: KeyKinds::Any,
    key_kinds_v1: Observed::new(KeyKinds::Any, "the lab: ECDSA and RSA"),
    dscp: Cow::Borrowed(&[Dscp::Outwards, Dscp::Both, Dscp::Never]),
    equal_selectors: Observed::new(EqualSelectors::Apart, "the lab: a star of two members, any to any through two interfaces"),
    second_tunnel: Observed::new(SecondTunnel::UnderOneName, "the lab: a Child SA is looked for in the connection of its IKE SA alone; sections of one name in two files are one (strongswan.conf(5))"),
    routes: RoutesBy::Daemon,
    offers: super::offers::OFFERS,
    behaviour: super::behaviour::BEHAVIOUR,
    defaults: Cow::Borrowed(&[
        (text("IKE lifetime"), text("4 h 24 min (replaced after 4 h)")),
        (text("ESP lifetime"), text("66 min (replaced after 1 h)")),
        (text("peer-liveness"), text("off")),
        (text("tries to reach the peer"), text("one")),
        (text("replay window"), text("32 packets")),
        (text("opens"), text("never by itself")),
    ]),
    take_up: Cow::Borrowed(&[text("swanctl --load-all")]),
    services: Cow::Borrowed(&[text("strongswan")]),
    take_up_interrupts: Observed::new(
        Interrupts::WhereItOpens,
        "swanctl.conf(5), `start_action`: a changed configuration that starts is closed and opened anew; the lab, with changed files",
    ),
    looks: Cow::Borrowed(&[
        (text("the IKE SA and the ESP SAs"), text("swanctl --list-sas --ike {}"), text("`ESTABLISHED`, and below it `INSTALLED` for each pair of networks")),
        (text("what the daemon says"), text("journalctl -u strongswan -e"), text("no `failed`, `no acceptable` or `AUTH_FAILED` at the end")),
    ]),
    open: Cow::Borrowed(&[]),
};
