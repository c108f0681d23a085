//! How it negotiates, and what it writes into its log.

use super::super::{Behaviour, Line, Narrowing, Preference};

pub(super) static MANNER: Behaviour = Behaviour {
    preference: Preference::Own,
    narrowing: Narrowing::Never,
    narrowing_v1: Narrowing::Never,
    answers_strangers: true,
    pfs_with_ike_group: true,
    further_by_first: true,
    any_group_v1: true,
    transport_between_hosts: false,
    heeds_asked_identity: false,
    asks_for_names_only: true,
    believes_certificates: true,
    named_by_certificate: false,
    is_whoever_is_asked_for: false,
    certificate_needs_name: false,
    last_child_first: true,
    insists_on_mode: true,
    silent_to_v1: true,
    first_values_v1: false,
    takes_any_v1: true,
    no_extended_v1: true,
    recognises_by_mode: false,
    refuses_whole: false,
    secret_by_one_end: false,
    says: SAYS,
    says_v1: SAYS_V1,
};

#[rustfmt::skip]
const SAYS: &[(Line, &str)] = &[
    (Line::Unanswered, "retransmission; will wait 0.5 seconds for response"),
    (Line::NoConnection, "no suitable connection found with IKEv2 policy"),
    (Line::RefusedAtOnce, "dropping unexpected IKE_SA_INIT message containing NO_PROPOSAL_CHOSEN notification"),
    (Line::NoIkeProposal, "no local proposal matches remote proposals"),
    (Line::NotBelieved, "IKE SA authentication request rejected by peer: AUTHENTICATION_FAILED"),
    (Line::NoSecret, "authentication failed: no PSK found for"),
    (Line::NoSelectors, "No IKEv2 connection found with compatible Traffic Selectors"),
    (Line::NoEspProposal, "no local proposal matches remote proposals"),
    (Line::EspRefused, "rejected Child SA with NO_PROPOSAL_CHOSEN"),
    (Line::SelectorsRefused, "rejected Child SA with TS_UNACCEPTABLE"),
    (Line::PeerIsAnother, "mismatched on first found connection and no better connection found"),
    (Line::NoRekeyProposal, "no local proposal matches remote proposals"),
    (Line::RekeyRefused, "CREATE_CHILD_SA failed with error notification NO_PROPOSAL_CHOSEN"),
];

#[rustfmt::skip]
const SAYS_V1: &[(Line, &str)] = &[
    (Line::NoConnection, "ignoring IKEv1 packet as policy is set to silently drop all IKEv1 packets"),
    (Line::ProofWrong, "probable authentication failure (mismatch of preshared secrets?)"),
    (Line::NoSelectors, "cannot respond to IPsec SA request because no connection is known for"),
    (Line::SelectorsRefused, "retransmission; will wait 0.5 seconds for response"),
    (Line::RefusedAtOnce, "received and ignored notification payload: NO_PROPOSAL_CHOSEN"),
    (Line::NoIkeProposal, "no acceptable Oakley Transform"),
    (Line::NoEspProposal, "no acceptable Proposal in IPsec SA"),
    (Line::EspRefused, "received and ignored notification payload: NO_PROPOSAL_CHOSEN"),
    (Line::NoRekeyProposal, "no acceptable Proposal in IPsec SA"),
    (Line::RekeyRefused, "received and ignored notification payload: NO_PROPOSAL_CHOSEN"),
];
