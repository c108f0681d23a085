//! Names, limits and defaults. Sources: iked.conf(5) and ikectl(8) of 7.2. What of it the Linux port really does
//! was seen in the lab: through PF_KEY only AES-CBC with SHA-1, SHA-384 or SHA-512 becomes an ESP SA, with other
//! transforms the peer believes the tunnel is up.

use std::borrow::Cow;
use std::time::Duration;

use crate::profile::names::{Name, Names, Sa, cipher, group, integrity, prf};
use crate::profile::statement::Statements;
use crate::profile::{
    DeadPeer, EqualSelectors, Identities, InterfaceName, Interrupts, KeyKinds, Liveness, NatDetection, Observed, OwnEnd, PfsChoice,
    PrfChoice, Profile, ReplayWindow, RoutesBy, RunBy, SecondTunnel, SeveralPairs, Steering, text,
};
use uspan_model::gateway::{Dscp, Encapsulation, IkeVersion, Method};

use Sa::{Both, Ike};

/// How it spells algorithms.
#[rustfmt::skip]
const NAMES: &[Name] = &[
    // Ciphers.
    cipher( 3,   0, "3des",           Ike),
    cipher(12, 128, "aes-128",        Both), cipher(12, 192, "aes-192", Both), cipher(12, 256, "aes-256",        Both),
    cipher(19, 128, "aes-128-gcm-12", Ike),                                    cipher(19, 256, "aes-256-gcm-12", Ike),
    cipher(20, 128, "aes-128-gcm",    Ike),                                    cipher(20, 256, "aes-256-gcm",    Ike),
    // PRFs.
    prf(1, "hmac-md5"), prf(2, "hmac-sha1"), prf(5, "hmac-sha2-256"), prf(6, "hmac-sha2-384"),
    prf(7, "hmac-sha2-512"),
    // Integrity algorithms.
    integrity(1, "hmac-md5", Ike), integrity(2, "hmac-sha1", Both), integrity(12, "hmac-sha2-256", Ike), integrity(13, "hmac-sha2-384", Both),
    integrity(14, "hmac-sha2-512", Both),
    // Key exchange methods.
    group(1, "modp768"), group(2, "modp1024"), group(5, "modp1536"), group(14, "modp2048"),
    group(15, "modp3072"), group(16, "modp4096"), group(17, "modp6144"), group(18, "modp8192"),
    group(19, "ecp256"), group(20, "ecp384"), group(21, "ecp521"), group(25, "ecp192"),
    group(26, "ecp224"), group(27, "brainpool224"), group(28, "brainpool256"), group(29, "brainpool384"),
    group(30, "brainpool512"), group(31, "curve25519"),
];

#[rustfmt::skip]
#[expect(clippy::declare_interior_mutable_const, reason = "each profile is a copy, and has caches of its own")]
pub(super) const BASE: Profile = Profile {
    word: text("openiked"),
    title: text("OpenIKED 7.2 (Debian 12)"),
    release: text("7.2"),
    run_by: RunBy::Us,
    written_as: None,
    source: text("iked.conf(5), ikectl(8); ESP as seen in the lab"),
    packages: text("openiked"),
    files: text("/etc/iked.conf, /etc/iked.d"),
    reads_below: Cow::Borrowed(&[text("etc/iked")]),
    statements: Statements::EMPTY,
    family: &super::Openiked,
    versions: Cow::Borrowed(&[IkeVersion::V2]),
    names: Names::of(NAMES),
    prf: PrfChoice::Free,
    ikev1_pfs_groups: None,
    pfs: PfsChoice::Each,
    unregistered_v1: Observed::new(&[], "it has no IKEv1"),
    longest_lifetime: Duration::from_secs(365 * 86_400),
    dead_peer: Observed::new(DeadPeer::Forgotten, "a policy has one Child SA (iked.conf(5) of 7.2)"),
    selectors: Cow::Borrowed(&[SeveralPairs::InOneSa]),
    openings: Cow::Borrowed(&[]),
    identities: Identities { free: false },
    interface_name: InterfaceName::Free,
    steering: Cow::Borrowed(&[Steering::Selectors]),
    own_end: OwnEnd::Named,
    encapsulations: Cow::Borrowed(&[Encapsulation::Automatic]),
    nat_detection: Observed::new(NatDetection::NeedsOwnAddress, "the lab: without `local` every path is taken for one with a NAT device"),
    liveness: Liveness::OfDaemon,
    replay_window: ReplayWindow::Fixed(default::REPLAY_WINDOW),
    sequence_numbers: Cow::Borrowed(&[32]),
    methods: Cow::Borrowed(&[Method::SharedSecret, Method::PublicKey, Method::Certificate]),
    methods_v1: Observed::new(&[], "it has no IKEv1"),
    bare_keys_by_subject: Observed::new(false, "the lab: `ikev2_dispatch_cert: peer certificate is invalid`; a key stands in a file by address, name or mail"),
    key_kinds: KeyKinds::Any,
    key_kinds_v1: Observed::new(KeyKinds::Any, "it has no IKEv1"),
    dscp: Cow::Borrowed(&[Dscp::Outwards]),
    equal_selectors: Observed::new(EqualSelectors::Apart, "it has no interfaces, and selectors of two tunnels differ"),
    second_tunnel: Observed::new(SecondTunnel::Never, "the lab: the policy that was read last is taken for both"),
    routes: RoutesBy::Daemon,
    offers: super::offers::OFFERS,
    behaviour: super::behaviour::BEHAVIOUR,
    defaults: Cow::Borrowed(&[
        (text("IKE lifetime"), text("for ever")),
        (text("ESP lifetime"), text("3 h or 4 GiB")),
        (text("peer-liveness"), text("60 s, for the whole daemon; a peer that was heard is trusted for 5 min")),
        (text("tries to reach the peer"), text("for ever, if it opens")),
        (text("opens"), text("never by itself")),
        (text("own identity"), text("the name of the machine")),
    ]),
    take_up: Cow::Borrowed(&[text("ikectl reload")]),
    services: Cow::Borrowed(&[text("openiked")]),
    take_up_interrupts: Observed::new(Interrupts::Nothing, "ikectl(8), `reload`; the lab, with changed files"),
    looks: Cow::Borrowed(&[
        (text("the IKE SA and the ESP SAs"), text("ikectl show sa"), text("`iked_sas:` with `ESTABLISHED` for the peer, and ESP SAs below it")),
        (text("what the daemon says"), text("journalctl -t iked -e"), text("no `sa_free` with a reason at the end")),
    ]),
    open: Cow::Borrowed(&[]),
};

/// What holds where a policy leaves a setting out (iked.conf(5)).
pub(super) mod default {
    use std::time::Duration;

    /// Without a lifetime the IKE SA is never replaced; a year stands for that.
    pub(crate) const IKE_LIFETIME: Duration = Duration::from_secs(365 * 86_400);
    pub(crate) const ESP_LIFETIME: Duration = Duration::from_secs(3 * 3600);
    pub(crate) const LIVENESS: Duration = Duration::from_secs(60);
    /// What the kernel makes of the 64 that the daemon asks for over PF_KEY.
    pub(crate) const REPLAY_WINDOW: u32 = 32;
}
