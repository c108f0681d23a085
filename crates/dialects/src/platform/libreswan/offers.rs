//! What it offers by itself, as its peers receive it. For PFS it takes the group of the IKE SA (ipsec.conf(5)).

use crate::profile::{DefaultProposal, DefaultProposals};
use uspan_model::algorithm::Transform;
use uspan_model::gateway::{IkeVersion, Proposal, Protocol};

const GROUPS: &[u16] = &[14, 15, 16, 18, 19, 20, 21, 31];
const PRFS: &[u16] = &[7, 5];

const IKE: &[DefaultProposal] = &[
    DefaultProposal::of(&[(20, 256)], &[], PRFS, GROUPS),
    DefaultProposal::of(&[(20, 128)], &[], PRFS, GROUPS),
    DefaultProposal::of(&[(12, 256)], &[14, 12], PRFS, GROUPS),
    DefaultProposal::of(&[(12, 128)], &[14, 12], PRFS, GROUPS),
];

const ESP: &[DefaultProposal] = &[
    DefaultProposal::of(&[(20, 256)], &[], &[], &[]),
    DefaultProposal::of(&[(20, 128)], &[], &[], &[]),
    DefaultProposal::of(&[(12, 256)], &[14, 12], &[], &[]),
    DefaultProposal::of(&[(12, 128)], &[14, 12], &[], &[]),
];

/// Each combination is a proposal of its own there.
const IKE_V1: &[DefaultProposal] = &[DefaultProposal::of(&[(12, 256), (12, 128), (3, 0)], &[12, 14, 2], &[5, 7, 2], &[14, 5])];

const ESP_V1: &[DefaultProposal] = &[DefaultProposal::of(&[(12, 128)], &[2], &[], &[]), DefaultProposal::of(&[(3, 0)], &[2], &[], &[])];

pub(super) const OFFERS: DefaultProposals = DefaultProposals::of(IKE, ESP, IKE_V1, ESP_V1);

/// What it offers for AH where nothing is said of that (`algparse` of 4.10), without sequence numbers.
pub(super) fn default_ah(version: IkeVersion) -> Vec<Proposal> {
    let hashes: &[u16] = if version == IkeVersion::V1 { &[2] } else { &[14, 12, 2] };
    hashes.iter().map(|hash| Proposal::new(Protocol::Ah, [Transform::integrity(*hash)])).collect()
}
