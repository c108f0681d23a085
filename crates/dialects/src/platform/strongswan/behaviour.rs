//! How it negotiates, and what it writes into its log.

use std::borrow::Cow;

use crate::profile::{
    Answering, AskedIdentity, Behaviour, ByCertificate, FurtherChild, Line, LongNumbersV1, MainModeSecret, Narrowing, Observed, OddKey,
    OfferV1, PfsGroup, Preference, Refusal, SecretFor, ShownCertificate, SubjectOrder, ToStrangers, TransportMode, UnsaidIdentity,
    UnsaidProposalsV1, WithIkeSa,
};
use uspan_model::gateway::IkeVersion;

#[rustfmt::skip]
pub(super) const BEHAVIOUR: Behaviour = Behaviour {
    preference: Observed::new(Preference::Own, "swanctl.conf(5) of 5.9.8, `proposals`: the own order counts; changed pairs in the lab"),
    narrowing: Observed::new(Narrowing::ToTheCommonPart, "changed networks in the lab: the Child SA has the common part at both ends"),
    strangers: Observed::new(ToStrangers::Refuses, "the lab: NO_PROPOSAL_CHOSEN to a peer that no connection is for, in IKEv1 too"),
    pfs_group: Observed::new(PfsGroup::Named, "rekeys watched in the lab with another group at each end"),
    answering: Observed::new(Answering::First, "swanctl.conf(5): connections are looked through by addresses and identities"),
    further_child: Observed::new(FurtherChild::ByItself, "second Child SAs with other proposals in the lab"),
    with_ike_sa: Observed::new(WithIkeSa::First, "messages watched in the lab"),
    transport: Observed::new(TransportMode::BetweenHosts, "the lab: networks beside the gateways' addresses are left out of TSi and TSr"),
    asked_identity: Observed::new(AskedIdentity::Heeded, "the lab: AUTHENTICATION_FAILED where IDr is no connection's own identity"),
    unsaid_identity: Observed::new(UnsaidIdentity::OfCertificateOrAsked, "swanctl.conf(5), `id`: the subject of the certificate; the lab: with a secret it answers as whoever is asked for"),
    shows: Observed::new(ShownCertificate::Its, "swanctl.conf(5), `certs`"),
    by_certificate: Observed::new(ByCertificate::AsSaid, "the lab: constraint check on the identity that the peer shows"),
    subjects: Observed::new(SubjectOrder::Kept, "strongswan.conf(5), `rdn_matching`: strict"),
    offer_v1: Observed::new(OfferV1::FirstValues, "messages watched in the lab: one value of each kind in phase 1 and quick mode"),
    unsaid_proposals_v1: Observed::new(UnsaidProposalsV1::OwnList, "the lab, without `proposals`"),
    long_numbers_v1: Observed::new(LongNumbersV1::AsSaid, "the lab, with `esn` in IKEv1"),
    odd_key: Observed::new(OddKey::InUdp, "the lab, AES-CCM with `encap`"),
    refusal: Observed::new(Refusal::ChildAlone, "the lab: the IKE SA stays without its Child SA"),
    keeps_nat_mapping: Observed::new(&[IkeVersion::V1, IkeVersion::V2], "the lab: a keepalive every 20 s, with liveness off"),
    main_mode_secret: Observed::new(
        MainModeSecret::OfFirstConnection,
        "the lab, with a peer at any address; `lookup_shared_key` in its source takes the first connection",
    ),
    secret_for: Observed::new(SecretFor::Either, "swanctl.conf(5), `secrets.ike<suffix>.id<suffix>`; the lab, with a secret for the peer alone"),
    says: Cow::Borrowed(SAYS),
    says_v1: Cow::Borrowed(SAYS_V1),
};

#[rustfmt::skip]
const SAYS: &[(Line, Cow<'static, str>)] = &[
    (Line::Unanswered, Cow::Borrowed("retransmit 1 of request with message ID 0")),
    (Line::NoConnection, Cow::Borrowed("no IKE config found for")),
    (Line::RefusedAtOnce, Cow::Borrowed("received NO_PROPOSAL_CHOSEN notify error")),
    (Line::NoIkeProposal, Cow::Borrowed("received proposals unacceptable")),
    (Line::PeerUnknown, Cow::Borrowed("no matching peer config found")),
    (Line::ProofWrong, Cow::Borrowed("but MAC mismatched")),
    (Line::NotBelieved, Cow::Borrowed("received AUTHENTICATION_FAILED notify error")),
    (Line::NoSecret, Cow::Borrowed("no shared key found for")),
    (Line::PeerIsAnother, Cow::Borrowed("constraint check failed: identity")),
    (Line::NoSelectors, Cow::Borrowed("unacceptable")),
    (Line::RefusedWhole, Cow::Borrowed("IDr payload missing")),
    (Line::ReplyUnfit, Cow::Borrowed("no acceptable traffic selectors found")),
    (Line::NoRekeyProposal, Cow::Borrowed("no acceptable proposal found")),
    (Line::RekeyRefused, Cow::Borrowed("CHILD_SA rekeying failed, trying again in")),
    (Line::SelectorsRefused, Cow::Borrowed("received TS_UNACCEPTABLE notify, no CHILD_SA built")),
    (Line::NoEspProposal, Cow::Borrowed("no acceptable proposal found")),
    (Line::EspRefused, Cow::Borrowed("received NO_PROPOSAL_CHOSEN notify, no CHILD_SA built")),
];

#[rustfmt::skip]
const SAYS_V1: &[(Line, Cow<'static, str>)] = &[
    (Line::NoIkeProposal, Cow::Borrowed("no proposal found")),
    (Line::NotBelieved, Cow::Borrowed("received AUTHENTICATION_FAILED error notify")),
    (Line::Unanswered, Cow::Borrowed("sending retransmit 1 of request message ID 0")),
    (Line::PeerIsAnother, Cow::Borrowed("does not match to")),
    (Line::ProofWrong, Cow::Borrowed("could not decrypt payloads")),
    (Line::NothingToAsk, Cow::Borrowed("traffic selector missing in configuration")),
    (Line::NoSelectors, Cow::Borrowed("no matching CHILD_SA config found")),
    (Line::SelectorsRefused, Cow::Borrowed("received INVALID_ID_INFORMATION error notify")),
    (Line::NoEspProposal, Cow::Borrowed("no matching proposal found, sending NO_PROPOSAL_CHOSEN")),
    (Line::EspRefused, Cow::Borrowed("received NO_PROPOSAL_CHOSEN error notify")),
    (Line::NoRekeyProposal, Cow::Borrowed("no matching proposal found, sending NO_PROPOSAL_CHOSEN")),
    (Line::RekeyRefused, Cow::Borrowed("received NO_PROPOSAL_CHOSEN error notify")),
    (Line::RefusedAtOnce, Cow::Borrowed("received NO_PROPOSAL_CHOSEN error notify")),
];
