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
    preference: Observed::new(Preference::Own, "changed orders in the lab"),
    narrowing: Observed::new(Narrowing::Never, "ipsec.conf(5) of 4.10, `narrowing`: off unless it is switched on; changed networks in the lab"),
    strangers: Observed::new(ToStrangers::RefusesInV2, "the lab: NO_PROPOSAL_CHOSEN in IKEv2, nothing in IKEv1"),
    pfs_group: Observed::new(PfsGroup::OfIke, "the lab: NO_PROPOSAL_CHOSEN to a rekey with another group than that of the IKE SA; in IKEv1 any group of the peer's is taken"),
    answering: Observed::new(Answering::BySelectors, "its own suite: ikev2-connswitch-03, ikev2-child-rekey-00"),
    further_child: Observed::new(FurtherChild::ByFirst, "four pairs made by hand in the lab: a further Child SA without a group is refused by the first connection's proposals"),
    with_ike_sa: Observed::new(WithIkeSa::Last, "messages watched in the lab: of several with `auto=start` the last one comes with IKE_AUTH"),
    transport: Observed::new(TransportMode::Insisted, "the lab: tunnel mode is refused for a connection of `type=transport`, and the other way round"),
    asked_identity: Observed::new(AskedIdentity::Ignored, "the lab: it answers whatever IDr says, and sends IDr for names alone"),
    unsaid_identity: Observed::new(UnsaidIdentity::AsRead, "ipsec.conf(5), `leftid`: the address of the end"),
    shows: Observed::new(ShownCertificate::Its, "ipsec.conf(5), `leftcert`"),
    by_certificate: Observed::new(ByCertificate::AsExpected, "the lab: the names of the certificate count, not the identity that is shown"),
    subjects: Observed::new(SubjectOrder::Any, "the daemon's own comparison, `match_dn_unordered`; its suite, ikev2-x509-ecdsa-01"),
    offer_v1: Observed::new(OfferV1::All, "messages watched in the lab"),
    unsaid_proposals_v1: Observed::new(UnsaidProposalsV1::Anything, "the lab, without `ike`"),
    long_numbers_v1: Observed::new(LongNumbersV1::Never, "the lab: the SAs have 32 bits whatever `esn` says"),
    odd_key: Observed::new(OddKey::NotInUdp, "the lab: with AES-CCM ESP leaves without UDP, though its log says `ESPinUDP`; the attribute behind the key begins at no multiple of four bytes, `netlink_add_sa` in its source"),
    refusal: Observed::new(Refusal::ChildAlone, "the lab: the IKE SA stays without its Child SA"),
    keeps_nat_mapping: Observed::new(&[IkeVersion::V1], "the lab, liveness off: in IKEv1 a keepalive every 20 s; in IKEv2 not one in four hours, and the peer reaches it no more"),
    main_mode_secret: Observed::new(MainModeSecret::OfFirstConnection, "the lab, with one peer at any address"),
    secret_for: Observed::new(SecretFor::Both, "ipsec.secrets(5): both identities, or any"),
    says: Cow::Borrowed(SAYS),
    says_v1: Cow::Borrowed(SAYS_V1),
};

#[rustfmt::skip]
const SAYS: &[(Line, Cow<'static, str>)] = &[
    (Line::Unanswered, Cow::Borrowed("retransmission; will wait 0.5 seconds for response")),
    (Line::NoConnection, Cow::Borrowed("no suitable connection found with IKEv2 policy")),
    (Line::RefusedAtOnce, Cow::Borrowed("dropping unexpected IKE_SA_INIT message containing NO_PROPOSAL_CHOSEN notification")),
    (Line::NoIkeProposal, Cow::Borrowed("no local proposal matches remote proposals")),
    (Line::NotBelieved, Cow::Borrowed("IKE SA authentication request rejected by peer: AUTHENTICATION_FAILED")),
    (Line::NoSecret, Cow::Borrowed("authentication failed: no PSK found for")),
    (Line::NoSelectors, Cow::Borrowed("No IKEv2 connection found with compatible Traffic Selectors")),
    (Line::NoEspProposal, Cow::Borrowed("no local proposal matches remote proposals")),
    (Line::EspRefused, Cow::Borrowed("rejected Child SA with NO_PROPOSAL_CHOSEN")),
    (Line::SelectorsRefused, Cow::Borrowed("rejected Child SA with TS_UNACCEPTABLE")),
    (Line::PeerIsAnother, Cow::Borrowed("mismatched on first found connection and no better connection found")),
    (Line::NoRekeyProposal, Cow::Borrowed("no local proposal matches remote proposals")),
    (Line::RekeyRefused, Cow::Borrowed("CREATE_CHILD_SA failed with error notification NO_PROPOSAL_CHOSEN")),
];

#[rustfmt::skip]
const SAYS_V1: &[(Line, Cow<'static, str>)] = &[
    (Line::NoConnection, Cow::Borrowed("ignoring IKEv1 packet as policy is set to silently drop all IKEv1 packets")),
    (Line::ProofWrong, Cow::Borrowed("probable authentication failure (mismatch of preshared secrets?)")),
    (Line::NoSelectors, Cow::Borrowed("cannot respond to IPsec SA request because no connection is known for")),
    (Line::SelectorsRefused, Cow::Borrowed("retransmission; will wait 0.5 seconds for response")),
    (Line::RefusedAtOnce, Cow::Borrowed("received and ignored notification payload: NO_PROPOSAL_CHOSEN")),
    (Line::NoIkeProposal, Cow::Borrowed("no acceptable Oakley Transform")),
    (Line::NoEspProposal, Cow::Borrowed("no acceptable Proposal in IPsec SA")),
    (Line::EspRefused, Cow::Borrowed("received and ignored notification payload: NO_PROPOSAL_CHOSEN")),
    (Line::NoRekeyProposal, Cow::Borrowed("no acceptable Proposal in IPsec SA")),
    (Line::RekeyRefused, Cow::Borrowed("received and ignored notification payload: NO_PROPOSAL_CHOSEN")),
];
