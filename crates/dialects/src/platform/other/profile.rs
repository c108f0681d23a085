//! What is assumed of a gateway of which nothing is known: what the standards say, and no more.

use std::borrow::Cow;
use std::time::Duration;

use crate::profile::statement::Statements;
use crate::profile::{
    Answering, AskedIdentity, Behaviour, ByCertificate, DeadPeer, DefaultProposals, EqualSelectors, FurtherChild, Identities,
    InterfaceName, Interrupts, KeyKinds, Liveness, LongNumbersV1, MainModeSecret, Names, Narrowing, NatDetection, Observed, OddKey,
    OfferV1, OpeningWay, OwnEnd, PfsChoice, PfsGroup, Preference, PrfChoice, Profile, Refusal, ReplayWindow, RoutesBy, RunBy, SecondTunnel,
    SecretFor, SeveralPairs, ShownCertificate, Steering, SubjectOrder, ToStrangers, TransportMode, UnsaidIdentity, UnsaidProposalsV1,
    WithIkeSa, text,
};
use uspan_model::gateway::{Dscp, Encapsulation, IkeVersion, Method};

const ASSUMED: &str = "assumed; of its owner's gateway nothing is known here";

const fn assumed<T>(value: T) -> Observed<T> {
    Observed::new(value, ASSUMED)
}

#[rustfmt::skip]
#[expect(clippy::declare_interior_mutable_const, reason = "each profile is a copy, and has caches of its own")]
pub(super) const BASE: Profile = Profile {
    word: text("other"),
    title: text("a gateway of another make"),
    release: text(""),
    run_by: RunBy::Others,
    written_as: None,
    source: text("RFC 7296, RFC 2409, RFC 4301; what it can do in truth its owner says"),
    packages: text(""),
    files: text("none: a list of parameters"),
    reads_below: Cow::Borrowed(&[text("parameters/")]),
    family: &super::Other,
    statements: Statements::EMPTY,
    versions: Cow::Borrowed(&[IkeVersion::V2, IkeVersion::V1]),
    names: Names::of(&[]),
    prf: PrfChoice::Free,
    pfs: PfsChoice::Each,
    ikev1_pfs_groups: None,
    unregistered_v1: assumed(&[]),
    longest_lifetime: Duration::from_secs(365 * 86_400),
    dead_peer: assumed(DeadPeer::Forgotten),
    selectors: Cow::Borrowed(&[SeveralPairs::AnSaEach, SeveralPairs::InOneSa]),
    openings: Cow::Borrowed(&[OpeningWay::OnTraffic, OpeningWay::TrapBesideStart, OpeningWay::ByHand]),
    identities: Identities { free: true },
    interface_name: InterfaceName::Free,
    steering: Cow::Borrowed(&[Steering::Selectors]),
    own_end: OwnEnd::Named,
    encapsulations: Cow::Borrowed(&[Encapsulation::Automatic, Encapsulation::Forced, Encapsulation::Off]),
    nat_detection: assumed(NatDetection::Always),
    liveness: Liveness::OfConnection,
    replay_window: ReplayWindow::Settable,
    sequence_numbers: Cow::Borrowed(&[32, 64]),
    methods: Cow::Borrowed(&[Method::SharedSecret, Method::PublicKey, Method::Certificate]),
    methods_v1: assumed(&[Method::SharedSecret, Method::PublicKey, Method::Certificate]),
    bare_keys_by_subject: assumed(false),
    key_kinds: KeyKinds::Any,
    key_kinds_v1: assumed(KeyKinds::Any),
    dscp: Cow::Borrowed(&[Dscp::Outwards, Dscp::Both, Dscp::Never]),
    equal_selectors: Observed::new(EqualSelectors::Apart, ASSUMED),
    second_tunnel: Observed::new(SecondTunnel::BySelectors { reopens_hosts: true }, ASSUMED),
    routes: RoutesBy::Daemon,
    offers: DefaultProposals::of(&[], &[], &[], &[]),
    behaviour: BEHAVIOUR,
    defaults: Cow::Borrowed(&[]),
    take_up: Cow::Borrowed(&[]),
    services: Cow::Borrowed(&[]),
    take_up_interrupts: assumed(Interrupts::ItsTunnels),
    looks: Cow::Borrowed(&[]),
    open: Cow::Borrowed(&[]),
};

const BEHAVIOUR: Behaviour = Behaviour {
    preference: assumed(Preference::Own),
    narrowing: assumed(Narrowing::Never),
    strangers: assumed(ToStrangers::Silent),
    pfs_group: assumed(PfsGroup::Named),
    further_child: assumed(FurtherChild::ByItself),
    answering: assumed(Answering::BySelectors),
    with_ike_sa: assumed(WithIkeSa::First),
    transport: assumed(TransportMode::Insisted),
    asked_identity: assumed(AskedIdentity::Heeded),
    unsaid_identity: assumed(UnsaidIdentity::AsRead),
    shows: assumed(ShownCertificate::Its),
    by_certificate: assumed(ByCertificate::AsSaid),
    subjects: assumed(SubjectOrder::Kept),
    offer_v1: assumed(OfferV1::All),
    unsaid_proposals_v1: assumed(UnsaidProposalsV1::OwnList),
    long_numbers_v1: assumed(LongNumbersV1::AsSaid),
    odd_key: assumed(OddKey::InUdp),
    refusal: assumed(Refusal::ChildAlone),
    keeps_nat_mapping: assumed(&[IkeVersion::V1, IkeVersion::V2]),
    main_mode_secret: assumed(MainModeSecret::OfAddress),
    secret_for: assumed(SecretFor::Both),
    says: Cow::Borrowed(&[]),
    says_v1: Cow::Borrowed(&[]),
};
