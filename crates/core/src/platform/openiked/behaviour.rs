//! How it negotiates, and what it writes into its log.

use super::super::{Behaviour, Line, Narrowing, Preference};

pub(super) static MANNER: Behaviour = Behaviour {
    preference: Preference::Own,
    narrowing: Narrowing::Unasked,
    narrowing_v1: Narrowing::Unasked,
    answers_strangers: false,
    pfs_with_ike_group: false,
    further_by_first: false,
    any_group_v1: false,
    transport_between_hosts: false,
    heeds_asked_identity: true,
    asks_for_names_only: false,
    believes_certificates: false,
    named_by_certificate: false,
    is_whoever_is_asked_for: false,
    certificate_needs_name: true,
    last_child_first: false,
    insists_on_mode: false,
    silent_to_v1: false,
    first_values_v1: false,
    takes_any_v1: false,
    no_extended_v1: false,
    recognises_by_mode: true,
    refuses_whole: true,
    secret_by_one_end: false,
    says: SAYS,
    says_v1: SAYS_V1,
};

#[rustfmt::skip]
const SAYS: &[(Line, &str)] = &[
    (Line::RefusedAtOnce, "sa_free: no proposal chosen"),
    (Line::NoIkeProposal, "ikev2_sa_responder: no proposal chosen"),
    (Line::PeerUnknown, "ikev2_send_auth_failed: authentication failed for"),
    (Line::ProofWrong, "ikev2_send_auth_failed: authentication failed for"),
    (Line::NotBelieved, "sa_free: authentication failed notification from peer"),
    (Line::NoEspProposal, "ikev2_ike_auth_recv: no proposal chosen"),
    (Line::EspRefused, "sa_free: no proposal chosen"),
    (Line::PeerIsAnother, "ikev2_send_auth_failed: authentication failed for"),
    (Line::NoRekeyProposal, "ikev2_resp_create_child_sa: no proposal chosen"),
    (Line::RekeyRefused, "CREATE_CHILD_SA failed"),
];

const SAYS_V1: &[(Line, &str)] = &[];
