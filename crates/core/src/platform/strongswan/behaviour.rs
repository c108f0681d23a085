//! How it negotiates, and what it writes into its log.

use super::super::{Behaviour, Line, Narrowing, Preference};

pub(super) static MANNER: Behaviour = Behaviour {
    preference: Preference::Own,
    narrowing: Narrowing::ToTheCommonPart,
    narrowing_v1: Narrowing::ToTheCommonPart,
    answers_strangers: true,
    pfs_with_ike_group: false,
    further_by_first: false,
    any_group_v1: false,
    transport_between_hosts: true,
    heeds_asked_identity: true,
    asks_for_names_only: false,
    believes_certificates: false,
    named_by_certificate: true,
    is_whoever_is_asked_for: true,
    certificate_needs_name: false,
    last_child_first: false,
    insists_on_mode: false,
    silent_to_v1: false,
    first_values_v1: true,
    takes_any_v1: false,
    no_extended_v1: false,
    recognises_by_mode: false,
    refuses_whole: false,
    secret_by_one_end: true,
    says: SAYS,
    says_v1: SAYS_V1,
};

#[rustfmt::skip]
const SAYS: &[(Line, &str)] = &[
    (Line::Unanswered, "retransmit 1 of request with message ID 0"),
    (Line::NoConnection, "no IKE config found for"),
    (Line::RefusedAtOnce, "received NO_PROPOSAL_CHOSEN notify error"),
    (Line::NoIkeProposal, "received proposals unacceptable"),
    (Line::PeerUnknown, "no matching peer config found"),
    (Line::ProofWrong, "but MAC mismatched"),
    (Line::NotBelieved, "received AUTHENTICATION_FAILED notify error"),
    (Line::NoSecret, "no shared key found for"),
    (Line::PeerIsAnother, "constraint check failed: identity"),
    (Line::NoSelectors, "unacceptable"),
    (Line::RefusedWhole, "IDr payload missing"),
    (Line::ReplyUnfit, "no acceptable traffic selectors found"),
    (Line::NoRekeyProposal, "no acceptable proposal found"),
    (Line::RekeyRefused, "CHILD_SA rekeying failed, trying again in"),
    (Line::SelectorsRefused, "received TS_UNACCEPTABLE notify, no CHILD_SA built"),
    (Line::NoEspProposal, "no acceptable proposal found"),
    (Line::EspRefused, "received NO_PROPOSAL_CHOSEN notify, no CHILD_SA built"),
];

#[rustfmt::skip]
const SAYS_V1: &[(Line, &str)] = &[
    (Line::NoIkeProposal, "no proposal found"),
    (Line::NotBelieved, "received AUTHENTICATION_FAILED error notify"),
    (Line::Unanswered, "sending retransmit 1 of request message ID 0"),
    (Line::PeerIsAnother, "does not match to"),
    (Line::ProofWrong, "could not decrypt payloads"),
    (Line::NothingToAsk, "traffic selector missing in configuration"),
    (Line::NoSelectors, "no matching CHILD_SA config found"),
    (Line::SelectorsRefused, "received INVALID_ID_INFORMATION error notify"),
    (Line::NoEspProposal, "no matching proposal found, sending NO_PROPOSAL_CHOSEN"),
    (Line::EspRefused, "received NO_PROPOSAL_CHOSEN error notify"),
    (Line::NoRekeyProposal, "no matching proposal found, sending NO_PROPOSAL_CHOSEN"),
    (Line::RekeyRefused, "received NO_PROPOSAL_CHOSEN error notify"),
    (Line::RefusedAtOnce, "received NO_PROPOSAL_CHOSEN error notify"),
];
