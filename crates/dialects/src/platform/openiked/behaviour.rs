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
    narrowing: Observed::new(Narrowing::Unasked, "the lab: the flows in the kernel are those of its own policy, whatever the answer has"),
    strangers: Observed::new(ToStrangers::Silent, "the lab: no answer to a peer that no policy is for"),
    pfs_group: Observed::new(PfsGroup::Named, "rekeys watched in the lab with another group at each end"),
    answering: Observed::new(Answering::First, "iked.conf(5), `quick` and `default`: policies are looked through for the peer"),
    further_child: Observed::new(FurtherChild::ByItself, "a policy has one Child SA (iked.conf(5) of 7.2)"),
    with_ike_sa: Observed::new(WithIkeSa::First, "a policy has one Child SA (iked.conf(5) of 7.2)"),
    transport: Observed::new(TransportMode::Recognised, "the lab: a policy in tunnel mode does not take USE_TRANSPORT_MODE for its own"),
    asked_identity: Observed::new(AskedIdentity::Heeded, "the lab: no policy is found for another IDr than `srcid`"),
    unsaid_identity: Observed::new(UnsaidIdentity::AsRead, "iked.conf(5), `srcid`: the name of the machine"),
    shows: Observed::new(ShownCertificate::ThatNamesIt, "the lab: no valid local certificate found, using local public key"),
    by_certificate: Observed::new(ByCertificate::Named, "the lab: without `dstid` no certificate is taken"),
    subjects: Observed::new(SubjectOrder::Kept, "iked.conf(5), `srcid`: the name as openssl(1) prints it"),
    offer_v1: Observed::new(OfferV1::All, "it does not speak IKEv1"),
    unsaid_proposals_v1: Observed::new(UnsaidProposalsV1::OwnList, "it does not speak IKEv1"),
    long_numbers_v1: Observed::new(LongNumbersV1::AsSaid, "it does not speak IKEv1"),
    odd_key: Observed::new(OddKey::InUdp, "it has no CCM"),
    refusal: Observed::new(Refusal::Whole, "the lab: with the first Child SA the IKE SA is refused"),
    keeps_nat_mapping: Observed::new(&[IkeVersion::V2], "the lab: a keepalive every 20 s"),
    main_mode_secret: Observed::new(MainModeSecret::OfAddress, "it has no IKEv1"),
    secret_for: Observed::new(SecretFor::Both, "iked.conf(5): the secret stands in the policy"),
    says: Cow::Borrowed(SAYS),
    says_v1: Cow::Borrowed(SAYS_V1),
};

#[rustfmt::skip]
const SAYS: &[(Line, Cow<'static, str>)] = &[
    (Line::RefusedAtOnce, Cow::Borrowed("sa_free: no proposal chosen")),
    (Line::NoIkeProposal, Cow::Borrowed("ikev2_sa_responder: no proposal chosen")),
    (Line::PeerUnknown, Cow::Borrowed("ikev2_send_auth_failed: authentication failed for")),
    (Line::ProofWrong, Cow::Borrowed("ikev2_send_auth_failed: authentication failed for")),
    (Line::NotBelieved, Cow::Borrowed("sa_free: authentication failed notification from peer")),
    (Line::NoEspProposal, Cow::Borrowed("ikev2_ike_auth_recv: no proposal chosen")),
    (Line::EspRefused, Cow::Borrowed("sa_free: no proposal chosen")),
    (Line::PeerIsAnother, Cow::Borrowed("ikev2_send_auth_failed: authentication failed for")),
    (Line::NoRekeyProposal, Cow::Borrowed("ikev2_resp_create_child_sa: no proposal chosen")),
    (Line::RekeyRefused, Cow::Borrowed("CREATE_CHILD_SA failed")),
];

const SAYS_V1: &[(Line, Cow<'static, str>)] = &[];
